// Package loopback proves one's own side of a serial line: with TX and RX joined
// every byte that is sent must come back.
package loopback

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"uparrot/core/port"
	"uparrot/core/prbs"
	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// defaultSpeeds are those that are tried unless somebody says otherwise.
var defaultSpeeds = []int{9600, 57600, 115200, 460800}

// Stage is one thing that was tried.
type Stage struct {
	What    string          `json:"what"`
	Verdict verdict.Verdict `json:"verdict"`
	Why     string          `json:"why,omitempty"`
}

// Name names a result.
const Name = "loopback"

// Result is what a loopback test proved.
type Result struct {
	Port    string          `json:"port"`
	Verdict verdict.Verdict `json:"verdict"`
	Stages  []Stage         `json:"stages"`
	Proven  []string        `json:"proven"`
	Points  []string        `json:"points"` // what to look at after a failure
}

// Test is a loopback test of one port.
type Test struct {
	Port    port.Port
	Speeds  []int // nil means the package's Speeds
	Signals bool  // also RTS to CTS and DTR to DSR

	// Ask has a person do something and returns when it is done. Where it is
	// nil a plug is taken to be fixed: the part without it is left out.
	Ask    func(what string) error
	Events *record.Stream // told of each stage, a Stage, and, sealed, of the result; nil tells nobody

	chunks *port.Chunks
	res    Result
}

// backWithin is how long a byte may take to come back beside its time on the
// wire: adapters gather bytes for some milliseconds.
const backWithin = 300 * time.Millisecond

// What is on its way when a wire is joined is no answer: nothing is sent before
// nothing has come for quietFor. What still comes after settleWithin never ends by
// itself. Once all bytes are back it is waited restFor for any that are too many.
const (
	quietFor     = 100 * time.Millisecond
	settleWithin = 2 * time.Second
	restFor      = 50 * time.Millisecond
)

// Do tests. It closes nothing; the port must not be read by anybody else until
// it is closed.
func (t *Test) Do(ctx context.Context) (Result, error) {
	if t.Speeds == nil {
		t.Speeds = defaultSpeeds
	}
	t.res = Result{Port: t.Port.Name(), Verdict: verdict.Passed, Stages: []Stage{}, Proven: []string{}, Points: []string{}}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	t.chunks = port.ReadChunks(ctx, t.Port)
	err := t.all(ctx)
	if err != nil {
		t.res.Verdict = verdict.Broken
	}
	t.Events.Emit(record.Event{Kind: record.Result, Text: Name, Verdict: t.res.Verdict, Value: t.res})
	return t.res, err
}

func (t *Test) stage(what string, ok bool, why string) {
	s := Stage{What: what, Verdict: verdict.Passed}
	if !ok {
		s.Verdict, s.Why = verdict.Failed, why
	}
	t.done(s)
}

// done keeps a stage and tells of it.
func (t *Test) done(s Stage) {
	t.res.Stages = append(t.res.Stages, s)
	t.res.Verdict = verdict.Worse(t.res.Verdict, s.Verdict)
	t.Events.Emit(record.Event{Kind: record.Progress, Live: s})
}

func (t *Test) point(s string) { t.res.Points = append(t.res.Points, s) }

func (t *Test) all(ctx context.Context) error {
	text := []byte("The line carries letters, digits 0123456789 and its end.\r\n")
	if t.Ask != nil {
		if err := t.Ask("Make sure that nothing is joined to TX and RX"); err != nil {
			return err
		}
		if silent, err := t.settle(ctx, "before anything was joined"); err != nil || !silent {
			return err
		}
		got, err := t.exchange(ctx, t.Port.Line(), text, 0)
		if err != nil {
			return err
		}
		t.stage("nothing joined: nothing comes back", len(got) == 0, fmt.Sprintf("%d bytes came back: %s", len(got), start(got)))
		if len(got) > 0 {
			if bytes.Equal(got, text) {
				t.point("TX and RX are joined already, or the adapter echoes by itself: then it would prove nothing later.")
			} else {
				t.point("Something is joined and sends, or RX picks up noise: an open RX wants a pull-up.")
			}
			return nil
		}
		if err := t.Ask("Now join TX and RX"); err != nil {
			return err
		}
	}
	good := 0
	for _, speed := range t.Speeds {
		ok, err := t.at(ctx, speed, text)
		if err != nil {
			return err
		}
		if ok {
			good++
		} else if good == 0 && len(t.res.Stages) > 0 {
			break // nothing at all comes back: other speeds would say the same
		}
	}
	if good == len(t.Speeds) {
		t.res.Proven = append(t.res.Proven, "adapter, driver, cable and this program carry every byte both ways at "+list(t.Speeds)+" baud")
	}
	if t.Signals {
		return t.signals(ctx)
	}
	return nil
}

