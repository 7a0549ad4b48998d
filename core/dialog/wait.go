package dialog

import (
	"bytes"
	"context"
	"fmt"
	"sort"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/text"
)

// Wait says what to wait for. The pattern must be bound.
type Wait struct {
	Form    pattern.Form
	Pattern *pattern.Pattern
	Within  time.Duration // the longest wait; 0 looks only at what is there

	// Answer says that only the answer to the line last said can hold it: once that
	// has ended, and nothing more comes for a moment, it is *Missed. What the module
	// sends by itself is waited for all the same.
	Answer bool

	// Earlier takes what is older than what was done last, too.
	Earlier bool
}

// Heard is what a wait took.
type Heard struct {
	Text     string
	Time     time.Time // when its last byte was read
	Captures []pattern.Capture
	Skipped  int // bytes before it that no call has taken, of a wait for bytes
}

// Hear waits for what w describes and takes it out of the inbox. It fails with
// *Missed, with *Refused if the module refused the line just said and w is not
// about that, or with the port's own error.
func (d *Dialog) Hear(ctx context.Context, w Wait) (Heard, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	began := time.Now()
	timer := time.NewTimer(w.Within)
	defer timer.Stop()
	look := d.looker(w)
	for {
		heard, found, err := look()
		if found || err != nil {
			return heard, err
		}
		if d.exchange.refused != "" {
			return Heard{}, d.refusal()
		}
		over := d.overAt(w, began)
		at := earlier(over, began.Add(w.Within))
		if echo := d.lastCame.Add(echoSilence); w.Form == pattern.AnyBytes && d.coming() < d.rawAt+int64(len(d.raw)) && (at.IsZero() || echo.Before(at)) {
			at = earlier(echo, began.Add(w.Within)) // what is no echo by then is none
		}
		late, err := d.waitTo(ctx, timer.C, at)
		if err != nil {
			return Heard{}, err
		}
		if late && time.Since(began) < w.Within && (over.IsZero() || time.Now().Before(over)) {
			continue
		}
		if late {
			if sure := d.decides(); sure.Before(began.Add(w.Within+2*echoSilence)) && time.Now().Before(sure) { // it came in time
				if _, err := d.waitTo(ctx, nil, sure); err != nil {
					return Heard{}, err
				}
				timer.Reset(0)
				continue
			}
			d.promptShown()
			if heard, found, err := look(); found || err != nil {
				return heard, err
			}
			m := d.missed(w.Pattern.String(), w.Pattern, w.Within, began)
			if !over.IsZero() && !over.After(time.Now()) {
				m.Ended = d.ended()
			}
			if w.Form == pattern.AnyBytes {
				var before []span
				for _, s := range d.seen() {
					if s.to = min(s.to, d.turn.at); s.from < s.to {
						before = append(before, s)
					}
				}
				if start, end, _ := d.find(w.Pattern, before); start >= 0 {
					m.Older = string(d.raw[start:end])
				}
				m.Hidden = d.hidden(w.Pattern)
			}
			return Heard{}, m
		}
	}
}

// afterEnd is how long nothing must come after the end of an answer until it is sure
// that nothing more belongs to it: a prompt may be one that was shown before.
const afterEnd = 250 * time.Millisecond

// overAt is when it is known that w will not come any more: zero if it is not.
func (d *Dialog) overAt(w Wait, began time.Time) time.Time {
	e := &d.exchange
	if !w.Answer || w.Form == pattern.AnyBytes || !e.begun || e.open || e.heard || d.mayComeLater(w.Pattern) {
		return time.Time{}
	}
	if d.lastCame.After(began) {
		began = d.lastCame
	}
	return began.Add(afterEnd)
}

// earlier is t if it is before the limit, else zero.
func earlier(t, limit time.Time) time.Time {
	if t.Before(limit) {
		return t
	}
	return time.Time{}
}

// mayComeLater reports whether a pattern seems to be about what a module sends by
// itself: a notice or its banner.
func (d *Dialog) mayComeLater(p *pattern.Pattern) bool {
	own := d.cfg.Notices
	if d.cfg.Banner != nil {
		own = append(own[:len(own):len(own)], d.cfg.Banner)
	}
	example := []byte(p.Example(nil))
	for _, n := range own {
		if _, ok := n.Match(example); ok {
			return true
		}
		if _, ok := p.Match([]byte(n.Example(nil))); ok {
			return true
		}
	}
	return false
}

