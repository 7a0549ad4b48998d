package dialog

import (
	"bytes"
	"time"
	"unicode"
	"unicode/utf8"

	"uparrot/core/pattern"
	"uparrot/core/text"
)

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

// looksLikePrompt is what stands at the end of what has come as a prompt does, and is none that is known, where
// prompts end answers; else "".
func (d *Dialog) looksLikePrompt() string {
	b := clean(d.unended())
	if !d.byPrompt || len(b) == 0 || !d.asPrompt(b) || d.isPrompt(b) || len(b) > 80 {
		return ""
	}
	return string(b)
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

// drawn is the line of a terminal on which the cursor stands: since the last LF, whatever CR ended meanwhile.
func (d *Dialog) drawn() []byte {
	b := d.raw[max(0, len(d.raw)-longestPrompt):]
	return b[bytes.LastIndexByte(b, '\n')+1:]
}

// promptBehind is the prompt that stands at the end of a line behind other text, and how many bytes stand
// before it; -1 if there is none. It must have a letter, and stand behind a blank, a bracket or a colour
// sequence.
func (d *Dialog) promptBehind(words []byte) (which, front int) {
	plain, at := text.PlainAt(words)
	for i, tried := len(plain)-1, 0; i > 0 && tried < mostBehind; i-- {
		place := i
		if at != nil {
			place = at[i]
		}
		coloured := at != nil && at[i] != at[i-1]+1
		if !coloured && !bytes.ContainsAny(plain[i-1:i], " \t])}>") || bytes.ContainsAny(plain[i:i+1], " \t") {
			continue
		}
		tried++
		if bytes.IndexFunc(plain[i:], unicode.IsLetter) < 0 {
			continue
		}
		if which := d.promptOf(plain[i:]); which >= 0 {
			return which, place
		}
	}
	return -1, 0
}

// mostBehind is at how many places of a line such a prompt is looked for.
const mostBehind = 12

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

// A prompt has no line end, and text that a module prints may begin just like one. So
// what looks like a prompt is one only once nothing has followed it for a while: how
// the bytes happened to be cut into pieces must not matter.
const (
	wordGrace   = 20 * time.Millisecond  // for a prompt with a word in it, such as tower#
	markGrace   = 50 * time.Millisecond  // for one without, such as #
	behindGrace = 500 * time.Millisecond // for one that stands behind other text
	echoGrace   = 500 * time.Millisecond // before the echo of what was said: it may be the prompt of before, shown again
)

// candidate is what looks like a prompt at the end of what has come.
type candidate struct {
	end   int64 // offset in the stream behind it; 0 if there is none
	which int   // its place among the prompts
	front int   // bytes of text before it on its line
	timer *time.Timer
}

// findPrompt looks for a prompt at the end of what has come.
func (d *Dialog) findPrompt() {
	words := d.unended()
	if len(d.prompts) == 0 || len(words) == 0 || text.Unfinished(words) {
		return
	}
	which, front := d.promptOf(words), 0
	if which < 0 {
		which = d.promptOf(text.Terminal(d.drawn()))
	}
	if which < 0 {
		if which, front = d.promptBehind(words); which < 0 {
			return
		}
	}
	grace := markGrace
	switch {
	case front > 0:
		grace = behindGrace
	case d.exchange.open && d.awaiting():
		grace = echoGrace
	case d.prompts[which].HasWord():
		grace = wordGrace
	}
	end := d.rawAt + int64(len(d.raw))
	d.candidate = candidate{end: end, which: which, front: front, timer: time.AfterFunc(grace, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.candidate.end == end {
			d.promptShown()
			d.wake()
		}
	})}
}

// noPrompt gives up the candidate: something has followed it.
func (d *Dialog) noPrompt() {
	if d.candidate.end > 0 {
		d.candidate.timer.Stop()
		d.candidate = candidate{}
	}
}

// promptShown takes the candidate, if there is one, for a prompt. It is filed as a line
// of its own and ends an open exchange.
func (d *Dialog) promptShown() {
	c := d.candidate
	if d.noPrompt(); c.end == 0 {
		return
	}
	d.echoStops() // where one is awaited, it has been so for long enough
	words := d.unended()
	if c.front > 0 { // what stands before it is a line
		if front := clean(words[:c.front]); len(front) > 0 && len(d.taken) == 0 {
			d.file(Line{Time: d.lastCame, Text: d.keep(front), start: d.partial, stop: d.partial + int64(c.front), end: d.partial + int64(c.front)})
		}
		words = words[c.front:]
	}
	shown := d.keep(clean(words))
	l := Line{Time: d.lastCame, Wire: d.lead + int(c.end-d.partial), class: prompt, Text: shown, start: d.partial, stop: c.end, end: c.end}
	d.partial, d.lead, d.blank, d.wants, d.ends, d.taken = c.end, 0, 0, 0, text.Ends{}, d.taken[:0]
	d.shown, d.latest, d.prompted = c.which, c.which, string(shown)
	d.file(l)
}
