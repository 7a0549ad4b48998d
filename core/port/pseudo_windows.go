package port

import (
	"errors"
	"fmt"

	"uparrot/core/uart"
)

// Pseudo is not to be had on Windows, which has no pseudo-terminals that serve
// as serial ports.
type Pseudo struct{}

// OpenPseudo always fails here, with errors.ErrUnsupported.
func OpenPseudo() (*Pseudo, error) {
	return nil, fmt.Errorf("make a pseudo-terminal: Windows has none that serve as serial ports: %w", errors.ErrUnsupported)
}

func (p *Pseudo) Path() string                { return "" }
func (p *Pseudo) Read(b []byte) (int, error)  { return 0, errors.ErrUnsupported }
func (p *Pseudo) Write(b []byte) (int, error) { return 0, errors.ErrUnsupported }
func (p *Pseudo) Close() error                { return nil }

// HostLine is not to be had here.
func (p *Pseudo) HostLine() (uart.Line, bool) { return uart.Line{}, false }

func (g *guard) noteFrame(uart.Frame) error { return nil }
