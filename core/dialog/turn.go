package dialog

import (
	"bytes"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"uparrot/core/phrasebook"
	"uparrot/core/text"
)

// What comes is newer than what was done before it. A wait takes no line that is older than the last act at
// its port, nor than the first act anywhere since something was last heard there; and no bytes from before
// the line said last. What is older stays in the inbox, for whoever asks for it.

// turn is where what comes begins to be newer than what was done last.
type turn struct {
	from    int64  // lines, by number
	banner  int64  // the same of banners: Enter alone does not move it
	at      int64  // bytes, by their place in the stream
	acted   bool   // something was done since something was heard here
	answers []span // to lines said earlier, and echoes, by their place in the stream
}

// span is a part of the stream.
type span struct {
	from, to int64
	echo     bool
}

// forget drops what lies before a place in the stream.
func (t *turn) forget(to int64) {
	n := 0
	for n < len(t.answers) && t.answers[n].to <= to {
		n++
	}
	t.answers = append(t.answers[:0], t.answers[n:]...)
}

// leave keeps a part of the stream out of waits for bytes.
func (t *turn) leave(from, to int64, echo bool) {
	if from < to {
		t.answers = slices.DeleteFunc(t.answers, func(s span) bool { return s.from >= from && s.to <= to }) // they are within it
		t.answers = append(t.answers, span{from, to, echo})
	}
}

// Act notes that something is done: here, or elsewhere. What has come by then is older.
func (d *Dialog) Act(here bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if here || !d.turn.acted {
		d.begin(true)
	}
}

// begin has what comes from here on be newer than what was done. The beginning of a line that came before
// makes the line older, unless it stands there as a prompt does.
func (d *Dialog) begin(banners bool) {
	t := &d.turn
	t.acted, t.at, t.from = true, d.rawAt+int64(len(d.raw)), d.count
	if front := clean(d.raw[max(0, int(d.partial-d.rawAt)):]); d.cfg.Dialect != phrasebook.Bytes && len(front) > 0 && !d.asPrompt(front) {
		t.from++
	}
	if banners {
		t.banner = t.from
	}
}

// asPrompt reports whether text without a line end looks like a prompt.
func (d *Dialog) asPrompt(front []byte) bool {
	if bytes.IndexFunc(front, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }) < 0 {
		return true
	}
	last, _ := utf8.DecodeLastRune(front)
	return strings.ContainsRune(":>?#$%]", last) || d.isPrompt(front)
}

// older reports whether a line is older than what was done last.
func (d *Dialog) older(l *Line) bool {
	switch {
	case l.banner:
		return l.num < d.turn.banner
	case l.class == echo && d.exchange.line > 0: // that of the line said last stands before its answer
		return l.num < d.exchange.first
	}
	return l.num < d.turn.from
}

// undecided reports whether it is not known yet what a line is: it may be an answer to what was said earlier,
// since the echo that must come before the answer has not come, or a result as a number.
func (d *Dialog) undecided(l *Line) bool {
	return d.awaiting() && l.class != notice && !l.banner && l.num >= d.exchange.first || d.number.text != "" && l.num == d.number.line
}

// mayTake reports whether a wait may take a line now.
func (d *Dialog) mayTake(w *Wait, l *Line) bool {
	return (w.Earlier || !d.older(l)) && !d.undecided(l) && !(l.stale && l.class == echo)
}

// parts are the parts of the stream that a wait for bytes looks at, the earliest first: what is no echo and
// no answer to what was said earlier. Unless earlier is set they begin with the line said last.
func (d *Dialog) parts(earlier, echoes bool) []span {
	if d.awaiting() && !earlier {
		return nil
	}
	from, end := d.rawAt, d.rawAt+int64(len(d.raw))
	if !earlier {
		from = max(from, d.turn.at)
	}
	if !echoes {
		end = min(end, d.coming())
	}
	return d.turn.between(from, end, echoes)
}

// seen are the parts of the stream that no answer to what was said earlier lies in.
func (d *Dialog) seen() []span { return d.turn.between(d.rawAt, d.rawAt+int64(len(d.raw)), false) }

// between are the parts of a stretch in which no answer lies, nor, unless echoes are wanted, an echo.
func (t *turn) between(from, end int64, echoes bool) (all []span) {
	for _, s := range t.answers {
		if s.echo && echoes {
			continue
		}
		if to := min(s.from, end); to > from {
			all = append(all, span{from: from, to: to})
		}
		from = max(from, s.to)
	}
	if from < end {
		all = append(all, span{from: from, to: end})
	}
	return all
}

// coming is where an echo may begin that is still coming, or has come without a line end; else the end of
// the stream.
func (d *Dialog) coming() int64 {
	end := d.rawAt + int64(len(d.raw))
	if d.cfg.Dialect == phrasebook.Bytes || len(d.echo.owed) == 0 && d.echo.typed == "" || time.Since(d.lastCame) >= echoSilence {
		return end
	}
	from := max(d.partial, d.rawAt)
	line := strings.TrimLeft(string(text.Terminal(d.raw[from-d.rawAt:])), " \t")
	if line == "" {
		return end
	}
	for _, o := range append(d.echo.owed[:len(d.echo.owed):len(d.echo.owed)], owed{text: d.echo.typed}) {
		if strings.HasPrefix(o.text, line) {
			return from
		}
	}
	return end
}
