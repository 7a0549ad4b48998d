package perform

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/verdict"
)

// busyPerson answers other questions for a while before this one is shown, and then thinks for a while.
type busyPerson struct {
	Agreeable
	before, thinks time.Duration
}

func (b busyPerson) Confirm(ctx context.Context, _ string) (bool, error) {
	time.Sleep(b.before)
	Shown(ctx)
	time.Sleep(b.thinks)
	return true, nil
}

// What comes once a question is shown is newer than it, also before the answer; what came while the person
// had other questions is not.
func TestShown(t *testing.T) {
	for _, c := range []struct {
		comes time.Duration
		want  verdict.Verdict
	}{{time.Second, verdict.Failed}, {3 * time.Second, verdict.Passed}, {5 * time.Second, verdict.Passed}} {
		synctest.Test(t, func(t *testing.T) {
			run, modules := staged(t, "procedure \"S\"\nport dev: dialect lines, ending cr\nstep \"s\"\n ask operator \"Is the lever up?\"\n hear dev: lever up\nend\n", "")
			run.Operator = busyPerson{before: 2 * time.Second, thinks: 2 * time.Second}
			time.AfterFunc(c.comes, func() { fmt.Fprint(modules[0], "lever up\r\n") })
			if res := run.Do(t.Context()); res.Verdict != c.want {
				t.Errorf("after %v: %s %s", c.comes, res.Verdict, res.Steps[0].Why)
			}
			modules[0].Close()
			time.Sleep(time.Minute)
		})
	}
}