// looker returns the function that looks for w in the inbox. It looks at each
// line once.
func (d *Dialog) looker(w Wait) func() (Heard, bool, error) {
	if w.Form == pattern.AnyBytes {
		return func() (Heard, bool, error) { return d.lookBytes(w) }
	}
	from := int64(0)
	return func() (Heard, bool, error) {
		open := false // a line is not decided yet
		for i := d.since(from); i < len(d.lines); i++ {
			l := d.lines[i]
			if open = open || d.undecided(&l); !open {
				from = l.num + 1
			}
			if !d.mayTake(&w, &l) {
				continue
			}
			text, caps, ok := w.match(l)
			if ok {
				d.takeLine(i)
				return Heard{Text: string(text), Time: l.Time, Captures: caps}, true, nil
			}
			if w.Form == pattern.NextLine && l.class == plain {
				if d.exchange.refused != "" && l.num == d.exchange.refusal {
					return Heard{}, false, d.refusal()
				}
				m := d.missed(w.Pattern.String(), w.Pattern, w.Within, time.Time{})
				m.Heard, m.Near, m.Next = []string{string(l.Text)}, 0, true
				m.NearAt, m.Blanks = w.Pattern.NearMiss(l.Text), w.Pattern.ButForBlanks(l.Text)
				return Heard{}, false, m
			}
		}
		return Heard{}, false, nil
	}
}

// suits reports whether the pattern may take a line of this sort at all: a
// notice only with words of its own, an echo or a prompt only by the very same
// text.
func (w Wait) suits(l Line) bool {
	switch l.class {
	case notice:
		return w.Pattern.HasWord()
	case echo, prompt:
		_, ok := w.Pattern.Literal()
		return ok
	}
	return true
}

// match holds one line against the wait, and returns what of it matched: the
// line, or what stands behind an echo without a line end.
func (w Wait) match(l Line) ([]byte, []pattern.Capture, bool) {
	if !w.suits(l) {
		return nil, nil, false
	}
	caps, ok := w.Pattern.Match(l.Text)
	if !ok && l.echoed > 0 {
		caps, ok = w.Pattern.Match(l.answer())
		return l.answer(), caps, ok
	}
	return l.Text, caps, ok
}

// answer is the line without the echo at its front.
func (l Line) answer() []byte { return bytes.TrimLeft(l.Text[l.echoed:], " \t") }

// since is the place in the inbox of the first line with a number, or the end.
func (d *Dialog) since(num int64) int {
	return sort.Search(len(d.lines), func(i int) bool { return d.lines[i].num >= num })
}

// find looks for a pattern in parts of what no call has taken, colours and cursor moves left out where it
// is not found with them. The places are those in raw.
func (d *Dialog) find(p *pattern.Pattern, parts []span) (start, end int, caps []pattern.Capture) {
	for _, s := range parts {
		from := int(s.from - d.rawAt)
		if start, end, caps = d.findIn(p, d.raw[from:s.to-d.rawAt]); start >= 0 {
			return from + start, from + end, caps
		}
	}
	return -1, 0, nil
}

func (d *Dialog) findIn(p *pattern.Pattern, b []byte) (start, end int, caps []pattern.Capture) {
	start, end, caps, _ = p.Find(b)
	if start >= 0 || d.cfg.Dialect == phrasebook.Bytes {
		return start, end, caps
	}
	plain, at := text.PlainAt(b)
	if at == nil {
		return start, end, caps
	}
	if start, end, caps, _ = p.Find(plain); start < 0 || end == start {
		return -1, 0, nil
	}
	return at[start], at[end-1] + 1, caps
}

func (d *Dialog) lookBytes(w Wait) (Heard, bool, error) {
	start, end, caps := d.find(w.Pattern, d.parts(w.Earlier, d.isSaid(w.Pattern)))
	if start < 0 {
		return Heard{}, false, nil
	}
	d.turn.acted = false
	heard := Heard{string(d.raw[start:end]), d.lastCame, caps, start}
	if d.cfg.Dialect != phrasebook.Bytes {
		heard.Text = string(text.Plain(d.raw[start:end]))
	}
	for _, l := range d.takeBytes(end) {
		if l.end <= d.rawAt+int64(start) {
			d.passOver(l)
		} else {
			d.answered(l)
		}
	}
	if len(bytes.TrimSpace(d.raw[end:])) == 0 {
		d.exchange.asked = d.rawAt + int64(len(d.raw))
	}
	d.lastWords = append(d.lastWords[:0], d.raw[max(0, end-longestPrompt):end]...)
	d.forget(d.rawAt + int64(end))
	return heard, true, nil
}

// isSaid reports whether a text is exactly a said line, and so may be its echo.
func (d *Dialog) isSaid(p *pattern.Pattern) bool {
	literal, ok := p.Literal()
	return ok && d.exchange.said != "" && trimEcho(literal) == trimEcho(d.exchange.said)
}

// takeBytes removes from the inbox the lines that raw[:n] holds, and what it holds of
// the beginning of another. Notices stay.
func (d *Dialog) takeBytes(n int) (taken []Line) {
	to := d.rawAt + int64(n)
	kept := d.lines[:0]
	for _, l := range d.lines {
		switch {
		case l.class == notice || l.start >= to:
			kept = append(kept, l)
		case l.end <= to:
			taken = append(taken, l)
		default: // its front is taken
			l.start = to
			if l.Text = append([]byte(nil), clean(d.raw[to-d.rawAt:l.stop-d.rawAt])...); len(l.Text) == 0 {
				d.answered(l)
				continue
			}
			kept = append(kept, l)
		}
	}
	d.lines = kept
	return taken
}

