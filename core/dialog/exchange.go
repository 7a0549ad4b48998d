package dialog

import (
	"context"
	"slices"
	"time"
)

// exchange is a said line and its answer, where answers have an end. Where they have
// none it is never open: only what was said and a refusal of it are known.
type exchange struct {
	begun     bool
	said      string
	open      bool
	loose     bool   // its answer has no end: only a refusal is told
	late      bool   // it is open longer than anybody waited: the module owes its end
	later     bool   // a step may end before it does
	before    int    // lines said before it that the module may have lost, or may answer still
	ended     bool   // an end has come, which may be that of such a line
	first     int64  // number of the first line after it was said
	last      int64  // number of the line that ended it, once it is not open
	heard     bool   // the line or the prompt that ended it has been taken by a wait
	question  bool   // a step has ended with a question that was heard
	asked     int64  // where what was heard stood at the end of what had come: it may be a question
	refused   string // a refusal that no call has taken
	refusal   int64  // ... and the number of its line
	with      string // the line or the prompt that ended it
	line      int64  // its number among all said lines
	awaits    bool   // its echo comes before its answer, where the module echoes
	echoed    bool   // that has come
	givenUp   bool   // there is none: what is said next goes out at once
	session   bool   // the prompt for commands stood there when it was said
	missed    bool   // something came without an echo, while those of lines said earlier are owed
	same      int64  // lines from here on may be its answer: the echo of the same line, said earlier, came before them; 0 if none did
	doubt     bool   // what has come may be the echo of a line said earlier
	explained int64  // lines before this one belong to what was said earlier
	early     int64  // the end that came before it, by the number of its line and 1 more; 0 if none has

	earlyRefused string        // the refusal that came before it
	earlyRefusal int64         // ... and the number of its line
	took         time.Duration // how long after it was said

	restarted bool // the refusal is the banner of a module that was not told to restart
}

// Settle waits for the open exchange to end. A refusal that no wait has taken
// is returned as *Refused, once. An exchange that does not end in time is *Missed,
// and *Busy from then on, until it ends: what it ends with is nobody's answer then.
func (d *Dialog) Settle(ctx context.Context, within time.Duration) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.pauseQuiet(ctx); err != nil {
		return err
	}
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
		if late {
			d.promptShown() // it came in time
		}
		if late && d.exchange.open && d.exchange.ended { // no other end has followed: a line before was lost
			d.exchange.open, d.exchange.last, d.exchange.before = false, d.count-1, 0
			break
		}
		if x := &d.exchange; late && x.open && x.early > 0 && !d.owesEarlier() && d.echo.timer != nil { // it came in time
			timer.Reset(echoSilence)
			continue
		}
		if late && d.exchange.open {
			if d.exchange.late || d.exchange.early > 0 {
				d.exchange.late = true
				return &Busy{d.port.Name(), d.exchange.said, d.endOfAnswer(), within, d.lastCame.Before(d.lastWent), d.looksLikePrompt()}
			}
			d.exchange.late = true
			m := d.missed(d.endOfAnswer(), nil, within, began)
			m.OfEnd = true
			return m
		}
	}
	if owed { // it was told that the answer did not come
		d.exchange.refused = ""
		return nil
	}
	return d.refusal()
}

// EndsWithQuestion reports whether what a wait for bytes took last is a question that stands at the very end
// of what has come: it ends as one does, and nothing follows it for 300 ms. The next line answers it; the
// end of the answer stays owed.
func (d *Dialog) EndsWithQuestion(ctx context.Context) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	x := &d.exchange
	stands := func() bool { return x.open && x.refused == "" && x.asked == d.rawAt+int64(len(d.raw)) }
	if !stands() || !isQuestion(d.lastWords) {
		return false
	}
	for until := d.lastCame.Add(questionRest); stands() && time.Now().Before(until); {
		if _, err := d.waitTo(ctx, nil, until); err != nil {
			return false
		}
	}
	x.question = stands()
	x.later = x.later || x.question
	return x.question
}

// Questioned reports whether EndsWithQuestion has found a question that nothing has answered yet.
func (d *Dialog) Questioned() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.exchange.open && d.exchange.question
}

// Asked ends the open exchange if its end is not that of an answer but a question: if
// what a wait took last stood at the end of what had come, and nothing has come since.
// What is said next answers it. Where a final result ends answers, it must look like one, too.
func (d *Dialog) Asked() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.exchange.open && (d.byPrompt || isQuestion(d.lastWords)) && d.exchange.asked == d.rawAt+int64(len(d.raw)) {
		d.closes(d.count - 1)
	}
}

