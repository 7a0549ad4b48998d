package sim

import (
	"bytes"
	"context"
	"io"
	"sync"
	"time"

	"uparrot/core/pace"
	"uparrot/core/port/rfc2217"
	"uparrot/core/uart"
)

// wire is a module's serial line. Bytes take their time on it both ways: a byte
// is there when its stop bit has passed. Where the host has set another speed or
// frame, each side hears what a UART so set makes of the other's bits.
type wire struct {
	unit  *Unit
	conn  io.ReadWriter // nil until attached
	clock *clock

	mu      sync.Mutex
	line    uart.Line
	wiring  Wiring
	dtr     bool // what the host's signal lines say
	rts     bool
	out     []outgoing
	outFree time.Time // when the line towards the host is free again
	waiting int       // bytes in out
	more    chan struct{}
}

type outgoing struct {
	start time.Time
	b     []byte
	line  uart.Line // with which it is sent
	own   bool      // the host's own bytes, coming back
}

func newWire(u *Unit, c *clock) *wire {
	return &wire{unit: u, line: u.Standin.Line, clock: c, more: make(chan struct{}, 1)}
}

// Wiring is how a module is joined to the host.
type Wiring int

// The ways in which a module can be joined.
const (
	Crossed  Wiring = iota // as it should be: TX to RX, both ways
	Straight               // TX to TX: neither hears the other
	Open                   // no wire at all
	Looped                 // the host's own TX and RX joined, the module left out
	Level                  // crossed, but at another logic level: both hear noise
)

// Wirings are the names of the ways, by name.
var Wirings = map[string]Wiring{"crossed": Crossed, "straight": Straight, "open": Open, "looped": Looped, "level": Level}

func (w *wire) setWiring(to Wiring) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.wiring = to
}

func (w *wire) joined() Wiring {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.wiring
}

// attach joins the wire to a connection. Nothing that was on its way to an
// earlier one is kept.
func (w *wire) attach(conn io.ReadWriter) {
	w.mu.Lock()
	w.conn, w.out, w.dtr, w.rts = conn, nil, true, true
	w.mu.Unlock()
	switch s := conn.(type) {
	case *rfc2217.Session:
		s.Signals = w.signals
	case Signalling:
		s.OnSignals(w.signals)
	}
}

// Signalling is a connection that tells of the host's outgoing signal lines.
type Signalling interface {
	OnSignals(f func(dtr, rts, brk bool))
}

// signals takes in the host's outgoing signal lines.
func (w *wire) signals(dtr, rts, _ bool) {
	w.mu.Lock()
	w.dtr, w.rts = dtr, rts
	w.mu.Unlock()
	w.clock.plan(time.Now(), func(at time.Time) {
		w.showSignals(w.unit.on)
		if s, ok := w.unit.Behaviour.(Signalled); ok {
			s.Signals(at, dtr, rts)
		}
	})
}

// showSignals sets the host's incoming signal lines: a module with power raises
// CTS, DSR and DCD; joined RTS to CTS and DTR to DSR they follow the host's own.
func (w *wire) showSignals(power bool) {
	w.mu.Lock()
	s, ok := w.conn.(*rfc2217.Session)
	var state byte
	switch {
	case w.wiring == Looped:
		if w.rts {
			state |= rfc2217.CTS
		}
		if w.dtr {
			state |= rfc2217.DSR
		}
	case w.wiring != Open && power:
		state = rfc2217.CTS | rfc2217.DSR | rfc2217.DCD
	}
	w.mu.Unlock()
	if ok {
		_ = s.SetInputs(state) // a connection that has ended shows at the next read
	}
}

// noisy is what comes through where the logic levels do not fit: a byte now and
// then, and none of them right.
func noisy(b []byte) []byte {
	var out []byte
	for i, c := range b {
		if i%3 == 0 {
			out = append(out, c<<1|0x81)
		}
	}
	return out
}

