// Package port opens what a module hangs on and gives it one face: bytes in
// and out, line settings, signal lines, break.
//
// A serial port is opened for this program alone and put back as it was found
// when it is closed. Errors name the port, what was tried and what to do; see
// [Error].
package port

import (
	"context"
	"errors"
	"fmt"
	"io"

	"uparrot/core/uart"
)

// Port is one way to reach a module: what every kind can do. What only some can do
// stands in interfaces beside it, such as [Signaller]. Read blocks until bytes have come and
// ends with an [Error] of kind Closed or Vanished; it may run beside the other
// methods, which may not run beside each other.
type Port interface {
	io.ReadCloser

	// Write writes all of b. A line that the module holds back makes it wait,
	// until ctx is done at the longest.
	Write(ctx context.Context, b []byte) (int, error)

	// Name is the address the port was opened by.
	Name() string

	// Line is the speed and frame in force.
	Line() uart.Line

	// SetLine changes speed and frame. Speeds need not be standard ones; a
	// port that cannot do the setting says so and keeps the old one.
	SetLine(uart.Line) error

	// Purge throws away what has come and was not read, and what was written and
	// has not left.
	Purge() error

	// Drain waits until all that was written has left.
	Drain() error
}

// Counters are errors that a receiver has met.
type Counters struct {
	Frame   int `json:"frame"`   // characters without a stop bit
	Parity  int `json:"parity"`  // ... whose parity did not fit
	Overrun int `json:"overrun"` // ... lost because nobody took them in time
}

// Any reports whether there were errors at all.
func (c Counters) Any() bool { return c != Counters{} }

func (c Counters) String() string {
	return fmt.Sprintf("%d frame, %d parity and %d overrun errors", c.Frame, c.Parity, c.Overrun)
}

// Inputs are the states of the incoming signal lines.
type Inputs struct {
	CTS bool `json:"cts"` // clear to send
	DSR bool `json:"dsr"` // data set ready
	DCD bool `json:"dcd"` // data carrier detect
	RI  bool `json:"ri"`  // ring indicator
}

// Kind says why a port could not do what was asked.
type Kind int

// The kinds of failure.
const (
	Other       Kind = iota
	Missing          // no such port
	Permission       // the user may not open it
	Held             // another program has it
	NotSerial        // it is there, but is no serial port
	Vanished         // it went away while in use
	Closed           // this program closed it
	Unsupported      // the port has no such setting or signal
	Unconfirmed      // the other side did not say that it has done it
)

// Error is what every method of a Port returns when it fails.
type Error struct {
	Port string // address
	Op   string // what was tried, such as "open" or "set speed"
	Kind Kind
	Why  string // what happened, in words; used instead of Err where given
	Mend string // what to do; may be empty
	Err  error  // the cause; may be nil
}

func (e *Error) Error() string {
	why := e.Why
	if why == "" && e.Err != nil {
		why = e.Err.Error()
	}
	s := fmt.Sprintf("port %s: %s: %s", e.Port, e.Op, why)
	if e.Mend != "" {
		s += ". " + e.Mend
	}
	return s
}

func (e *Error) Unwrap() error { return e.Err }

// KindOf is the kind of the first Error in err's chain, else Other.
func KindOf(err error) Kind {
	if e, ok := errors.AsType[*Error](err); ok {
		return e.Kind
	}
	return Other
}
