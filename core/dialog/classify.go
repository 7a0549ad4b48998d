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
			if i >= d.banner {
				note, noteCaps = i-d.banner, caps
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
	case first >= 0 && first < d.refusals && d.exchange.loose: // no results, but a no is a no
		d.exchange.refused, d.exchange.refusal = string(l.Text), l.num
		d.quiet = false // as it proves
	case first >= 0 && d.exchange.open: // outside an exchange a result is a line like any other
		if first < d.refusals {
			d.exchange.refused, d.exchange.refusal = string(l.Text), l.num
		}
		if d.cfg.Dialect == phrasebook.AT {
			d.form = phrasebook.Words
		}
		if !d.byPrompt || first >= d.finals { // else the prompt is still to come
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
	if strings.HasPrefix(text, d.echoOf) && (d.exchange.open || d.exchange.loose) && l.num == d.exchange.first {
		l.echoed = len(d.echoOf)
	}
	return false
}

// isPrompt reports whether b is one of the prompts.
func (d *Dialog) isPrompt(b []byte) bool { return d.promptOf(b) >= 0 }

// promptOf is the place of the prompt that b is among those known, or -1.
func (d *Dialog) promptOf(b []byte) int { return placeOf(d.prompts, b) }

// placeOf is the place of the pattern that the end of what has come matches, or -1.
func placeOf(list []*pattern.Pattern, b []byte) int {
	if len(list) == 0 {
		return -1
	}
	b = clean(b)
	if i := bytes.LastIndexFunc(b, func(r rune) bool { return r < ' ' || r == 0x7f || r == utf8.RuneError }); i >= 0 {
		_, n := utf8.DecodeRune(b[i:]) // what comes before is noise
		b = text.TrimBlanks(b[i+n:])
	}
	for i, p := range list {
		if _, ok := p.Match(b); ok {
			return i
		}
	}
	return -1
}

// longestPrompt bounds what is held against the prompts and the pagers.
const longestPrompt = 1024

// unended is the line that has no end yet, also where a wait has taken its beginning.
func (d *Dialog) unended() []byte {
	words := d.raw[max(int(d.partial-d.rawAt), len(d.raw)-longestPrompt):]
	if len(d.taken) > 0 && len(words) > 0 {
		words = append(d.taken[:len(d.taken):len(d.taken)], words...)
	}
	return words
}

// findPrompt looks for a prompt at the end of what has come. A prompt has no line end;
// it is filed as a line of its own and ends an open exchange.
func (d *Dialog) findPrompt(now time.Time) {
	words := d.unended()
	if len(d.prompts) == 0 || len(words) == 0 || text.Unfinished(words) {
		return
	}
	which := d.promptOf(words)
	if which < 0 {
		return
	}
	shown := d.keep(clean(words))
	end := d.rawAt + int64(len(d.raw))
	l := Line{Time: now, Wire: d.lead + int(end-d.partial), class: prompt, Text: shown, Full: shown, start: d.partial, stop: end, end: end}
	d.partial, d.lead, d.blank, d.wants, d.ends, d.taken = end, 0, 0, 0, text.Ends{}, d.taken[:0]
	d.shown, d.latest, d.prompted = which, which, string(shown)
	d.file(l)
}

// promptBefore is how much of a line is a prompt that a notice stands behind, in the
// same line: some consoles write their notices wherever the cursor is.
func (d *Dialog) promptBefore(line []byte) int {
	if len(d.prompts) == 0 || len(d.cfg.Notices) == 0 {
		return 0
	}
	for at, blanks := 0, 0; blanks < mostBlanks; blanks++ {
		i := bytes.IndexByte(line[at:], ' ')
		if i < 0 {
			return 0
		}
		at += i + 1
		noticed := false
		d.set.Match(text.TrimBlanks(line[at:]), func(i int, _ []pattern.Capture) bool {
			noticed = noticed || i >= d.banner
			return !noticed
		})
		if noticed && d.isPrompt(line[:at]) {
			return at
		}
	}
	return 0
}

// mostBlanks is how many blanks a prompt has at most.
const mostBlanks = 8
