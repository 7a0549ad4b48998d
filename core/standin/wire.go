package standin

import (
	"bytes"
	"context"
	"io"
	"sync"
	"time"

	"uparrot/core/pace"
	"uparrot/core/uart"
)

// wire is a module's serial line. Bytes take their time on it both ways: a byte
// is there when its stop bit has passed.
type wire struct {
	line  uart.Line
	conn  io.ReadWriter
	clock *clock
	heard func(at time.Time, b []byte) // called in the clock

	mu      sync.Mutex
	out     []outgoing
	outFree time.Time // when the line towards the host is free again
	more    chan struct{}
}

type outgoing struct {
	start time.Time
	b     []byte
}

func newWire(line uart.Line, conn io.ReadWriter, c *clock, heard func(time.Time, []byte)) *wire {
	return &wire{line: line, conn: conn, clock: c, heard: heard, more: make(chan struct{}, 1)}
}

// listen takes in what the host writes until the connection ends.
func (w *wire) listen() error {
	buf := make([]byte, 4096)
	var free time.Time // when the line from the host is free again
	for {
		n, err := w.conn.Read(buf)
		now := time.Now()
		if free.Before(now) {
			free = now
		}
		for rest := buf[:n]; len(rest) > 0; {
			// A command is there when its end is: so cut at line ends.
			cut := bytes.IndexAny(rest, "\r\n") + 1
			if cut == 0 {
				cut = len(rest)
			}
			piece := append([]byte(nil), rest[:cut]...)
			rest = rest[cut:]
			free = free.Add(w.line.Time(cut))
			w.clock.plan(free, func(at time.Time) { w.heard(at, piece) })
		}
		if err != nil {
			return err
		}
	}
}

// send puts bytes on the line towards the host, from a time on or when the line
// is free.
func (w *wire) send(at time.Time, b []byte) {
	w.mu.Lock()
	if at.Before(w.outFree) {
		at = w.outFree
	}
	w.outFree = at.Add(w.line.Time(len(b)))
	w.out = append(w.out, outgoing{at, b})
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
		for sent := 0; sent < len(o.b); {
			// Some bytes at a time is near enough, but the last must be exact.
			next := min(len(o.b), max(sent+1, w.line.Chars(time.Since(o.start)+time.Millisecond)))
			if !pace.Until(ctx, o.start.Add(w.line.Time(next)), w.clock.nap, nil) {
				return context.Cause(ctx)
			}
			n, err := w.conn.Write(o.b[sent:next])
			if err != nil {
				return err
			}
			sent += n
		}
	}
}
