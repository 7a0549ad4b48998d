package dialog

import (
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
)

// classify says what sort of line this is, and does what follows from it.
func (d *Dialog) classify(l *Line) (taken bool) {
	if d.isEcho(l) {
		l.class = echo
		d.echoOf, d.echoes = "", true
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
		if first >= d.finals && (d.cfg.Restarts == nil || !d.cfg.Restarts(d.exchange.said)) {
			d.exchange.refused, d.exchange.refusal, d.exchange.restarted = string(l.Text), l.num, true
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
		l.echoed = int32(len(d.echoOf))
	}
	return false
}
