package probe

import (
	"bytes"
	"context"
	"slices"
	"strings"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/uart"
)

// A module that speaks by itself is listened to at each speed for at most listenLong, or
// until enough has come to judge.
const (
	listenLong   = 1300 * time.Millisecond
	listenEnough = 40 // bytes
)

// listen stays at each speed for a while, where something came that nobody had asked for.
func (p *Probe) listen(ctx context.Context) (bool, error) {
	if !p.unasked && p.noises == 0 {
		return false, nil
	}
	for _, l := range p.lines(p.Speeds, uart.Frame{}) {
		if p.NoLine {
			l = uart.Line{}
		}
		switch can, err := p.set(l); {
		case err != nil:
			return false, err
		case !can:
			continue
		}
		if err := p.Port.Purge(); err != nil {
			return false, err
		}
		p.forget()
		got, err := p.listenFor(ctx, l, listenLong)
		if err != nil {
			return false, err
		}
		p.note(l, "", got)
		if found, err := p.speaker(l, got); found || err != nil {
			return found, err
		}
	}
	return false, nil
}

// readUnasked stays where something came unasked that could be read: it is asked with more
// patience there, and listened to. Other frames can read some of it, too.
func (p *Probe) readUnasked(ctx context.Context) (bool, error) {
	for _, h := range p.result.Heard {
		if h.Sent != "" || h.Frame != (uart.Frame{}) || h.Readable < 0.95 || !strings.ContainsAny(h.Text, "\r\n") {
			continue
		}
		l := h.Line()
		usual := p.patience
		p.patience = 2 * usual
		found, err := p.pass(ctx, []uart.Line{l}, false)
		if p.patience = usual; found || err != nil {
			return found, err
		}
		came, err := p.listenFor(ctx, l, listenLong)
		if err != nil {
			return false, err
		}
		p.note(l, "", came)
		return p.speaker(l, came)
	}
	return false, nil
}

// speaker takes what came unasked for that of a module that only speaks, if it can be read.
func (p *Probe) speaker(l uart.Line, got []byte) (found bool, err error) {
	text, frame := unframed(got)
	if len(bytes.TrimSpace(text)) < 6 || readable(text) < 0.95 || !bytes.ContainsAny(text, "\r\n") {
		return false, nil
	}
	r := &p.result
	r.Kind, r.Speed, r.Dialect, r.Notices = Found, l.Speed, phrasebook.Lines, nil                // what it sends is all that it says
	r.Ending, r.Prompt, r.Final, r.Why = phrasebook.EndingNotSaid, "", "", slices.Clone(p.first) // and was no answer
	if !p.NoLine {
		r.Frame = uart.Frame{DataBits: 8, Parity: uart.None, Stop: 2}
		if l.Frame.DataBits != 0 {
			r.Frame = l.Frame
		}
		if frame.DataBits != 0 {
			r.Frame = frame
		}
		l.Frame = r.Frame
		if err := p.Port.SetLine(l); err != nil {
			return true, err
		}
	}
	r.Sure = len(text) >= listenEnough && readable(text) >= 0.98
	p.because("it speaks by itself: %s", oneLine(string(text)))
	p.because("it answered nothing that was sent, so the line ending that it wants is not known")
	return true, nil
}

// listenFor is what comes in a time, or enough of it to judge.
func (p *Probe) listenFor(ctx context.Context, l uart.Line, most time.Duration) (got []byte, err error) {
	for until := time.Now().Add(most); time.Now().Before(until) && len(got) < listenEnough; {
		more, err := p.gather(ctx, l, time.Until(until))
		if err != nil {
			return nil, err
		}
		got = append(got, more...)
	}
	return got, nil
}

// onlyRepeats reports whether exactly what was sent came back at one speed alone, which a
// module does, and no wire.
func (p *Probe) onlyRepeats() bool {
	speeds, tried := map[int]bool{}, map[int]bool{}
	for _, l := range p.echoed {
		speeds[l.Speed] = true
	}
	for l := range p.tried {
		tried[l.Speed] = true
	}
	if len(speeds) != 1 || len(tried) < 2 || p.NoLine { // at one speed alone a plug does the same
		return false
	}
	r := &p.result
	r.Kind, r.Speed, r.Frame, r.Dialect = Found, p.echoed[0].Speed, uart.Frame{DataBits: 8, Parity: uart.None, Stop: 2}, phrasebook.Lines
	p.because("at this speed alone exactly what was sent came back: a wire that joins TX and RX would do so at every speed")
	p.because("it answered nothing, so the line ending that it wants is not known")
	return true
}

// interrupt says the text that stops a module while it starts, again and again, until the
// same prompt stands there twice. Then it is asked as any other.
func (p *Probe) interrupt(ctx context.Context, l uart.Line, came []byte) error {
	stood := ""
	for until := time.Now().Add(interruptTime); time.Now().Before(until); {
		got, err := p.ask(ctx, l, p.Break)
		if err != nil {
			return err
		}
		came = append(came, got...)
		prompt := lastPart(came)
		if prompt != "" && prompt == stood && readable(came[max(0, len(came)-len(prompt)):]) == 1 {
			p.note(l, p.Break, came)
			p.because("it stopped as it started, and shows %s", oneLine(prompt))
			return nil
		}
		stood = prompt
	}
	p.because("nothing stopped it within %v", interruptTime)
	return nil
}

// interruptTime is how long a module may start.
const interruptTime = 30 * time.Second
