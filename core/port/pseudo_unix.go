//go:build unix

package port

import (
	"fmt"
	"os"

	"github.com/creack/pty"
	"golang.org/x/term"
)

// Pseudo is the module's side of a pseudo-terminal: what is written to it is
// read by whoever opens Path as a serial port. Read ends with os.ErrClosed
// after Close.
type Pseudo struct {
	near *os.File
	far  *os.File // held open, so that a host may come and go
}

// OpenPseudo makes a pseudo-terminal that passes bytes as they are.
func OpenPseudo() (*Pseudo, error) {
	near, far, err := pty.Open()
	if err != nil {
		return nil, fmt.Errorf("make a pseudo-terminal: %w", err)
	}
	if _, err := term.MakeRaw(int(far.Fd())); err != nil {
		near.Close()
		far.Close()
		return nil, fmt.Errorf("make the pseudo-terminal %s pass bytes as they are: %w", far.Name(), err)
	}
	return &Pseudo{near: near, far: far}, nil
}

// Path is where the host opens the port.
func (p *Pseudo) Path() string { return p.far.Name() }

func (p *Pseudo) Read(b []byte) (int, error)  { return p.near.Read(b) }
func (p *Pseudo) Write(b []byte) (int, error) { return p.near.Write(b) }

// Close takes the port away; a host that has it open sees it vanish.
func (p *Pseudo) Close() error {
	err := p.near.Close()
	if e := p.far.Close(); err == nil {
		err = e
	}
	return err
}
