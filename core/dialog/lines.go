package dialog

import (
	"bytes"
	"slices"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/text"
)

// take sorts bytes that have come. The mutex is held.
func (d *Dialog) take(now time.Time, b []byte) {
	if d.cfg.Dialect == phrasebook.Bytes && len(d.raw) > 0 && now.Sub(d.lastCame) >= d.gap() {
		d.silences = append(d.silences, d.rawAt+int64(len(d.raw)))
	}
	d.lastCame = now
	d.trace(now, Came, b)
	d.raw = append(d.raw, b...)
	d.shown, d.lastWords = -1, d.lastWords[:0]
	d.noPrompt()
	d.decideNumber(b[0])
	fresh := d.count
	if d.cfg.Dialect != phrasebook.Bytes {
		d.cutLines(now, len(b))
		if from := int(d.partial - d.rawAt); d.datagrams && from < len(d.raw) {
			d.line(now, from, len(d.raw), len(d.raw), false)
		}
		if !d.findPager(now) {
			d.findPrompt()
		}
		d.watchEcho()
	}
	if d.speaks(fresh) {
		d.spoken, d.spokeSince = now, true
	}
	if len(d.raw) > maxInbox {
		d.drop(now, len(d.raw)-maxInbox/2)
	}
	if len(d.lines) > maxLines {
		d.dropLines(now, len(d.lines)-maxLines/2)
	}
}

// gap is the silence at which packets are cut.
func (d *Dialog) gap() time.Duration {
	held, _ := port.HoldBack(d.port)
	return d.cfg.Gap.Beside(held)
}

// showPackets is how many bytes of packets an error shows.
const showPackets = 400

// packets are the bytes in the inbox, cut where the line was silent; of many the last.
func (d *Dialog) packets() []string {
	from := max(0, len(d.raw)-showPackets)
	var all []string
	for _, at := range append(slices.Clone(d.silences), d.rawAt+int64(len(d.raw))) {
		if to := int(at - d.rawAt); to > from {
			all = append(all, string(d.raw[from:to]))
			from = to
		}
	}
	return all[max(0, len(all)-showLines):]
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
				if d.raw[end] == '\n' { // some end their lines with LF CR: those are not empty
					d.blank++
				}
			}
			d.partial, d.taken = d.rawAt+int64(fresh), d.taken[:0]
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
	wiped := d.erases
	if d.erases = false; wiped {
		words = erased(words)
		from = to - len(words)
	}
	exact := d.wants > 0
	if !exact {
		words = clean(words)
	} else if words = words[:min(d.wants, len(words))]; to-from > d.wants {
		// The payload may hold anything, so only what follows it is cleaned.
		words = append(words[:d.wants:d.wants], bytes.TrimRight(d.raw[from+d.wants:to], " \t")...)
	}
	wire, lead, blank := d.lead+next-from, d.lead, d.blank
	if wiped { // the line end before it is that of the line before the pager
		blank = 0
	}
	d.partial, d.lead, d.blank, d.wants, d.taken = d.rawAt+int64(next), 0, 0, 0, d.taken[:0]
	if len(words) == 0 {
		if !wiped { // else it is what wiped out a pager
			d.blank = blank + 1
		}
		return
	}
	words = d.keep(words)
	start := d.rawAt + int64(from)
	if at := d.promptBefore(words); at > 0 {
		d.latest, d.prompted = d.promptOf(words[:at]), string(words[:at])
		d.file(Line{Time: now, Text: words[:at], start: start, stop: start, end: start, class: prompt})
		words, start = text.TrimBlanks(words[at:]), -1
	}
	n := len(d.lines) // a line is large, so it is made in its place
	d.lines = append(d.lines, Line{})
	l := &d.lines[n]
	l.Text, l.Time, l.Wire, l.Cut = words, now, wire, cut
	l.blank, l.num, l.start, l.stop, l.end = int32(blank), d.count, start, d.rawAt+int64(to), d.rawAt+int64(next)
	d.count++
	if d.isNumber(l, lead, next) {
		return
	}
	if taken := d.classify(l); taken {
		d.lines = d.lines[:n]
	}
}

// file puts a prompt into the inbox, where it ends an open exchange, or the text before one.
func (d *Dialog) file(l Line) {
	l.num = d.count
	d.count++
	d.lines = append(d.lines, l)
	if d.exchange.open && l.class == prompt {
		d.end(l.num)
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

// full is a line that no call has taken with the blanks at both its ends.
func (d *Dialog) full(l *Line) []byte {
	if l.start < d.rawAt {
		return l.Text
	}
	return text.Terminal(d.raw[l.start-d.rawAt : l.stop-d.rawAt])
}

// clean removes colours and the blanks and NULs at both ends.
func clean(line []byte) []byte { return bytes.Trim(text.Plain(line), " \t\x00") }
