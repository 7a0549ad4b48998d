package loopback

import (
	"context"
	"errors"
	"io"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/sim"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// wires is a port whose signal lines a test joins.
type wires struct {
	port.Port
	out    [2]bool
	joined bool
}

func (w *wires) Signal(s uart.Signal, on bool) error { w.out[s] = on; return nil }
func (w *wires) SetFlow(uart.Flow) error             { return nil }
func (w *wires) Break(time.Duration) error           { return nil }
func (w *wires) Inputs() (port.Inputs, error) {
	if !w.joined {
		return port.Inputs{}, nil
	}
	return port.Inputs{CTS: w.out[uart.RTS], DSR: w.out[uart.DTR]}, nil
}

func TestStages(t *testing.T) {
	done := func(string) error { return nil }
	echo := func(change func(n int, b []byte) []byte) func(io.ReadWriter) {
		return func(m io.ReadWriter) {
			buf := make([]byte, 4096)
			for n := 0; ; n++ {
				k, err := m.Read(buf)
				if err != nil {
					return
				}
				m.Write(change(n, append([]byte(nil), buf[:k]...)))
			}
		}
	}
	// late sends what a module was still sending, a byte after each pause, and loops then.
	late := func(pause time.Duration, text string, change func(n int, b []byte) []byte) func(io.ReadWriter) {
		return func(m io.ReadWriter) {
			for _, b := range []byte(text) {
				time.Sleep(pause)
				if _, err := m.Write([]byte{b}); err != nil {
					return
				}
			}
			echo(change)(m)
		}
	}
	whole := func(_ int, b []byte) []byte { return b }
	for _, c := range []struct {
		name     string
		far      func(io.ReadWriter)
		ask      func(string) error
		verdict  verdict.Verdict
		stages   int
		last     string
		point    string
		proven   int
		signals  bool
		unjoined bool
	}{
		{name: "a fixed plug", far: echo(whole), verdict: verdict.Passed, stages: 12, proven: 1},
		{name: "joined when asked", far: echo(func(n int, b []byte) []byte {
			if n == 0 {
				return nil
			}
			return b
		}), ask: done, verdict: verdict.Passed, stages: 13, proven: 1},
		{name: "joined before asked", far: echo(whole), ask: done, verdict: verdict.Failed, stages: 1, last: "bytes came back", point: "joined already"},
		{name: "not joined", far: echo(func(int, []byte) []byte { return nil }), ask: done, verdict: verdict.Failed, stages: 2, last: "nothing came back", point: "not joined"},
		{name: "a byte is lost", far: echo(func(n int, b []byte) []byte {
			if n == 4 {
				return b[:200]
			}
			return b
		}), verdict: verdict.Failed, stages: 11, last: "", point: "lost on the way"},
		{name: "a byte is altered", far: echo(func(n int, b []byte) []byte {
			if n == 1 {
				b[16] ^= 0x40
			}
			return b
		}), verdict: verdict.Failed, stages: 2, last: "byte 17 was sent as 10 and came back as 50", point: "altered"},
		{name: "a module was sending when the wire was joined", far: late(7*time.Millisecond, "EVEL 3.2\r\n", whole), verdict: verdict.Passed, stages: 13, proven: 1},
		{name: "and before anything was joined", far: late(7*time.Millisecond, "T", func(n int, b []byte) []byte {
			if n == 0 {
				return nil
			}
			return b
		}), ask: done, verdict: verdict.Passed, stages: 14, proven: 1},
		{name: "a module goes on sending", far: late(90*time.Millisecond, strings.Repeat("LEVEL 3.2\r\n", 60), whole), verdict: verdict.Failed, stages: 1, last: "did not cease", point: "sends on this line by itself"},
		{name: "a byte more behind what was sent", far: echo(func(n int, b []byte) []byte { return append(b, 'x') }), verdict: verdict.Failed, stages: 1, last: `and 1 byte that nobody sent: "x"`, point: "something else sends"},
		{name: "a byte more before it", far: echo(func(n int, b []byte) []byte { return append([]byte("x"), b...) }), verdict: verdict.Failed, stages: 1, last: `and 1 byte that nobody sent: "x"`, point: "something else sends"},
		{name: "all of it twice", far: echo(func(n int, b []byte) []byte { return append(b, b...) }), verdict: verdict.Failed, stages: 1, last: "and 58 bytes that nobody sent", point: "echoes by itself"},
		{name: "signal lines", far: echo(whole), signals: true, verdict: verdict.Passed, stages: 14, proven: 3},
		{name: "signal lines not joined", far: echo(whole), signals: true, unjoined: true, verdict: verdict.Failed, stages: 14, proven: 1, last: "DTR was set on, DSR stayed off", point: "RTS and CTS are not joined"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				host, module := port.Pipe("m", uart.DefaultLine)
				var far sync.WaitGroup
				defer far.Wait()
				defer host.Close()
				far.Go(func() { c.far(module) })
				var p port.Port = host
				if c.signals {
					p = &wires{Port: host, joined: !c.unjoined}
				}
				res, err := (&Test{Port: p, Ask: c.ask, Signals: c.signals}).Do(context.Background())
				last := res.Stages[len(res.Stages)-1]
				if err != nil || res.Verdict != c.verdict || len(res.Stages) != c.stages || !strings.Contains(last.Why, c.last) || len(res.Proven) != c.proven || !strings.Contains(strings.Join(res.Points, "\n"), c.point) {
					t.Errorf("%v, %d stages, %+v", err, len(res.Stages), res)
				}
			})
		})
	}
}

// A looped stand-in gives back every byte at every speed, in the time that the
// wire takes.
func TestLoopedStandin(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := simtest.New(t, bench.Air{}, bench.Standin{Family: "dunlin"})
		host := b.Host("m")
		b.Join("m", sim.Looped)
		res, err := (&Test{Port: host, Signals: true}).Do(context.Background())
		if err != nil || res.Verdict != verdict.Untested || len(res.Proven) != 1 || res.Stages[12].Verdict != verdict.Untested {
			t.Errorf("%v %+v", err, res)
		}
	})
}

func TestGivenUp(t *testing.T) {
	why := errors.New("the person went away")
	host, module := port.Pipe("m", uart.DefaultLine)
	defer module.Close()
	res, err := (&Test{Port: host, Ask: func(string) error { return why }}).Do(context.Background())
	if !errors.Is(err, why) || res.Verdict != verdict.Broken {
		t.Errorf("%v %+v", err, res)
	}
	host.Close()
}
