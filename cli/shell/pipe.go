package shell

import (
	"bytes"
	"io"
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/term"

	"uparrot/core/syserr"
)

// outlet is a file that is written to for a person or another program.
//
// It takes no harm when the other side of a pipe stops reading, as head does: from then on what is written goes
// nowhere, and what is being done to a module goes on. Nor does it hold up the end where the other side does not
// read, as a terminal that was stopped: once the program is to end, what cannot be written soon goes nowhere.
type outlet struct {
	*os.File
	over     <-chan struct{} // closed when the program is to end
	terminal bool
	gone     bool        // nobody reads any more
	err      error       // the first that writing met while somebody was there
	gaveUp   atomic.Bool // something was not written, since the program was to end
}

// soonWritten is how long is waited for the other side once the program is to end.
const soonWritten = 500 * time.Millisecond

// Lasting is a writer that neither harms nor holds up what is done, where it is a file; over is closed when the
// program is to end.
func Lasting(w io.Writer, over <-chan struct{}) io.Writer {
	if f, ok := w.(*os.File); ok {
		return &outlet{File: f, over: over, terminal: term.IsTerminal(int(f.Fd()))}
	}
	return w
}

// fileOf is the file behind what is written to, or read from.
func fileOf(w any) (*os.File, bool) {
	if o, is := w.(*outlet); is {
		return o.File, true
	}
	f, is := w.(*os.File)
	return f, is
}

// Write writes to the other side while there is one.
func (o *outlet) Write(b []byte) (int, error) {
	switch {
	case o.gone || o.gaveUp.Load():
		return len(b), nil
	case o.err != nil: // what follows would stand behind a gap
		return 0, o.err
	}
	n, err := o.write(b)
	switch {
	case o.terminal:
	case syserr.Is(err, syserr.NoReader):
		o.gone = true
		return len(b), nil
	default:
		o.err = err
	}
	return n, err
}

// WriteString writes as Write does; that of the file would not.
func (o *outlet) WriteString(s string) (int, error) { return o.Write([]byte(s)) }

// ReadFrom writes what is read, as Write does.
func (o *outlet) ReadFrom(r io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{o}, r)
}

// write waits for the other side, but not beyond the end.
func (o *outlet) write(b []byte) (int, error) {
	type result struct {
		n   int
		err error
	}
	done := make(chan result, 1)
	own := bytes.Clone(b) // it may be waited for no longer than by its owner
	go func() {
		n, err := o.File.Write(own)
		done <- result{n, err}
	}()
	select {
	case r := <-done:
		return r.n, r.err
	case <-o.over:
	}
	select {
	case r := <-done:
		return r.n, r.err
	case <-time.After(soonWritten):
		o.gaveUp.Store(true)
		return len(b), nil
	}
}

// Lost is why something could not be written that somebody was to read; nil if all was, or nobody reads.
func Lost(w io.Writer) error {
	if o, ok := w.(*outlet); ok && !o.terminal {
		return o.err
	}
	return nil
}

// GaveUp reports whether something was not written since the program was to end.
func GaveUp(w io.Writer) bool {
	o, ok := w.(*outlet)
	return ok && o.gaveUp.Load()
}
