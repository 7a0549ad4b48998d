package dialog

import (
	"bytes"
	"strings"
	"time"
	"unicode/utf8"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/text"
)

// classify says what sort of line this is, and does what follows from it.
func (d *Dialog) classify(l *Line) (taken bool) {
	if d.isEcho(l) {
		l.class = echo
		d.echoOf = ""
		return false
	}
	first, note := -1, -1
	var noteCaps []pattern.Capture
	match := func(text []byte) {
		d.set.Match(text, func(i int, caps []pattern.Capture) bool {
			if i >= d.nBan {
				note, noteCaps = i-d.nBan, caps
				return false
			}
			if first < 0 {
				first = i
			}
			return true
		})
	}
	if match(l.Text); first < 0 && note < 0 && l.echoed > 0 {
		match(l.answer())
	}
	switch {
	case note >= 0:
		l.class = notice
		return d.cfg.OnNotice != nil && d.cfg.OnNotice(note, *l, noteCaps)
	case first >= 0 && first < d.nRef && d.exchange.loose: // no results, but a no is a no
		d.exchange.refused, d.exchange.refusal = string(l.Text), l.num
	case first >= 0 && d.exchange.open: // outside an exchange a result is a line like any other
		if first < d.nRef {
			d.exchange.refused, d.exchange.refusal = string(l.Text), l.num
		}
		if d.cfg.Dialect != phrasebook.Console || first >= d.nRef { // a console's prompt is still to come
			d.end(l.num)
		}
	}
	return false
}

// isEcho tells the echo of what was said from other lines. An echo may come
// without a line end, joined to the answer: then the line may be either.
func (d *Dialog) isEcho(l *Line) bool {
	if d.echoOf == "" {
		return false
	}
	text := string(l.Text)
	if text == d.echoOf {
		return true
	}
	if front, ok := strings.CutSuffix(text, d.echoOf); ok && d.isPrompt([]byte(front)) {
		return true
	}
	if strings.HasPrefix(text, d.echoOf) && d.exchange.open && l.num == d.exchange.first {
		l.echoed = len(d.echoOf)
	}
	return false
}

// isPrompt reports whether b is the console's prompt.
func (d *Dialog) isPrompt(b []byte) bool {
	if d.cfg.Dialect != phrasebook.Console || d.cfg.Prompt == nil {
		return false
	}
	b = clean(b)
	if i := bytes.LastIndexFunc(b, func(r rune) bool { return r < ' ' || r == 0x7f || r == utf8.RuneError }); i >= 0 {
		_, n := utf8.DecodeRune(b[i:]) // what comes before is noise
		b = text.TrimBlanks(b[i+n:])
	}
	_, ok := d.cfg.Prompt.Match(b)
	return ok
}

// longestPrompt bounds what is held against the prompt.
const longestPrompt = 1024

// findPrompt looks for the prompt at the end of what has come. A prompt has no
// line end; it is filed as a line of its own and ends an open exchange.
func (d *Dialog) findPrompt(now time.Time) {
	from := max(int(d.partial-d.rawAt), len(d.raw)-longestPrompt)
	words := d.raw[from:]
	if len(words) == 0 || text.Unfinished(words) || !d.isPrompt(words) {
		return
	}
	l := Line{Time: now, Wire: d.lead + len(words), class: prompt, num: d.count, Text: d.keep(clean(words)),
		start: d.rawAt + int64(from), stop: d.rawAt + int64(len(d.raw)), end: d.rawAt + int64(len(d.raw))}
	d.count++
	d.lines = append(d.lines, l)
	d.partial, d.lead, d.wants, d.ends = l.end, 0, 0, text.Ends{}
	if d.exchange.open {
		d.end(l.num)
	}
}
