package dialog

import (
	"bytes"
	"time"

	"uparrot/core/text"

	"uparrot/core/phrasebook"
)

// take sorts bytes that have come. The mutex is held.
func (d *Dialog) take(now time.Time, b []byte) {
	d.lastCame = now
	d.trace(now, Came, b)
	d.raw = append(d.raw, b...)
	if d.cfg.Dialect != phrasebook.Bytes {
		d.cutLines(now, len(b))
		if from := int(d.partial - d.rawAt); d.datagrams && from < len(d.raw) {
			d.line(now, from, len(d.raw), len(d.raw), false)
		}
		if d.cfg.Dialect == phrasebook.Console {
			d.findPrompt(now)
		}
	}
	if len(d.raw) > maxInbox {
		d.drop(now, len(d.raw)-maxInbox/2)
	}
	if len(d.lines) > maxLines {
		d.dropLines(now, len(d.lines)-maxLines/2)
	}
}

// cutLines finds the lines that the last n bytes complete.
func (d *Dialog) cutLines(now time.Time, n int) {
	fresh := len(d.raw) - n // no line end before this that still counts
	for fresh < len(d.raw) {
		from := int(d.partial - d.rawAt)
		end := text.FindEnd(d.raw[fresh:])
		if end < 0 {
			d.ends.Pass()
		} else if end += fresh; end > fresh {
			d.ends.Pass()
		}
		stop := end
		if end < 0 {
			stop = len(d.raw)
		}
		if stop-from >= maxLine {
			d.line(now, from, from+maxLine, from+maxLine, true)
			fresh = max(fresh, int(d.partial-d.rawAt))
			continue
		}
		if end < 0 {
			return
		}
		part := d.ends.Take(d.raw[end])
		fresh = end + 1
		switch {
		case end == from: // a line end that belongs to the line before or after
			if part == text.End || d.lead > 0 { // the LF behind a line's own CR is that line's
				d.lead++
			}
			d.partial = d.rawAt + int64(fresh)
		case !d.inPayload(from, end):
			d.line(now, from, end, fresh, false)
		}
	}
}

// inPayload reports whether a line end stands inside a payload whose length the
// line itself states.
func (d *Dialog) inPayload(from, end int) bool {
	if len(d.long) == 0 {
		return false
	}
	if d.wants == 0 {
		for _, p := range d.long {
			if w := p.Wants(d.raw[from:end]); w > 0 {
				d.wants = w
				break
			}
		}
	}
	return end-from < d.wants
}

// line files raw[from:to] as a line; the next begins at next.
func (d *Dialog) line(now time.Time, from, to, next int, cut bool) {
	words := d.raw[from:to]
	if d.wants == 0 {
		words = clean(words)
	} else if words = words[:min(d.wants, len(words))]; to-from > d.wants {
		// The payload may hold anything, so only what follows it is cleaned.
		words = append(words[:d.wants:d.wants], bytes.TrimRight(d.raw[from+d.wants:to], " \t")...)
	}
	wire := d.lead + next - from
	d.partial, d.lead, d.wants = d.rawAt+int64(next), 0, 0
	if len(words) == 0 {
		return
	}
	n := len(d.lines)
	d.lines = append(d.lines, Line{Time: now, Wire: wire, Cut: cut, num: d.count, Text: d.keep(words),
		start: d.rawAt + int64(from), stop: d.rawAt + int64(to), end: d.rawAt + int64(next)})
	d.count++
	if taken := d.classify(&d.lines[n]); taken {
		d.lines = d.lines[:n]
	}
}

// keep copies a line's text out of the stream. Many lines share one piece of
// memory, which lives as long as the last of them.
func (d *Dialog) keep(line []byte) []byte {
	if len(line) > cap(d.slab)-len(d.slab) {
		d.slab = make([]byte, 0, max(len(line), slabSize))
	}
	from := len(d.slab)
	d.slab = append(d.slab, line...)
	return d.slab[from:len(d.slab):len(d.slab)]
}

const slabSize = 8 << 10

// clean removes colours and the blanks at both ends.
func clean(line []byte) []byte { return text.TrimBlanks(text.Plain(line)) }
