package link

import (
	"context"
	"errors"
	"fmt"
	"math"
	"sync/atomic"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/link/frame"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/uart"
)

// end is one side of the link at work.
type end struct {
	*bench.Station
	frame.Carriage
	dialog  *dialog.Dialog
	before  *dialog.Config // of a dialog that was borrowed
	line    uart.Line
	hold    *int   // milliseconds that its adapter may gather bytes; nil where that is not known
	address string // as its peer must name it; "" if the carrier needs none

	decode   frame.Decoder
	test     *Test
	start    time.Time // of the run, for the times in frames
	run      uint32
	listenTo byte // the way whose frames arrive here
	counts   *tally
	outLine  uart.Line              // the peer's
	outBytes atomic.Int64           // that a frame of the peer takes on the peer's line
	peer     atomic.Pointer[string] // the peer's address, for telling its messages from others'
	clock    farClock               // of a far end that repeats frames
	repeats  bool                   // frames come back to this very end
	repeated atomic.Bool            // a far end has repeated one, not a plug
	far      string                 // the far end's address then
}

// answers is how long a module may take to answer a command.
const answers = 2 * time.Second

// end makes one side of the link ready.
func (t *Test) end(s *bench.Station, run uint32, listenTo byte, start time.Time) *end {
	e := &end{Station: s, Carriage: carriage(s), line: s.Wire(), test: t, run: run, listenTo: listenTo, start: start}
	e.decode.Whole = e.came
	e.decode.Broken = e.fragment
	return e
}

// connect opens both ends and finds out their addresses.
func (t *Test) connect(ctx context.Context, ends ...*end) error {
	for _, e := range ends {
		if e.dialog = t.Dialogs[e.Name]; e.dialog != nil {
			before := e.dialog.Configure(e.adjust)
			e.before = &before
			continue
		}
		var err error
		if e.dialog, err = e.Station.Open(ctx, t.Events, e.adjust); err != nil {
			return err
		}
	}
	for _, e := range ends {
		if d, ok := port.HoldBack(e.dialog.Port()); ok {
			whole := int(d.Milliseconds())
			e.hold = &whole
		}
	}
	far := ends[len(ends)-1]
	if t.B == nil {
		far = &end{Station: t.A, line: t.A.Wire(), address: t.To}
	}
	for _, e := range ends {
		if e.Addressed() {
			address, err := e.readAddress(ctx)
			if err != nil {
				return fmt.Errorf("read the address of %s: %w", e.Name, err)
			}
			e.address = address
		}
	}
	near := ends[0]
	near.outLine, far.outLine = far.line, near.line
	near.peer.Store(&far.address)
	far.peer.Store(&near.address)
	if t.B == nil {
		near.far = t.To
	}
	if near.address != "" && near.address == far.address {
		return fmt.Errorf("%s and %s have the same address, %s: give each its own first", near.Name, far.Name, near.address)
	}
	return nil
}

// adjust has every arrival brought to the tally instead of the inbox.
func (e *end) adjust(c *dialog.Config) {
	if e.Binary {
		frame.Bytes(c, e.decode.Feed)
		return
	}
	arrives := pattern.Must("...")
	if e.Carrier != nil {
		arrives = e.Carrier.ArrivesPattern
	} else {
		c.Plainly(phrasebook.Lines)
	}
	frame.Arrivals(c, arrives, e.arrival)
}

// came counts one whole binary frame.
func (e *end) came(at time.Time, f frame.Stamped, size int) {
	if e.counts == nil {
		return // nothing is expected at this end
	}
	if f.Run != e.run || !e.expects(f.Way) {
		e.counts.gotStray(frame.Wire(size))
		return
	}
	bytes := frame.Wire(size)
	wire := e.outLine.Time(bytes)  // a cable has one line, and so has a loop
	if f.Way&frame.Answered != 0 { // what the far end took is not the link's
		e.repeated.Store(true)
		at = e.home(f.Number, at, f.FarCame, f.FarWent)
		wire *= 2
	}
	e.counts.arrived(f.Number, at, wire, math.NaN(), math.NaN(), bytes)
}

