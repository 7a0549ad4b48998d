package dialog

import "context"

// Lines takes all whole lines that have come, notices too, and waits where there are none:
// for who reads everything that a module tells. Echoes and prompts are left out. The lines are appended to into. A refusal of what was said is returned as *Refused
// with the lines before it; other errors are the port's own, or ctx's.
func (d *Dialog) Lines(ctx context.Context, into []Line) ([]Line, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for {
		into = d.takeAll(into)
		if err := d.refused(); err != nil || len(into) > 0 {
			return into, err
		}
		if _, err := d.wait(ctx, nil); err != nil {
			return into, err
		}
	}
}

// takeAll empties the inbox.
func (d *Dialog) takeAll(into []Line) []Line {
	if len(d.lines) == 0 {
		return into
	}
	to := int64(0)
	for i := range d.lines {
		l := &d.lines[i]
		to = max(to, l.end)
		if l.ends = l.num == d.exchange.last && d.exchange.begun; l.ends {
			d.exchange.heard = true
		}
		if (l.class == plain || l.class == notice) && !(l.num == d.exchange.refusal && d.exchange.refused != "") {
			into = append(into, *l)
		}
	}
	d.lines = d.lines[:0]
	if d.partial >= to {
		d.forget(to)
	}
	return into
}

// refused is a refusal that no call has taken.
func (d *Dialog) refused() error {
	if d.exchange.refused == "" {
		return nil
	}
	return d.refusal()
}

// Dropped is how many lines, or in dialect bytes pieces, have fallen out of a full inbox.
func (d *Dialog) Dropped() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.dropped
}

// Ends reports whether the line is the end of an answer.
func (l Line) Ends() bool { return l.ends }

// Answer is the line without an echo at its front that it may have.
func (l Line) Answer() []byte {
	if l.echoed > 0 {
		return l.answer()
	}
	return l.Text
}

// Answering reports whether the answer to the line last said goes on.
func (d *Dialog) Answering() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.exchange.open
}