// at sends text, all values and a pseudo-random stretch at one speed.
func (t *Test) at(ctx context.Context, speed int, text []byte) (bool, error) {
	l := uart.Line{Speed: speed}
	if err := t.Port.SetLine(l); err != nil {
		if k := port.KindOf(err); k == port.Vanished || k == port.Closed {
			return false, err
		}
		t.stage(fmt.Sprintf("%d baud", speed), false, err.Error())
		return false, nil
	}
	if silent, err := t.settle(ctx, fmt.Sprintf("%d baud: before anything was sent", speed)); err != nil || !silent {
		return false, err
	}
	all := make([]byte, 256)
	for i := range all {
		all[i] = byte(i)
	}
	random := make([]byte, 512)
	s, err := prbs.New(15)
	if err != nil {
		return false, err
	}
	s.Fill(random)
	for _, part := range []struct {
		what string
		b    []byte
	}{{"text", text}, {"all 256 values", all}, {"512 pseudo-random bytes", random}} {
		got, err := t.exchange(ctx, l, part.b, len(part.b))
		if err != nil {
			return false, err
		}
		ok := bytes.Equal(got, part.b)
		t.stage(fmt.Sprintf("%d baud: %s", speed, part.what), ok, difference(part.b, got))
		if !ok {
			t.advise(part.b, got)
			return false, nil
		}
	}
	return true, nil
}

// settle takes what comes unasked until the line is silent. It tells of it, for no
// loop sends anything by itself; where it does not cease the test ends, and silent
// is false.
func (t *Test) settle(ctx context.Context, what string) (silent bool, err error) {
	var came []byte
	for end := time.Now().Add(settleWithin); time.Now().Before(end); {
		b, err := t.take(ctx, quietFor)
		if err != nil {
			return false, err
		}
		if b == nil {
			silent = true
			break
		}
		came = append(came, b...)
	}
	switch {
	case !silent:
		t.stage(what, false, fmt.Sprintf("%s came unasked in %v and did not cease: %s", text.Count(len(came), "byte"), settleWithin, start(came)))
		t.point("Something sends on this line by itself: a module that is joined still, or noise at an open RX.")
	case came != nil:
		t.done(Stage{what, verdict.Passed, fmt.Sprintf("%s came unasked, then nothing; not counted as come back: %s", text.Count(len(came), "byte"), start(came))})
	}
	return silent, nil
}