// refusal gives out the refusal that waits to be told, and takes its line.
func (d *Dialog) refusal() error {
	if d.exchange.refused == "" {
		return nil
	}
	err := &Refused{Port: d.port.Name(), Said: d.exchange.said, Heard: d.exchange.refused, Restarted: d.exchange.restarted}
	d.exchange.refused = ""
	for i := range d.lines {
		if d.lines[i].num == d.exchange.refusal {
			d.takeLine(i)
			break
		}
	}
	return err
}

// GiveUp gives up the open exchange, if there is one: what is said next goes out
// at once, and who says it must know that an answer may still come.
func (d *Dialog) GiveUp() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.exchange = exchange{givenUp: true}
}

// Ended is what has ended the answer to the line last said, in words; "" while it has
// not ended, or where answers have no end.
func (d *Dialog) Ended() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.ended()
}

func (d *Dialog) ended() string {
	switch {
	case !d.exchange.begun || d.exchange.open:
		return ""
	case d.byPrompt:
		return "the prompt is back"
	}
	return "the final result has come"
}

// Result is, once for each answer, the line or the prompt that has ended it, and how long
// after the words it came.
func (d *Dialog) Result() (with string, took time.Duration, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	e := &d.exchange
	if !e.begun || e.open || e.with == "" {
		return "", 0, false
	}
	with, e.with = e.with, ""
	return with, e.took, true
}

// Late reports whether an exchange is open longer than somebody waited for its end.
func (d *Dialog) Late() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.exchange.open && d.exchange.late
}

// WithoutAnswer says that no end is owed for the line just said. A refusal of it is
// told all the same.
func (d *Dialog) WithoutAnswer() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.exchange.open, d.exchange.loose = false, true
	for i := range d.echo.owed {
		if o := &d.echo.owed[i]; o.line == d.exchange.line {
			o.ends = false
		}
	}
	if d.echo.latest == d.exchange.line {
		d.echo.latest = 0
	}
}

// AnswerLater says that the answer to the line just said may end when it likes. The next
// line is not said before that.
func (d *Dialog) AnswerLater() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.exchange.later = true
}

// OwesLater reports whether such an answer has not ended.
func (d *Dialog) OwesLater() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.exchange.open && d.exchange.later
}

// Again lets a line be said although the one before was not answered, if nothing at
// all has come since, not even its echo: it may never have been heard. If it has been
// after all, two answers come; so Settle does not take the first end for that of the
// line said now, unless no other follows.
func (d *Dialog) Again() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.exchange.open && d.lastCame.Before(d.lastWent) {
		d.exchange.open, d.exchange.late = false, false
		d.exchange.before++
	}
}

// end notes the end of an answer, which the line with that number brought.
func (d *Dialog) end(last int64) {
	if d.exchange.before > 0 { // it may be that of a line before
		d.exchange.before--
		d.exchange.ended, d.exchange.explained = true, d.count
		d.echo.latest = 0
		return
	}
	if d.echo.latest > 0 && d.echo.latest != d.exchange.line { // it is that of the line whose echo came last
		d.exchange.explained, d.turn.from = d.count, max(d.turn.from, d.count)
		d.echo.latest = 0
		return
	}
	if d.awaiting() {
		d.exchange.early = last + 1
		return
	}
	d.closes(last)
}

// endsEarly notes a final result or a refusal that came before the echo of the line: it is about what was
// said earlier, where that owes an answer; else the echo may have stopped.
func (d *Dialog) endsEarly(l *Line, no bool) {
	x := &d.exchange
	if no && x.before == 0 && d.echo.latest == 0 {
		x.earlyRefused, x.earlyRefusal = string(l.Text), l.num
	}
	if !d.byPrompt && x.open {
		d.end(l.num)
	}
}

// closes ends the exchange with the line of a number.
func (d *Dialog) closes(last int64) {
	x := &d.exchange
	x.awaits = false
	d.echo.latest = 0
	d.echo.owed = slices.DeleteFunc(d.echo.owed, func(o owed) bool { return o.line <= x.line })
	if d.echoOff && x.refused == "" {
		d.forgetEcho()
	}
	d.echoOff = false
	d.exchange.open, d.exchange.last = false, last
	for i := len(d.lines) - 1; i >= 0 && d.exchange.with == ""; i-- {
		if d.lines[i].num == last {
			d.exchange.with, d.exchange.took = string(d.lines[i].Text), d.lastCame.Sub(d.lastWent)
		}
	}
	d.spoke = true
}
