package shell

import (
	"errors"
	"testing"

	"uparrot/core/session"
	"uparrot/core/verdict"
)

func TestFromHome(t *testing.T) {
	t.Setenv("HOME", "/home/rigger")
	for path, want := range map[string]string{"/home/rigger/a/b": "~/a/b", "/home/riggers/a": "/home/riggers/a", "a": "a", "/": "/"} {
		if got := FromHome(path); got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}

// A verdict goes before lost evidence, and other errors before both.
func TestWithVerdict(t *testing.T) {
	broken := &session.Unable{What: "the port has gone"}
	for _, c := range []struct {
		v    verdict.Verdict
		err  error
		want int
	}{
		{verdict.Passed, nil, ExitPassed}, {verdict.Passed, session.ErrEvidence, ExitEvidence}, {verdict.Failed, session.ErrEvidence, ExitFailed}, {verdict.Measured, session.ErrEvidence, ExitEvidence}, {verdict.Measured, nil, ExitPassed},
		{verdict.Failed, nil, ExitFailed}, {verdict.Broken, broken, exitBroken}, {verdict.Failed, errors.Join(ErrInterrupted), exitInterrupted},
	} {
		got := ExitPassed
		if err := WithVerdict(c.v, c.err); err != nil {
			got = ExitStatus(err)
		}
		if got != c.want {
			t.Errorf("%s with %v ends with %d, want %d", c.v, c.err, got, c.want)
		}
	}
}
