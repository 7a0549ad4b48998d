package dialog

import (
	"bytes"
	"time"

	"github.com/charmbracelet/x/ansi"

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
	cr := -2                // index of the next CR; -2 not looked for, -1 none
	for fresh < len(d.raw) {
		from := int(d.partial - d.rawAt)
		if cr != -1 && cr < fresh {
			cr = indexFrom(d.raw, fresh, '\r')
		}
		end := -1
		if cr >= 0 {
			end = cr
			if lf := bytes.IndexByte(d.raw[fresh:cr], '\n'); lf >= 0 {
				end = fresh + lf
			}
		} else {
			end = indexFrom(d.raw, fresh, '\n')
		}
		if end < 0 {
			if len(d.raw)-from >= MaxLine {
				d.line(now, from, from+MaxLine, from+MaxLine, true)
				fresh = max(fresh, int(d.partial-d.rawAt))
				continue
			}
			return
		}
		if end-from >= MaxLine {
			d.line(now, from, from+MaxLine, from+MaxLine, true)
			fresh = max(fresh, int(d.partial-d.rawAt))
			continue
		}
		if end == from { // a line end that belongs to the line before or after
			if !d.afterCR || d.raw[end] != '\n' {
				d.lead++
			}
			d.afterCR = false
			d.partial = d.rawAt + int64(end+1)
			fresh = end + 1
			continue
		}
		if d.inPayload(from, end) {
			fresh = end + 1
			continue
		}
		d.afterCR = d.raw[end] == '\r'
		d.line(now, from, end, end+1, false)
		fresh = end + 1
	}
}

func indexFrom(b []byte, from int, c byte) int {
	if i := bytes.IndexByte(b[from:], c); i >= 0 {
		return from + i
	}
	return -1
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
	text := d.raw[from:to]
	if d.wants == 0 {
		text = clean(text)
	} else if text = text[:min(d.wants, len(text))]; to-from > d.wants {
		// The payload may hold anything, so only what follows it is cleaned.
		text = append(text[:d.wants:d.wants], bytes.TrimRight(d.raw[from+d.wants:to], " \t")...)
	}
	l := Line{Time: now, Wire: d.lead + next - from, Cut: cut, num: d.count,
		start: d.rawAt + int64(from), stop: d.rawAt + int64(to), end: d.rawAt + int64(next)}
	d.partial, d.lead, d.wants = l.end, 0, 0
	if len(text) == 0 {
		return
	}
	d.count++
	l.Text = d.keep(text)
	if taken := d.classify(&l); !taken {
		d.lines = append(d.lines, l)
	}
}

// keep copies a line's text out of the stream. Many lines share one piece of
// memory, which lives as long as the last of them.
func (d *Dialog) keep(text []byte) []byte {
	if len(text) > cap(d.slab)-len(d.slab) {
		d.slab = make([]byte, 0, max(len(text), slabSize))
	}
	from := len(d.slab)
	d.slab = append(d.slab, text...)
	return d.slab[from:len(d.slab):len(d.slab)]
}

const slabSize = 8 << 10

// clean removes colours and the blanks at both ends.
func clean(text []byte) []byte {
	if bytes.IndexByte(text, 0x1b) >= 0 {
		text = []byte(ansi.Strip(string(text)))
	}
	return bytes.Trim(text, " \t")
}
