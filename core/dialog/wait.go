package dialog

import (
	"bytes"
	"context"
	"fmt"
	"sort"
	"strings"
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
}

// Heard is what a wait took.
type Heard struct {
	Text     string
	Time     time.Time // when its last byte was read
	Captures []pattern.Capture
}

// Missed is the error of a wait that did not get what it wanted.
type Missed struct {
	Port   string
	Said   string // the last line said
	Wanted string // the pattern
	Within time.Duration
	Heard  []string // what came instead, oldest first, at most ten lines
	Rest   string   // bytes after the last line end
	NoEnd  bool     // Rest is what was wanted, but for its line end
	Silent bool     // nothing at all came since the wait began or the last line was said
	Echo   bool     // nothing but the echo of what was said came
	Near   int      // which of Heard agrees longest with the pattern; -1 if none does
	NearAt int      // bytes in which it agrees
	Next   bool     // the very next line did not match
	Hidden string   // bytes among which the pattern is found once colours and cursor moves are taken out: those are why it was not
}

func (e *Missed) Error() string {
	switch {
	case e.Next && len(e.Heard) > 0:
		return fmt.Sprintf("%s: the next line was %q, wanted %s", e.Port, e.Heard[len(e.Heard)-1], e.Wanted)
	case e.Silent:
		return fmt.Sprintf("%s: nothing came within %v, wanted %s", e.Port, e.Within, e.Wanted)
	}
	return fmt.Sprintf("%s: %s did not come within %v", e.Port, e.Wanted, e.Within)
}

// Refused is the error of a said line that the module refused.
type Refused struct {
	Port  string
	Said  string
	Heard string
}

func (e *Refused) Error() string {
	return fmt.Sprintf("%s: said %s, was refused with %s", e.Port, e.Said, e.Heard)
}

// Busy is the error of a line that was not said, because the module has not ended
// its answer to the one before.
type Busy struct {
	Port   string
	With   string // the line that it still answers
	Wanted string // what ends the answer, in words
	Within time.Duration
	Silent bool // nothing at all has come since that was said
}

func (e *Busy) Error() string {
	s := fmt.Sprintf("%s: still busy with %q: %s has not come after %v more", e.Port, e.With, e.Wanted, e.Within)
	if e.Silent {
		s += ", nor anything else"
	}
	return s
}

// Unwanted is the error of Absent when what must not come came.
type Unwanted struct {
	Port    string
	Pattern string
	Heard   string
	After   time.Duration // since the wait began; below zero if it was there already
}

func (e *Unwanted) Error() string {
	return fmt.Sprintf("%s: heard %q, which must not come", e.Port, e.Heard)
}

// Say says a line: it waits for the open exchange to end, at most for within,
// then writes the text and the line ending, and in dialects AT and Console opens an
// exchange. It returns when the writing began. A line is never said while the answer
// to the one before is owed: that is *Busy.
func (d *Dialog) Say(ctx context.Context, text string, within time.Duration) (time.Time, error) {
	if err := d.Settle(ctx, within); err != nil {
		return time.Time{}, err
	}
	d.mu.Lock()
	d.leaveOldAnswers()
	d.echoOf = trimEcho(text)
	held := d.cfg.ends()
	d.exchange = exchange{begun: held, said: text, open: held, loose: !held, first: d.count, last: -1, refusal: -1, before: d.exchange.before}
	line := []byte(text + d.cfg.Ending.Bytes())
	d.mu.Unlock()
	return d.write(ctx, line)
}

// leaveOldAnswers passes over the answer to the line said before: it is no
// answer to the next one. Lines from outside an exchange stay.
func (d *Dialog) leaveOldAnswers() {
	if !d.exchange.begun {
		return
	}
	kept := d.lines[:0]
	for _, l := range d.lines {
		if l.class != notice && l.num >= d.exchange.first && l.num <= d.exchange.last {
			if l.num != d.exchange.last { // a plain OK was not missed by anybody
				d.passOver(l)
			}
			continue
		}
		kept = append(kept, l)
	}
	d.lines = kept
}

// SayBytes writes bytes as they are. It opens no exchange and waits for none; said
// to a module that owes an answer they interrupt it, and its end is waited for anew.
func (d *Dialog) SayBytes(ctx context.Context, b []byte) (time.Time, error) {
	d.mu.Lock()
	d.exchange.late = false
	if d.cfg.Dialect != phrasebook.Bytes { // which has no lines that could echo it
		d.echoOf = trimEcho(string(b))
	}
	d.mu.Unlock()
	return d.write(ctx, b)
}

// Line is the line that bytes are, if they end with the line ending of a module whose
// answers have an end: what answers them must be waited for.
func (d *Dialog) Line(b string) (line string, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	ending := d.cfg.Ending.Bytes()
	if ending == "" || !d.cfg.ends() {
		return "", false
	}
	return strings.CutSuffix(b, ending)
}

// write notes and writes bytes. It returns when the writing began. A port whose other
// side has gone takes no words, even where the system would still take them.
func (d *Dialog) write(ctx context.Context, b []byte) (time.Time, error) {
	now := time.Now()
	d.mu.Lock()
	if d.err != nil {
		defer d.mu.Unlock()
		return now, d.err
	}
	d.lastWent = now
	d.trace(now, Went, b)
	d.mu.Unlock()
	_, err := d.port.Write(ctx, b)
	return now, err
}