// take is what comes within a time; nil if that is nothing.
func (t *Test) take(ctx context.Context, within time.Duration) ([]byte, error) {
	timer := time.NewTimer(within)
	defer timer.Stop()
	select {
	case c, ok := <-t.chunks.C:
		if !ok {
			return nil, t.chunks.Err()
		}
		return c, nil
	case <-timer.C:
		return nil, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// exchange sends bytes and returns what comes back: until want bytes have come and
// no more behind them, or the time is over.
func (t *Test) exchange(ctx context.Context, l uart.Line, b []byte, want int) (got []byte, err error) {
	if _, err := t.Port.Write(ctx, b); err != nil {
		return nil, err
	}
	end := time.Now().Add(l.Time(len(b)) + backWithin)
	for {
		within := time.Until(end)
		if want > 0 && len(got) >= want {
			within = min(within, restFor)
		}
		c, err := t.take(ctx, within)
		if c == nil || err != nil {
			return got, err
		}
		got = append(got, c...)
	}
}

// difference says how what came back differs from what was sent.
func difference(sent, got []byte) string {
	if len(got) == 0 {
		return "nothing came back"
	}
	if i := bytes.Index(got, sent); i >= 0 {
		return fmt.Sprintf("all %d bytes came back, and %s that nobody sent: %s", len(sent), text.Count(len(got)-len(sent), "byte"), start(others(sent, got)))
	}
	for i := range sent {
		if i >= len(got) {
			return fmt.Sprintf("%d of %d bytes came back, all of them right", len(got), len(sent))
		}
		if sent[i] != got[i] {
			return fmt.Sprintf("byte %d was sent as %02x and came back as %02x", i+1, sent[i], got[i])
		}
	}
	return ""
}

// others are the bytes before and behind those that were sent, if all of them came
// in one piece.
func others(sent, got []byte) []byte {
	i := bytes.Index(got, sent)
	if i < 0 {
		return nil
	}
	return slices.Concat(got[:i], got[i+len(sent):])
}

func (t *Test) advise(sent, got []byte) {
	if c, err := port.CountersOf(t.Port); err == nil && c.Any() {
		t.point(fmt.Sprintf("The port has counted %v.", c))
	}
	switch {
	case len(got) == 0:
		t.point("TX and RX are not joined, or not at these pins; a wrong logic level does no harm here.")
		t.point("Flow control: an adapter that waits for CTS sends nothing.")
	case len(others(sent, got)) > 0:
		t.point("The loop carries every byte; something else sends on this line too, or the adapter echoes by itself.")
	case len(got) < len(sent):
		t.point("Bytes are lost on the way: a worn contact, or a buffer too small for this speed.")
	default:
		t.point("Bytes come back altered: a long or unshielded wire for this speed, or something else joined to the pins.")
	}
}

func start(b []byte) string { return fmt.Sprintf("%q", b[:min(len(b), 20)]) }

func list(speeds []int) string {
	s := ""
	for i, v := range speeds {
		switch {
		case i == 0:
		case i == len(speeds)-1:
			s += " and "
		default:
			s += ", "
		}
		s += fmt.Sprint(v)
	}
	return s
}

// signals sets each outgoing signal line on and off and looks at the incoming
// one that it is joined to.
func (t *Test) signals(ctx context.Context) error {
	if t.Ask != nil {
		if err := t.Ask("Join RTS to CTS and DTR to DSR as well"); err != nil {
			return err
		}
	}
	for _, pair := range []struct {
		out  uart.Signal
		in   string
		read func(port.Inputs) bool
	}{
		{uart.RTS, "CTS", func(i port.Inputs) bool { return i.CTS }},
		{uart.DTR, "DSR", func(i port.Inputs) bool { return i.DSR }},
	} {
		what := fmt.Sprintf("%s reaches %s", pair.out, pair.in)
		wrong := ""
		for _, on := range []bool{true, false, true} {
			err := port.SetSignal(t.Port, pair.out, on)
			var in port.Inputs
			if err == nil {
				// Signal lines settle within some milliseconds behind an adapter.
				select {
				case <-time.After(50 * time.Millisecond):
				case <-ctx.Done():
					return context.Cause(ctx)
				}
				in, err = port.InputsOf(t.Port)
			}
			if err != nil {
				if e, ok := errors.AsType[*port.Error](err); ok && e.Kind == port.Unsupported {
					t.done(Stage{what, verdict.Untested, e.Why})
					wrong = "-"
					break
				}
				return err
			}
			if pair.read(in) != on && wrong == "" {
				wrong = fmt.Sprintf("%s was set %s, %s stayed %s", pair.out, onOff(on), pair.in, onOff(!on))
			}
		}
		if wrong == "-" {
			continue
		}
		t.stage(what, wrong == "", wrong)
		if wrong == "" {
			t.res.Proven = append(t.res.Proven, what)
		} else {
			t.point(fmt.Sprintf("%s and %s are not joined, or the adapter does not lead them out.", pair.out, pair.in))
		}
	}
	return nil
}

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}
