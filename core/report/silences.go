package report

import (
	"fmt"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/text"
)

// mostWaiting is how many lines wait for a packet to be over before it is cut.
const mostWaiting = 1000

// silences makes lines out of the bytes of ports that have no lines: what came is cut where
// the line was silent, and before something new is said; each write is one. Lines that
// happen while a packet goes on wait for it, so that all stand in the order in which they
// began.
type silences struct {
	emit    func(dialogueLine) error
	ports   map[string]*packetPort
	waiting []*waitingLine
}

// packetPort is a port that has no lines.
type packetPort struct {
	gap    time.Duration
	joined bool // the adapter may have joined what was further apart than was wanted
	came   []byte
	last   time.Time    // when the latest bytes came
	line   *waitingLine // of the packet that is not over; nil if there is none
}

type waitingLine struct {
	dialogueLine
	open bool
}

// at reports whether an event is bytes of a port without lines. It notes which ports those
// are.
func (p *silences) at(e record.Event) bool {
	var dialect phrasebook.Dialect
	var opened record.Opened
	switch e.Kind {
	case record.In, record.Out:
		return p.ports[e.Port] != nil
	case record.Open:
		o, err := record.Decode[record.Opened](e)
		if err != nil {
			return false
		}
		dialect, opened = max(o.Dialect, phrasebook.Lines), o
	case record.Changed:
		c, err := record.Decode[record.ChangedLine](e)
		if err != nil {
			return false
		}
		dialect = c.Dialect
	}
	switch now := p.ports[e.Port]; {
	case dialect == phrasebook.Bytes && now == nil:
		held := text.FromMS(opened.HoldBackMS)
		p.ports[e.Port] = &packetPort{gap: opened.Gap.Beside(held), joined: opened.Gap.Beside(0) < held}
	case dialect != phrasebook.DialectNotSaid && dialect != phrasebook.Bytes && now != nil:
		p.over(now)
		delete(p.ports, e.Port)
	}
	return false
}

// told is what is said, where a port is opened, of how its packets are cut.
func (p *silences) told(e record.Event) string {
	now := p.ports[e.Port]
	switch {
	case e.Kind != record.Open || now == nil:
		return ""
	case now.joined:
		return fmt.Sprintf("; packets cut at silences of %v: those that are nearer are joined by the adapter", now.gap)
	}
	return fmt.Sprintf("; packets cut at silences of %v", now.gap)
}

// bytes takes in what came or went at such a port.
func (p *silences) bytes(e record.Event) error {
	b, err := e.Bytes()
	if err != nil {
		return fmt.Errorf("the record holds bytes that are none: %w", err)
	}
	now := p.ports[e.Port]
	if e.Kind == record.Out {
		p.over(now)
		return p.line(dialogueLine{Time: e.Time, Port: e.Port, Word: "said", Text: text.Hexed(b, 0)})
	}
	if now.line == nil {
		now.line = &waitingLine{dialogueLine{Time: e.Time, Port: e.Port, Word: "heard"}, true}
		p.waiting = append(p.waiting, now.line)
	}
	now.came, now.last = append(now.came, b...), e.Time
	if len(now.came) >= longest {
		p.over(now)
	}
	return p.release()
}

// until ends the packets after which the line was silent for long enough at a time.
func (p *silences) until(t time.Time) error {
	for _, now := range p.ports {
		if now.line != nil && t.Sub(now.last) >= now.gap {
			p.over(now)
		}
	}
	return p.release()
}

// over ends the packet that goes on at a port, if there is one.
func (p *silences) over(now *packetPort) {
	if now.line == nil {
		return
	}
	now.line.Text, now.line.open = text.Hexed(now.came, 0), false
	now.line, now.came = nil, now.came[:0]
}

// line hands on a line, once all that began before it are over.
func (p *silences) line(l dialogueLine) error {
	if p.waiting = append(p.waiting, &waitingLine{l, false}); len(p.waiting) > mostWaiting {
		for _, now := range p.ports {
			p.over(now)
		}
	}
	return p.release()
}

func (p *silences) release() error {
	for len(p.waiting) > 0 && !p.waiting[0].open {
		l := p.waiting[0].dialogueLine
		if p.waiting = p.waiting[1:]; len(p.waiting) == 0 {
			p.waiting = nil
		}
		if err := p.emit(l); err != nil {
			return err
		}
	}
	return nil
}

// end ends all packets.
func (p *silences) end() error {
	for _, now := range p.ports {
		p.over(now)
	}
	return p.release()
}
