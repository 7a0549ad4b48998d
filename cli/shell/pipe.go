package shell

import (
	"io"
	"os"

	"golang.org/x/term"

	"uparrot/core/syserr"
)

// Lasting is a writer that takes no harm when the other side of a pipe stops
// reading, as head does: from then on what is written goes nowhere, and what is being
// done to a module goes on.
func Lasting(w io.Writer) io.Writer {
	if f, ok := w.(*os.File); ok && !term.IsTerminal(int(f.Fd())) {
		return &pipe{to: f}
	}
	return w
}

type pipe struct {
	to     io.Writer
	closed bool
	err    error // the first that writing met while somebody was there
}

// Write writes to the other side while there is one.
func (p *pipe) Write(b []byte) (int, error) {
	if p.closed {
		return len(b), nil
	}
	if p.err != nil { // what follows would stand behind a gap
		return 0, p.err
	}
	n, err := p.to.Write(b)
	if syserr.Is(err, syserr.NoReader) {
		p.closed = true
		return len(b), nil
	}
	p.err = err
	return n, err
}

// Lost is why something could not be written that somebody was to read; nil if all was.
func Lost(w io.Writer) error {
	if p, ok := w.(*pipe); ok {
		return p.err
	}
	return nil
}