// Absent waits for and fails with *Unwanted if what w describes comes, or is in
// the inbox already. It takes nothing.
func (d *Dialog) Absent(ctx context.Context, w Wait) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	began := time.Now()
	timer := time.NewTimer(w.Within)
	defer timer.Stop()
	from := int64(0)
	for {
		if w.Form == pattern.AnyBytes {
			if start, end, _ := d.find(w.Pattern, d.seen()); start >= 0 {
				return &Unwanted{d.port.Name(), w.Pattern.String(), string(d.raw[start:end]), d.lastCame.Sub(began)}
			}
		} else {
			for _, l := range d.lines[d.since(from):] {
				from = l.num + 1
				if _, _, ok := w.match(l); ok {
					return &Unwanted{d.port.Name(), w.Pattern.String(), string(l.Text), l.Time.Sub(began)}
				}
			}
		}
		late, err := d.wait(ctx, timer.C)
		if late || err != nil {
			return err
		}
	}
}

// Quiet waits until nothing has come for a time, counted from the call at the
// earliest. It fails with *Missed if that does not happen within the limit.
func (d *Dialog) Quiet(ctx context.Context, still, within time.Duration) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	began := time.Now()
	limit := time.NewTimer(within)
	defer limit.Stop()
	for {
		since := began
		if d.lastCame.After(since) {
			since = d.lastCame
		}
		rest := still - time.Since(since)
		if rest <= 0 {
			return nil
		}
		if time.Until(began.Add(within)) < rest {
			late, err := d.wait(ctx, limit.C)
			if late {
				return d.missed(fmt.Sprintf("%v of quiet", still), nil, within, began)
			}
			if err != nil {
				return err
			}
			continue
		}
		timer := time.NewTimer(rest)
		_, err := d.wait(ctx, timer.C)
		timer.Stop()
		if err != nil {
			return err
		}
	}
}

const showLines = 10

// hidden are the last bytes that came, if escape sequences among them are why a
// pattern is not found there.
func (d *Dialog) hidden(p *pattern.Pattern) string {
	plain := text.Plain(d.raw[max(0, min(len(d.raw), int(d.turn.at-d.rawAt))):])
	if start, _, _, _ := p.Find(plain); start < 0 || len(plain) == len(d.raw) {
		return ""
	}
	return string(d.raw[max(0, len(d.raw)-showHidden):])
}

// showHidden is how many bytes are shown because of such sequences.
const showHidden = 120

// missed gathers what a person needs to see why a wait was in vain.
func (d *Dialog) missed(wanted string, p *pattern.Pattern, within time.Duration, began time.Time) *Missed {
	m := &Missed{Port: d.port.Name(), Said: d.exchange.said, Wanted: wanted, Within: within, Near: -1, Spoke: d.spoke, Later: d.exchange.open && d.exchange.later}
	since := began
	if !d.lastWent.IsZero() && d.lastWent.Before(since) {
		since = d.lastWent
	}
	m.Silent = d.lastCame.Before(since)
	for _, l := range d.lines {
		if d.older(&l) {
			if p != nil && m.Older == "" && l.class != echo && l.class != prompt && !l.stale {
				if _, ok := p.Match(l.Text); ok {
					m.Older = string(l.Text)
				}
			}
			continue
		}
		if l.class != echo && (l.class != prompt || p == nil) {
			m.Heard = append(m.Heard, string(l.Text))
		}
		m.Echo = m.Echo || l.class == echo
	}
	if p != nil {
		for i, h := range m.Heard {
			if at := p.NearMiss([]byte(h)); at > m.NearAt {
				m.Near, m.NearAt = i, at
			}
		}
	}
	m.Blanks = m.Near >= 0 && p.ButForBlanks([]byte(m.Heard[m.Near]))
	if first := len(m.Heard) - showLines; first > 0 { // the nearest is shown however many came after it
		if m.Near >= 0 && m.Near < first {
			m.Heard = append([]string{m.Heard[m.Near]}, m.Heard[first+1:]...)
			m.Near = 0
		} else {
			m.Heard = m.Heard[first:]
			m.Near = max(-1, m.Near-first)
		}
	}
	if rest := d.raw[max(0, min(len(d.raw), int(d.partial-d.rawAt))):]; len(rest) > 0 {
		m.Rest = string(rest[:min(len(rest), 200)])
		if p != nil && d.cfg.Dialect != phrasebook.Bytes {
			_, m.NoEnd = p.Match(clean(rest))
		}
	}
	if d.cfg.Dialect == phrasebook.Bytes {
		m.Packets = d.packets()
	}
	if p == nil {
		m.Prompt = d.looksLikePrompt()
	}
	m.Asked = p == nil && d.exchange.open && d.exchange.asked >= 0 && d.exchange.asked == d.rawAt+int64(len(d.raw))
	m.Echo = m.Echo && len(m.Heard) == 0 && m.Rest == ""
	return m
}
