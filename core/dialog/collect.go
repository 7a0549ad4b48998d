package dialog

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/text"
)

// Until says what ends a Collect: the prompt, a line, bytes, or a time of quiet.
type Until struct {
	Prompt bool
	Line   *pattern.Pattern
	Bytes  *pattern.Pattern
	Quiet  time.Duration
}

func (u Until) String() string {
	switch {
	case u.Prompt:
		return "the prompt"
	case u.pattern() != nil:
		return u.pattern().String()
	}
	return fmt.Sprintf("%v of quiet", u.Quiet)
}

// pattern is what ends a Collect, if that is one.
func (u Until) pattern() *pattern.Pattern {
	if u.Line != nil {
		return u.Line
	}
	return u.Bytes
}

// ends reports whether a line is the one that ends a Collect.
func (u Until) ends(l Line) bool {
	if u.Line == nil {
		return false
	}
	_, ok := u.Line.Match(l.Text)
	return ok
}

// maxCollected is how many bytes Collect gathers at most.
const maxCollected = 16 << 20

// Collect gathers lines, from the first that no call has taken, until what u
// says. The line or the bytes that end it belong to the text, a prompt does not;
// notices and the echo of what was said do not either. Lines are as they came, empty
// ones between them and blanks at both ends included, but without colours. In dialect Bytes it gathers bytes as
// they are. Errors are those of Hear; with them comes what was gathered until then.
func (d *Dialog) Collect(ctx context.Context, u Until, within time.Duration) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	began := time.Now()
	limit := time.NewTimer(within)
	defer limit.Stop()
	g := gathering{Dialog: d, until: u, hold: longestBytes}
	if u.Bytes == nil {
		g.hold = 0
	}
	fail := func(err error) (string, error) {
		g.hold = 0
		g.gather()
		return g.String(), err
	}
	for late := false; ; {
		if g.gather() {
			return g.String(), nil
		}
		if g.Len() > maxCollected {
			return fail(fmt.Errorf("%s: more than %d MiB came without %v", d.port.Name(), maxCollected>>20, u))
		}
		if d.exchange.refused != "" {
			return fail(d.refusal())
		}
		at := time.Time{} // when it has been quiet for long enough
		if u.Quiet > 0 {
			since := began
			if d.lastCame.After(since) {
				since = d.lastCame
			}
			if at = since.Add(u.Quiet); !time.Now().Before(at) {
				return g.String(), nil
			}
			at = earlier(at, began.Add(within))
		}
		if late {
			if d.promptShown(); g.gather() {
				return g.String(), nil
			}
			m := d.missed(u.String(), u.Line, within, began)
			text, err := fail(m)
			if len(m.Heard) == 0 && text != "" {
				lines := strings.Split(text, "\n")
				m.Heard = lines[max(0, len(lines)-showLines):]
			}
			return text, err
		}
		over, err := d.waitTo(ctx, limit.C, at)
		if err != nil {
			return fail(err)
		}
		late = over && at.IsZero()
	}
}

// longestBytes is how much is held back for bytes that may have begun in it.
const longestBytes = 4 << 10

// gathering is a Collect under way.
type gathering struct {
	*Dialog
	bytes.Buffer
	until Until
	some  bool   // a line has been gathered, if only an empty one
	hold  int    // bytes at the end of the stream that are not gathered yet
	drawn []byte // lines that ended with CR alone, which what follows on the same line of a terminal may overwrite
	at    int    // where they begin in the buffer
}

// gather moves what has come out of the inbox and reports whether the end has come.
func (g *gathering) gather() (over bool) {
	d, end := g.Dialog, max(0, len(g.raw)-g.hold)
	if g.until.Bytes != nil {
		if start, e, _ := d.find(g.until.Bytes, d.parts(false, false)); start >= 0 {
			end, over = e, true
		}
	}
	if d.cfg.Dialect == phrasebook.Bytes {
		if from := max(0, int(d.turn.at-d.rawAt)); from < end {
			g.Write(d.raw[from:end])
		}
		d.forget(d.rawAt + int64(end))
		return over
	}
	if g.until.Bytes == nil {
		return g.lines(int64(math.MaxInt64))
	}
	to := d.rawAt + int64(end)
	g.lines(to)
	if !over {
		return false
	}
	from, blank, end := d.partial, int32(d.blank), int(to-d.rawAt)
	for _, l := range d.lines {
		if l.class == plain && !d.older(&l) && l.start >= 0 && l.start < min(to, from) {
			from, blank = l.start, l.blank
		}
	}
	if from < to && !d.isPrompt(d.raw[from-d.rawAt:end]) { // the line in which it ends
		g.line(text.Terminal(d.raw[max(0, from-d.rawAt):end]), blank)
	}
	for _, l := range d.takeBytes(end) {
		d.answered(l)
	}
	d.forget(to)
	return true
}

// line adds a line, and the empty ones before it.
func (g *gathering) line(b []byte, blank int32) {
	if g.some {
		g.WriteByte('\n')
		if g.cfg.Dialect != phrasebook.AT { // there they frame each line
			g.WriteString(strings.Repeat("\n", int(blank)))
		}
	}
	g.Write(b)
	g.some = true
}

// overwrite adds a line. Where those before it ended with CR alone and this one ends with LF, they are one
// line of a terminal, and what is written over others remains. A module that ends all its lines with CR
// alone never comes to an LF: each is a line.
func (g *gathering) overwrite(l *Line, full []byte) {
	raw, from, stop := g.raw, int(l.start-g.rawAt), int(l.stop-g.rawAt)
	if from < 0 || stop >= len(raw) {
		g.line(full, l.blank)
		g.drawn = nil
		return
	}
	if bytes.IndexByte(raw[:from], '\n') >= 0 {
		g.drawn = nil
	}
	if g.drawn == nil {
		g.at = g.Len()
	}
	started := g.drawn != nil
	g.drawn = append(g.drawn, raw[from:stop]...)
	ended := raw[stop] == '\n' || stop+1 < len(raw) && raw[stop+1] == '\n'
	if started && ended {
		g.Truncate(g.at)
		g.some = g.some && g.at > 0
		g.line(text.Terminal(g.drawn), 0)
	} else {
		g.line(full, l.blank)
	}
	if g.drawn = append(g.drawn, '\r'); ended {
		g.drawn = nil
	}
}

// lines moves whole lines that end before an offset.
func (g *gathering) lines(before int64) (over bool) {
	d := g.Dialog
	kept, stop := d.lines[:0], false // a refusal is left to be told
	for i := range d.lines {
		l := d.lines[i]
		stop = stop || l.num == d.exchange.refusal && d.exchange.refused != "" && !g.until.ends(l)
		if l.class == notice || over || stop || l.end > before || d.older(&l) || d.undecided(&l) {
			kept = append(kept, l)
			continue
		}
		d.answered(l)
		full := d.full(&l)
		switch l.class {
		case prompt:
			over = g.until.Prompt
		case plain:
			g.overwrite(&l, full)
			over = g.until.ends(l)
		}
		d.forget(l.end)
	}
	d.lines = kept
	return over
}
