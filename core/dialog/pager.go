package dialog

import (
	"context"
	"time"

	"uparrot/core/text"
)

// findPager looks for a pager at the end of what has come. It is taken out of what is
// heard, and answered.
func (d *Dialog) findPager(now time.Time) bool {
	words := d.unended()
	if len(d.pagers) == 0 || len(words) == 0 || text.Unfinished(words) || placeOf(d.pagers, words) < 0 {
		return false
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

// erased is what follows a pager without the bytes by which the module wipes it out:
// it goes back over it with BS, or to the line's beginning with CR, which ends a line
// by itself, and writes blanks or a control sequence of ECMA-48 (ED, EL).
func erased(b []byte) []byte { return b[len(wiping().Find(b)):] }

var wiping = text.Regexp(`^(?:\x08+ *\x08*| +\x08+|\x1b\[[0-9;]*[JK])+`)