// listen takes in what the host writes until the connection ends.
func (w *wire) listen() error {
	conn := w.connection()
	buf := make([]byte, 4096)
	var free time.Time // when the line from the host is free again
	for {
		n, err := conn.Read(buf)
		now := time.Now()
		if free.Before(now) {
			free = now
		}
		host, same := w.hostLine()
		switch joined := w.joined(); {
		case n == 0 || joined == Straight || joined == Open:
		case joined == Looped:
			free = free.Add(host.Time(n))
			w.echo(free.Add(-host.Time(n)), host, append([]byte(nil), buf[:n]...))
		case joined == Level:
			free = free.Add(host.Time(n))
			garbled := noisy(buf[:n])
			w.clock.plan(free, func(at time.Time) { w.hear(at, garbled) })
		case same:
			for rest := buf[:n]; len(rest) > 0; {
				// A command is there when its end is: so cut at line ends.
				cut := bytes.IndexAny(rest, "\r\n") + 1
				if cut == 0 {
					cut = len(rest)
				}
				piece := append([]byte(nil), rest[:cut]...)
				rest = rest[cut:]
				free = free.Add(host.Time(cut))
				w.clock.plan(free, func(at time.Time) { w.hear(at, piece) })
			}
		default:
			garbled, _ := uart.Hear(host, w.Line(), buf[:n])
			free = free.Add(host.Time(n))
			w.clock.plan(free, func(at time.Time) { w.hear(at, garbled) })
		}
		if err != nil {
			return err
		}
	}
}

// hear hands bytes to the module, if it has power.
func (w *wire) hear(at time.Time, b []byte) {
	if w.unit.on {
		w.unit.Heard(at, b)
	}
}

// echo sends the host's own bytes back, at its own speed.
func (w *wire) echo(at time.Time, host uart.Line, b []byte) { w.queue(at, b, host, true) }

// Line is the module's own speed and frame.
func (w *wire) Line() uart.Line {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.line
}

// setLine changes the module's own speed and frame.
func (w *wire) setLine(l uart.Line) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.line = l
}

// connection is what the wire is joined to.
func (w *wire) connection() io.ReadWriter {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.conn
}

// hostLine is what the host has set, and whether that is what the module has. A
// connection that cannot tell is taken to be set right.
func (w *wire) hostLine() (host uart.Line, same bool) {
	own := w.Line()
	if c, ok := w.connection().(interface{ HostLine() (uart.Line, bool) }); ok {
		if l, known := c.HostLine(); known {
			return l, l.Speed == own.Speed && l.Frame.Filled() == own.Frame.Filled()
		}
	}
	return own, true
}

// send puts bytes on the line towards the host, from a time on or when the line
// is free.
func (w *wire) send(at time.Time, b []byte) { w.queue(at, b, w.Line(), false) }

// mostWaiting is how many bytes wait for a host at most.
const mostWaiting = 1 << 20

func (w *wire) queue(at time.Time, b []byte, l uart.Line, own bool) {
	if len(b) == 0 {
		return
	}
	w.mu.Lock()
	if w.waiting += len(b); w.waiting > mostWaiting { // nobody reads: what is more is lost
		w.waiting -= len(b)
		w.mu.Unlock()
		return
	}
	if at.Before(w.outFree) {
		at = w.outFree
	}
	w.outFree = at.Add(l.Time(len(b)))
	w.out = append(w.out, outgoing{at, b, l, own})
	w.mu.Unlock()
	select {
	case w.more <- struct{}{}:
	default:
	}
}

// talk writes what send has queued, each byte when its time has come, until ctx
// is done or the connection ends.
func (w *wire) talk(ctx context.Context) error {
	for {
		w.mu.Lock()
		var o outgoing
		if len(w.out) > 0 {
			o, w.out = w.out[0], w.out[1:]
			w.waiting -= len(o.b)
		}
		w.mu.Unlock()
		if o.b == nil {
			select {
			case <-w.more:
				continue
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		if err := w.write(ctx, o); err != nil {
			return err
		}
	}
}

// write writes one stretch of bytes, each when its time has come.
func (w *wire) write(ctx context.Context, o outgoing) error {
	heard := o.b
	joined := w.joined()
	if !o.own && (joined == Straight || joined == Open || joined == Looped) {
		return nil
	}
	if joined == Level {
		heard = noisy(o.b)
	} else if host, _ := w.hostLine(); host.Speed != o.line.Speed || host.Frame.Filled() != o.line.Frame.Filled() {
		heard, _ = uart.HearChecking(o.line, host, o.b)
	}
	for sent, written := 0, 0; sent < len(o.b); {
		// Some bytes at a time is near enough, but line ends must be exact: what
		// a host times is when a line is over.
		next := min(len(o.b), max(sent+1, o.line.Chars(time.Since(o.start)+time.Millisecond)))
		if i := bytes.IndexAny(o.b[sent:next], "\r\n"); i >= 0 {
			next = sent + i + 1
		}
		if !pace.Until(ctx, o.start.Add(o.line.Time(next)), w.clock.sleep, nil) {
			return context.Cause(ctx)
		}
		upTo := len(heard) * next / len(o.b)
		if _, err := w.connection().Write(heard[written:upTo]); err != nil {
			return err
		}
		sent, written = next, upTo
	}
	return nil
}
