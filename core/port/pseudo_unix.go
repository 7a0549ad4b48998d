//go:build unix

package port

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"uparrot/core/uart"
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

func (p *Pseudo) Read(b []byte) (int, error) { return p.near.Read(b) }

// lostAfter is how long bytes wait for a host to take them. A UART would not
// wait at all; a host that is only busy is given some time.
const lostAfter = 100 * time.Millisecond

// Write writes b. Bytes that no host takes are lost, as they are on a wire.
func (p *Pseudo) Write(b []byte) (int, error) {
	if err := p.near.SetWriteDeadline(time.Now().Add(lostAfter)); err != nil {
		return 0, err
	}
	n, err := p.near.Write(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return len(b), nil
	}
	return n, err
}

// HostLine is the speed and frame that the host has set, false if no host has
// set any. Where the host does not say its frame (see noteFrame), it is 8N1.
func (p *Pseudo) HostLine() (uart.Line, bool) {
	var t *unix.Termios
	conn, err := p.far.SyscallConn()
	if err == nil {
		cerr := conn.Control(func(fd uintptr) { t, err = unix.IoctlGetTermios(int(fd), getTermios) })
		err = errors.Join(err, cerr)
	}
	if err != nil {
		return uart.Line{}, false
	}
	l := uart.Line{Speed: int(t.Ospeed)}
	if t.Cc[unix.VREPRINT] == frameNoted {
		l.Frame = uart.Frame{DataBits: int(t.Cc[unix.VDISCARD]), Parity: uart.Parity(t.Cc[unix.VWERASE]), Stop: int(t.Cc[unix.VLNEXT])}
	}
	return l, t.Cc[unix.VREPRINT] == frameNoted
}

// frameNoted marks that the frame stands in the control characters.
const frameNoted = 0xf8

// noteFrame leaves the frame where the module's side of a pseudo-terminal can
// read it. Pseudo-terminals keep the speed but forget data bits and parity; the
// control characters for line editing, though, are kept, and without line
// editing nobody uses them. On real ports they do nothing.
func (g *guard) noteFrame(f uart.Frame) error {
	t, err := unix.IoctlGetTermios(g.fd, getTermios)
	if err != nil {
		return err
	}
	if t.Lflag&unix.ICANON != 0 {
		return nil
	}
	f = f.Filled()
	t.Cc[unix.VREPRINT], t.Cc[unix.VDISCARD], t.Cc[unix.VWERASE], t.Cc[unix.VLNEXT] = frameNoted, byte(f.DataBits), byte(f.Parity), byte(f.Stop)
	return unix.IoctlSetTermios(g.fd, setTermios, t)
}

// Close takes the port away; a host that has it open sees it vanish.
func (p *Pseudo) Close() error {
	err := p.near.Close()
	if e := p.far.Close(); err == nil {
		err = e
	}
	return err
}