// Settle waits for the open exchange to end. A refusal that no wait has taken
// is returned as *Refused, once. An exchange that does not end in time is *Missed,
// and *Busy from then on, until it ends: what it ends with is nobody's answer then.
func (d *Dialog) Settle(ctx context.Context, within time.Duration) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.exchange.open {
		return d.refusal()
	}
	began := time.Now()
	timer := time.NewTimer(within)
	defer timer.Stop()
	owed := d.exchange.late && !d.exchange.ended
	for d.exchange.open {
		late, err := d.wait(ctx, timer.C)
		if err != nil {
			return err
		}
		if late && d.exchange.open && d.exchange.ended { // no other end has followed: a line before was lost
			d.exchange.open, d.exchange.last, d.exchange.before = false, d.count-1, 0
			break
		}
		if late && d.exchange.open {
			if d.exchange.late {
				return &Busy{d.port.Name(), d.exchange.said, d.endOfAnswer(), within, d.lastCame.Before(d.lastWent)}
			}
			d.exchange.late = true
			return d.missed(d.endOfAnswer(), nil, within, began)
		}
	}
	if owed { // it was told that the answer did not come
		d.exchange.refused = ""
		return nil
	}
	return d.refusal()
}

// endOfAnswer is what ends an exchange, in words.
func (d *Dialog) endOfAnswer() string {
	if d.cfg.Dialect == phrasebook.Console && d.cfg.Prompt != nil {
		return "the prompt " + d.cfg.Prompt.String()
	}
	if len(d.cfg.Finals) > 0 {
		return "a final result, such as " + d.cfg.Finals[0].String()
	}
	return "a final result, such as OK"
}

// refusal gives out the refusal that waits to be told, and takes its line.
func (d *Dialog) refusal() error {
	if d.exchange.refused == "" {
		return nil
	}
	err := &Refused{Port: d.port.Name(), Said: d.exchange.said, Heard: d.exchange.refused}
	d.exchange.refused = ""
	for i := range d.lines {
		if d.lines[i].num == d.exchange.refusal {
			d.takeLine(i)
			break
		}
	}
	return err
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
		late, err := d.wait(ctx, timer.C)
		if err != nil {
			return Heard{}, err
		}
		if late {
			if heard, found, err := look(); found || err != nil {
				return heard, err
			}
			m := d.missed(w.Pattern.String(), w.Pattern, w.Within, began)
			if w.Form == pattern.AnyBytes {
				m.Hidden = d.hidden(w.Pattern)
			}
			return Heard{}, m
		}
	}
}

// looker returns the function that looks for w in the inbox. It looks at each
// line once.
func (d *Dialog) looker(w Wait) func() (Heard, bool, error) {
	if w.Form == pattern.AnyBytes {
		return func() (Heard, bool, error) { return d.lookBytes(w) }
	}
	from := int64(0)
	return func() (Heard, bool, error) {
		for i := d.since(from); i < len(d.lines); i++ {
			l := d.lines[i]
			from = l.num + 1
			text, caps, ok := w.match(l)
			if ok {
				d.takeLine(i)
				return Heard{string(text), l.Time, caps}, true, nil
			}
			if w.Form == pattern.NextLine && l.class == plain {
				if d.exchange.refused != "" && l.num == d.exchange.refusal {
					return Heard{}, false, d.refusal()
				}
				m := d.missed(w.Pattern.String(), w.Pattern, w.Within, time.Time{})
				m.Heard, m.Near, m.Next = []string{string(l.Text)}, 0, true
				m.NearAt = w.Pattern.NearMiss(l.Text)
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

func (d *Dialog) lookBytes(w Wait) (Heard, bool, error) {
	start, end, caps, _ := w.Pattern.Find(d.raw)
	if start < 0 {
		return Heard{}, false, nil
	}
	heard := Heard{string(d.raw[start:end]), d.lastCame, caps}
	to := d.rawAt + int64(end)
	kept := d.lines[:0]
	for _, l := range d.lines {
		if l.end <= to && l.class != notice {
			if l.end <= d.rawAt+int64(start) {
				d.passOver(l)
			} else {
				d.answered(l)
			}
			continue
		}
		if l.start < to && l.class != notice { // its front is taken
			l.start = to
			if l.Text = append([]byte(nil), clean(d.raw[to-d.rawAt:l.stop-d.rawAt])...); len(l.Text) == 0 {
				d.answered(l)
				continue
			}
		}
		kept = append(kept, l)
	}
	d.lines = kept
	if d.cfg.Dialect == phrasebook.Console && d.exchange.open && len(bytes.TrimSpace(d.raw[end:])) == 0 {
		// What was heard is where the console waits: a prompt of another kind,
		// such as one that asks for a name.
		d.exchange.open, d.exchange.last = false, d.count-1
	}
	d.forget(to)
	return heard, true, nil
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
			if start, end, _, _ := w.Pattern.Find(d.raw); start >= 0 {
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
	plain := text.Plain(d.raw)
	if start, _, _, _ := p.Find(plain); start < 0 {
		return ""
	}
	return string(d.raw[max(0, len(d.raw)-showHidden):])
}

// showHidden is how many bytes are shown because of such sequences.
const showHidden = 120

// missed gathers what a person needs to see why a wait was in vain.
func (d *Dialog) missed(wanted string, p *pattern.Pattern, within time.Duration, began time.Time) *Missed {
	m := &Missed{Port: d.port.Name(), Said: d.exchange.said, Wanted: wanted, Within: within, Near: -1}
	since := began
	if !d.lastWent.IsZero() && d.lastWent.Before(since) {
		since = d.lastWent
	}
	m.Silent = d.lastCame.Before(since)
	for _, l := range d.lines {
		if l.class != echo {
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
	m.Echo = m.Echo && len(m.Heard) == 0 && m.Rest == ""
	return m
}
