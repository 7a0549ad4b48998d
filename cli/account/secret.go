package account

import (
	"context"
	"errors"
	"fmt"
	"os"

	"golang.org/x/term"

	"uparrot/cli/shell"
	"uparrot/core/procedure"
)

// AskSecret asks for a secret at a terminal, without echo.
func AskSecret(sh *shell.Streams, ctx context.Context, in *os.File, s *procedure.Secret) (string, error) {
	what := s.Name
	if s.About != "" {
		what += " (" + s.About + ")"
	}
	fmt.Fprintf(sh.Err.W, "%s, not shown: ", shell.Safe(what))
	text, err := readHidden(ctx, in)
	fmt.Fprintln(sh.Err.W)
	if err != nil {
		return "", fmt.Errorf("read the secret %s: %w", s.Name, err)
	}
	return string(text), nil
}

// readHidden reads a line that is not shown. If ctx is done first the terminal is left
// as it was found.
func readHidden(ctx context.Context, in *os.File) ([]byte, error) {
	before, err := term.GetState(int(in.Fd()))
	if err != nil {
		return nil, err
	}
	hides := before // while it is read
	var hidden shell.TerminalState
	hidden.Set(func() (err error) {
		if hides, err = term.GetState(int(in.Fd())); err != nil {
			return err
		}
		return term.Restore(int(in.Fd()), before)
	}, func() error { return term.Restore(int(in.Fd()), hides) })
	defer hidden.RestoreOnStop()()
	type line struct {
		text []byte
		err  error
	}
	read := make(chan line, 1)
	go func() {
		text, err := term.ReadPassword(int(in.Fd()))
		read <- line{text, err}
	}()
	select {
	case l := <-read:
		return l.text, l.err
	case <-ctx.Done(): // the read goes on until the program ends
		return nil, errors.Join(context.Cause(ctx), term.Restore(int(in.Fd()), before))
	}
}
