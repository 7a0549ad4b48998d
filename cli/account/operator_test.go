package account

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"uparrot/cli/shell"
	"uparrot/core/perform"
	"uparrot/core/verdict"
)

// The operator is asked until the answer fits; when nobody types any more the
// step is untested, and Ctrl-C ends the asking.
func TestPerson(t *testing.T) {
	var out bytes.Buffer
	whole := func(s string) error {
		if strings.Trim(s, "0123456789") != "" {
			return fmt.Errorf("%q is no whole number", s)
		}
		return nil
	}
	p := &Person{App: &shell.Streams{In: strings.NewReader("perhaps\n YES \nno\nmany\n12\n"), Err: shell.NewScreen(&out)}}
	if yes, err := p.Confirm(t.Context(), "Is it lit?"); !yes || err != nil {
		t.Error(yes, err)
	}
	if yes, err := p.Confirm(t.Context(), "Is it loud?"); yes || err != nil {
		t.Error(yes, err)
	}
	if v, err := p.Value(t.Context(), "How many?", whole); v != "12" || err != nil {
		t.Error(v, err)
	}
	_, err := p.Confirm(t.Context(), "Still there?")
	if left, ok := errors.AsType[*perform.Left](err); !ok || left.Verdict != verdict.Untested || !strings.Contains(left.Why, "nobody answered: Still there?") {
		t.Error(err)
	}
	if err := p.Tell(t.Context(), "Pull \x1b[2J the lever."); err != nil {
		t.Error(err)
	}
	for _, want := range []string{"Is it lit? [yes/no]", "type yes or no", `"many" is no whole number`, `Pull \x1b[2J the lever.`} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("missing %q in %q", want, out.String())
		}
	}
	quiet, writer := io.Pipe()
	defer writer.Close()
	ctx, stop := context.WithCancelCause(t.Context())
	stop(shell.ErrInterrupted)
	if _, err := (&Person{App: &shell.Streams{In: quiet, Err: shell.NewScreen(&out)}}).Confirm(ctx, "x"); !errors.Is(err, shell.ErrInterrupted) {
		t.Error(err)
	}
}
