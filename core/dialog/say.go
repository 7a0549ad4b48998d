package dialog

import (
	"context"
	"strings"
	"time"
	"unicode"

	"uparrot/core/phrasebook"
	"uparrot/core/text"
)

// Say says a line: it waits for the open exchange to end, at most for within,
// then writes the text and the line ending, and opens an exchange where answers have
// an end. It returns when the writing began. A line is never said while the answer
// to the one before is owed: that is *Busy.
func (d *Dialog) Say(ctx context.Context, text string, within time.Duration) (time.Time, error) {
	return d.say(ctx, text, false, within)
}

// SaySecret is Say of a line that no module repeats.
func (d *Dialog) SaySecret(ctx context.Context, text string, within time.Duration) (time.Time, error) {
	return d.say(ctx, text, true, within)
}

func (d *Dialog) say(ctx context.Context, text string, secret bool, within time.Duration) (time.Time, error) {
	if err := d.Settle(ctx, within); err != nil {
		return time.Time{}, err
	}
	d.mu.Lock()
	if err := d.quietFirst(ctx); err != nil {
		d.mu.Unlock()
		return time.Time{}, err
	}
	d.beginExchange(text, secret, d.exchange.before)
	line := []byte(text + d.cfg.Ending.Bytes())
	d.mu.Unlock()
	return d.write(ctx, line)
}

// beginExchange begins the exchange of a line that is about to go out; before is how many ends come first.
func (d *Dialog) beginExchange(text string, secret bool, before int) {
	if d.proveEcho(); !d.echo.known { // what came back may have been an answer in the same words
		d.echo.shown = false
	}
	session := d.shown >= 0 && d.at() == aCommand
	d.leaveOldAnswers()
	secret = secret || d.asksSecret()
	d.begin(strings.TrimSpace(text) != "")
	held := d.held
	if d.cfg.Dialect == phrasebook.AT {
		d.readResults(text)
		held = !d.quiet
	}
	d.saidLines++
	typed := d.echo.typed + text
	d.echo.typed = ""
	d.owes(typed, d.saidLines, held)
	awaits := !secret && trimEcho(typed) != ""
	if !awaits {
		d.echo.latest = 0
	}
	d.exchange = exchange{begun: held, said: text, open: held, loose: !held, first: d.count, last: -1, refusal: -1, asked: -1, before: before, line: d.saidLines, awaits: awaits, session: session}
	d.aside = false
}

// asksSecret reports whether what stands at the end of what has come asks for something that no module
// repeats.
func (d *Dialog) asksSecret() bool {
	if d.shown >= 0 && d.at() == aPassword {
		return true
	}
	return secretQuestion().Match(d.lastWords)
}

var secretQuestion = text.Regexp(`(?i)(?:pass(?:word|phrase|code)?|pin|secret|code)[^:\r\n]{0,40}:[ \t]*$`)

// quietFirst waits, before the first line that is ever said, until what has come since the port was opened
// has come to its end: for 100 ms of quiet, at most for 1 s.
func (d *Dialog) quietFirst(ctx context.Context) error {
	if d.saidLines > 0 || d.exchange.givenUp {
		return nil
	}
	for soon := d.opened.Add(afterOpening); d.lastCame.IsZero(); {
		if !time.Now().Before(soon) {
			return nil
		}
		if _, err := d.waitTo(ctx, nil, soon); err != nil {
			return err
		}
	}
	most := time.Now().Add(longestFirst)
	for {
		until := d.lastCame.Add(quietBefore)
		if most.Before(until) {
			until = most
		}
		if !time.Now().Before(until) {
			return nil
		}
		if _, err := d.waitTo(ctx, nil, until); err != nil {
			return err
		}
	}
}

// How long nothing must come before the first line is said, and how long that is waited for.
const (
	afterOpening = 5 * time.Millisecond // what the system has kept is read by then
	quietBefore  = 100 * time.Millisecond
	longestFirst = time.Second
)

// leaveOldAnswers passes over the answer to the line said before: it is no
// answer to the next one. Lines from outside an exchange stay.
func (d *Dialog) leaveOldAnswers() {
	if !d.exchange.begun {
		return
	}
	d.turn.leave(d.turn.at, d.rawAt+int64(len(d.raw)), false)
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

// SayBytes writes bytes as they are, at once. It opens no exchange and waits for none; said to a module that
// owes an answer they interrupt it, and its end is waited for anew.
func (d *Dialog) SayBytes(ctx context.Context, b []byte) (time.Time, error) {
	d.mu.Lock()
	d.exchange.late = false
	d.aside = !d.exchange.open
	line, whole := d.wholeLine(b)
	if whole || !d.turn.acted {
		d.begin(true)
	}
	if d.cfg.Dialect != phrasebook.Bytes { // which has no lines that could echo it
		if i := strings.LastIndexFunc(line, unicode.IsControl); i >= 0 { // nothing before that is repeated as it is
			d.echo.typed, line = "", line[i+1:]
		}
		if d.echo.typed += line; whole {
			d.saidLines++
			d.owes(d.echo.typed, d.saidLines, false)
			d.echo.typed = ""
		}
		d.echo.typed = d.echo.typed[max(0, len(d.echo.typed)-longestPrompt):]
	}
	d.mu.Unlock()
	return d.write(ctx, b)
}

// SayNow is SayBytes for bytes that may be a line: where they end with the line ending of a module whose
// answers have an end, that is owed. It is one more, if the answer before is still owed, and the first end
// is then not theirs; no more than was, if they answer what was heard last.
func (d *Dialog) SayNow(ctx context.Context, b []byte, answers bool) (time.Time, error) {
	d.mu.Lock()
	line, whole := d.wholeLine(b)
	if !whole || !d.held {
		d.mu.Unlock()
		return d.SayBytes(ctx, b)
	}
	before := d.exchange.before
	answers = answers && (d.byPrompt || isQuestion(d.lastWords)) // else what was heard is a part of an answer
	switch {
	case d.exchange.open && !answers && !d.exchange.question:
		before++
	case d.exchange.open:
		d.echo.latest = 0
	}
	d.beginExchange(line, false, before)
	d.mu.Unlock()
	return d.write(ctx, b)
}

// IsLine reports whether bytes are a line whose answer has an end.
func (d *Dialog) IsLine(b string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, whole := d.wholeLine([]byte(b))
	return whole && d.held
}

// wholeLine is the line that bytes are, if they end with the line ending.
func (d *Dialog) wholeLine(b []byte) (line string, whole bool) {
	ending := d.cfg.Ending.Bytes()
	if ending == "" {
		return string(b), false
	}
	return strings.CutSuffix(string(b), ending)
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
	d.lastWent, d.wentLine, d.spokeSince = now, d.count, false
	d.trace(now, Went, b)
	d.mu.Unlock()
	_, err := d.port.Write(ctx, b)
	return now, err
}
