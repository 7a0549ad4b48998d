package dialog

import (
	"bytes"
	"context"
	"time"

	"uparrot/core/text"
)

// findPager looks for a pager at the end of what has come. It is taken out of what is
// heard, and answered.
func (d *Dialog) findPager(now time.Time) bool {
	words := d.unended()
	if len(d.pagers) == 0 || len(words) == 0 || text.Unfinished(words) {
		return false
	}
	front := 0 // bytes of text that it stands right behind
	if placeOf(d.pagers, words) < 0 {
		if front = d.pagerBehind(words); front == 0 || len(d.taken) > 0 {
			return false
		}
		from := int(d.partial - d.rawAt) // what stands before it is a line
		d.line(now, from, from+front, from+front, false)
	}
	d.raw, d.taken = d.raw[:max(0, d.partial-d.rawAt)], d.taken[:0]
	d.lead, d.blank, d.ends, d.erases = 0, 0, text.Ends{}, true
	answer := []byte(d.cfg.PagerAnswer)
	d.trace(now, Went, answer)
	go func() {
		// The reader must not wait for the module to take this. If the port has gone,
		// the reader meets that itself.
		_, _ = d.port.Write(context.Background(), answer)
	}()
	return true
}

// pagerBehind is how many bytes of text stand right before a pager, on its line; 0 if there is none.
func (d *Dialog) pagerBehind(words []byte) int {
	plain, at := text.PlainAt(words)
	plain = bytes.TrimRight(plain, " \t")
	for _, p := range d.pagers {
		said, ok := p.Literal()
		if n := len(plain) - len(said); ok && n > 0 && string(plain[n:]) == said {
			if at != nil {
				n = at[n]
			}
			return n
		}
	}
	return 0
}

// erased is what follows a pager without the bytes by which the module wipes it out:
// it goes back over it with BS, or to the line's beginning with CR, which ends a line
// by itself, and writes blanks or a control sequence of ECMA-48 (ED, EL).
func erased(b []byte) []byte { return b[len(wiping().Find(b)):] }

var wiping = text.Regexp(`^(?:\x08+ *\x08*| +\x08+|\x1b\[[0-9;]*[JK])+`)
