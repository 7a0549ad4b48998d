package dialog

import (
	"bytes"
	"unicode/utf8"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
)

// classify says what sort of line this is, and does what follows from it.
func (d *Dialog) classify(l *Line) (taken bool) {
	if d.isEcho(l) {
		l.class = echo
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
	if from := noise(l.Text); from > 0 && d.cfg.Banner != nil { // of a module that starts
		if _, ok := d.cfg.Banner.Match(l.Text[from:]); ok {
			l.Text = l.Text[from:]
		}
	}
	if match(l.Text); first < 0 && note < 0 && l.echoed > 0 {
		match(l.answer())
	}
	switch {
	case note >= 0:
		l.class = notice
		return d.cfg.OnNotice != nil && d.cfg.OnNotice(note, *l, noteCaps)
	case first >= d.finals:
		d.restarts(l)
	case first >= 0 && d.awaiting():
		d.endsEarly(l, first < d.refusals)
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
		if !d.byPrompt { // else the prompt is still to come
			d.end(l.num)
		}
	}
	return false
}

// noise is how many bytes up to the last that is no text stand in a line.
func noise(line []byte) int {
	i := bytes.LastIndexFunc(line, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f || r == utf8.RuneError })
	if i < 0 {
		return 0
	}
	_, n := utf8.DecodeRune(line[i:])
	return i + n
}

// restarts notes that a line is the banner of a module that has restarted: that ends an open exchange, as a
// refusal where it was not told to.
func (d *Dialog) restarts(l *Line) {
	l.banner = true
	d.forgetEcho()
	if d.exchange.open {
		if d.cfg.Restarts == nil || !d.cfg.Restarts(d.exchange.said) {
			d.exchange.refused, d.exchange.refusal, d.exchange.restarted = string(l.Text), l.num, true
		}
		d.end(l.num)
	}
}