// home is when a frame would have come back from a far end that repeats it at once: without the time that it stayed
// there by the far end's clock, as far as that can be right.
func (e *end) home(number uint32, at time.Time, came, went int64) time.Time {
	if came == 0 && went == 0 { // it brings back no times
		return at
	}
	r, waited := e.counts.missing(number)
	if !waited { // a copy, or none that was sent
		return at
	}
	return at.Add(-e.clock.stay(r.Sent, at, came, went))
}

// expects reports whether frames of a way arrive at this end: on a round trip also
// those that a far end has marked as frame.Answered.
func (e *end) expects(way byte) bool {
	return way == e.listenTo || e.repeats && way == e.listenTo|frame.Answered
}

// arrival counts one message that came out of the module.
func (e *end) arrival(l dialog.Line, caps []pattern.Capture) {
	if e.counts == nil {
		return // nothing is expected at this end
	}
	payload, strength, snr := string(l.Text), math.NaN(), math.NaN()
	foreign := false
	for _, c := range caps {
		switch c.Name {
		case "payload":
			payload = c.Text
		case "strength":
			strength = numeric(c.Value)
		case "snr":
			snr = numeric(c.Value)
		case "from":
			if peer := e.peer.Load(); peer != nil {
				foreign = *peer != "" && c.Text != *peer
			}
		}
	}
	f, err := frame.Decode([]byte(payload))
	switch {
	case err != nil && !foreign:
		e.fragment([]byte(payload), len(payload))
	case foreign && err != nil:
		e.counts.gotForeign(len(payload))
	case foreign || f.Run != e.run || !e.expects(f.Way):
		e.counts.gotStray(len(payload))
	default:
		wire := e.outLine.Time(int(e.outBytes.Load()))
		if e.Carrier != nil { // through modules there are two lines
			wire += e.line.Time(l.Wire)
		}
		at := l.Time
		if f.Way&frame.Answered != 0 {
			e.repeated.Store(true)
			came, went := frame.FarTimes([]byte(payload))
			at = e.home(f.Number, at, came, went)
			wire *= 2 // the far end's lines are taken to be like these
		}
		e.counts.arrived(f.Number, at, wire, strength, snr, len(payload))
	}
}

func numeric(v any) float64 {
	switch v := v.(type) {
	case int:
		return float64(v)
	case float64:
		return v
	}
	return math.NaN()
}

// readAddress asks the module for its own address. Where it does not answer it
// is asked once more after a bare line ending, which clears away what somebody
// else has left in its input.
func (e *end) readAddress(ctx context.Context) (string, error) {
	address, err := e.askAddress(ctx)
	if _, missed := errors.AsType[*dialog.Missed](err); !missed {
		return address, err
	}
	e.dialog.PassAll()
	e.dialog.GiveUp() // the same is asked again: whichever answer comes is right
	if _, err := e.dialog.SayBytes(ctx, []byte(e.Setup.Ending.Bytes())); err != nil {
		return "", err
	}
	return e.askAddress(ctx)
}

// form is how the module's answers come.
func (e *end) form() pattern.Form {
	if e.Setup.Dialect == phrasebook.Bytes {
		return pattern.AnyBytes
	}
	return pattern.WholeLine
}

func (e *end) askAddress(ctx context.Context) (string, error) {
	s, _ := e.Phrasebook.Setting(e.Carrier.Address) // the phrasebook was checked
	if _, err := e.dialog.Say(ctx, s.Read, answers); err != nil {
		return "", err
	}
	h, err := e.dialog.Hear(ctx, dialog.Wait{Form: e.form(), Pattern: s.AnswerPattern, Within: answers})
	if err != nil {
		return "", err
	}
	for _, c := range h.Captures {
		if c.Name == "value" {
			return fmt.Sprint(c.Value), e.dialog.Settle(ctx, answers)
		}
	}
	return "", errors.New("the answer holds no value")
}
