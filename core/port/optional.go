package port

import (
	"time"

	"uparrot/core/uart"
)

// What only some kinds of port can do stands in interfaces of its own. The
// functions below ask for them, through ports that wrap another, and return an
// [Error] of kind Unsupported where there is none.

// Wrapper is a port that is another one with something added.
type Wrapper interface{ Unwrap() Port }

// as finds what a port can do beyond [Port], in itself or in the port that it
// wraps.
func as[T any](p Port) (T, bool) {
	for {
		if t, ok := p.(T); ok {
			return t, true
		}
		w, ok := p.(Wrapper)
		if !ok {
			var none T
			return none, false
		}
		p = w.Unwrap()
	}
}

// Signaller is a port with signal lines, flow control and break.
type Signaller interface {
	// Signal sets an outgoing signal line.
	Signal(line uart.Signal, on bool) error
	// Inputs are the incoming signal lines.
	Inputs() (Inputs, error)
	// SetFlow changes flow control.
	SetFlow(uart.Flow) error
	// Break holds the line at space for d.
	Break(d time.Duration) error
}

// Counting is a port whose receiver counts the errors that it meets.
type Counting interface {
	// Counters are the errors since the port was opened.
	Counters() (Counters, error)
}

// Datagrams is a port of which each Read may bring one message of its own.
type Datagrams interface{ Datagrams() bool }

// Holding is a port whose adapter gathers bytes before it hands them on.
type Holding interface {
	// HoldBack is for how long at most; false where that is not known.
	HoldBack() (time.Duration, bool)
}

// Sparing is a port that works although its other side does not do all that it might.
type Sparing interface {
	// Lacks says in words what that is; nil if nothing is known to be missing.
	Lacks() []string
}

// LacksOf is what the other side of a port does not do, in words.
func LacksOf(p Port) []string {
	if s, ok := as[Sparing](p); ok {
		return s.Lacks()
	}
	return nil
}

// Caller is somebody who has come to a port that listens.
type Caller struct {
	Address string // HOST:PORT
	Refused bool   // may not speak there, so that nothing of it was heard
	Last    bool   // of more such nobody is told
}

// Listening is a port that speaks with whoever comes there.
type Listening interface {
	// OnCaller has f told of each change of whom the port speaks with, before anything
	// of it is heard, and of each host that was refused, once. It must be called before
	// the port is read.
	OnCaller(f func(Caller))
}

// OnCaller has f told who comes to a port; it does nothing where nobody can.
func OnCaller(p Port, f func(Caller)) {
	if l, ok := as[Listening](p); ok {
		l.OnCaller(f)
	}
}

// lacking says in its own words why a port cannot do something.
type lacking interface{ lacks(op string) error }

// unsupported is that a port cannot do something, for want of what it has none of.
func unsupported(p Port, op, of string) error {
	if l, ok := as[lacking](p); ok {
		return l.lacks(op)
	}
	return &Error{Port: p.Name(), Op: op, Kind: Unsupported, Why: "this port has no " + of}
}

// SetSignal sets an outgoing signal line of a port.
func SetSignal(p Port, line uart.Signal, on bool) error {
	if s, ok := as[Signaller](p); ok {
		return s.Signal(line, on)
	}
	return unsupported(p, "set "+line.String(), "signal lines")
}

// InputsOf are the incoming signal lines of a port.
func InputsOf(p Port) (Inputs, error) {
	if s, ok := as[Signaller](p); ok {
		return s.Inputs()
	}
	return Inputs{}, unsupported(p, "read the signal lines", "signal lines")
}

// SetFlow changes the flow control of a port.
func SetFlow(p Port, f uart.Flow) error {
	if s, ok := as[Signaller](p); ok {
		return s.SetFlow(f)
	}
	return unsupported(p, "set flow control", "flow control")
}

// Break holds a port's line at space for d.
func Break(p Port, d time.Duration) error {
	if s, ok := as[Signaller](p); ok {
		return s.Break(d)
	}
	return unsupported(p, "send a break", "break")
}

// CountersOf are the errors that a port's receiver has met since it was opened.
func CountersOf(p Port) (Counters, error) {
	if c, ok := as[Counting](p); ok {
		return c.Counters()
	}
	return Counters{}, unsupported(p, "read the error counters", "error counters")
}

// HoldBack is how long a port's adapter may gather bytes before it hands them on;
// false where that is not known.
func HoldBack(p Port) (time.Duration, bool) {
	if h, ok := as[Holding](p); ok {
		return h.HoldBack()
	}
	return 0, false
}
