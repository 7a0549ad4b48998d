package shell

import (
	"errors"
	"testing"

	"github.com/spf13/cobra"

	"uparrot/core/port"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

func TestExitStatus(t *testing.T) {
	for _, c := range []struct {
		err  error
		want int
	}{
		{NotPassed(verdict.Failed), ExitFailed},
		{NotPassed(verdict.Undecided), ExitUndecided},
		{NotPassed(verdict.Broken), exitBroken},
		{NotPassed(verdict.Untested), ExitUndecided},
		{Usage(&cobra.Command{}, "no"), ExitUsage},
		{source.Mistakes{{File: "f"}}, ExitUsage},
		{&port.Error{Kind: port.Held}, exitBroken},
		{&session.Unable{What: "gone"}, exitBroken},
		{errors.Join(ErrInterrupted, errors.New("and more")), exitInterrupted},
		{errors.New("anything else"), exitBroken},
	} {
		if got := ExitStatus(c.err); got != c.want {
			t.Errorf("%v ends with %d, want %d", c.err, got, c.want)
		}
	}
	for _, v := range []verdict.Verdict{verdict.Passed, verdict.Skipped, ""} {
		if err := NotPassed(v); err != nil {
			t.Errorf("%q is an error: %v", v, err)
		}
	}
}
