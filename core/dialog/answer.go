package dialog

import (
	"bytes"
	"context"
	"strings"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/text"
)

// Answer says how long the answer to what was said last is waited for.
type Answer struct {
	Within time.Duration // for its end, or where nothing tells that for its first byte
	Rest   time.Duration // where nothing tells its end: so long nothing more must come; 0 adapts to the module
}

// How is how the wait for an answer ended.
type How int

// The ends of such a wait.
const (
	Nothing  How = iota // nothing came but an echo
	Unended             // something came, and went on, or its end did not come
	Rested              // something came, and then nothing more: nothing tells its end
	Question            // the module asks for something: what is said next answers it
	Finished            // its end came: a final result, a prompt or a refusal
)

// Came reports whether there was an answer, as far as can be told.
func (h How) Came() bool { return h >= Rested }

// The rest that adapts: what it is at first, its bounds, how much longer than the longest
// gap within an answer so far, and after how many answers that is trusted.
const (
	firstRest  = 300 * time.Millisecond
	leastRest  = 100 * time.Millisecond
	mostRest   = 2 * time.Second
	restByGap  = 4
	enoughSeen = 3
)

// rests is what is known of how a module pauses.
type rests struct {
	longest time.Duration // gap within an answer
	answers int
}

// now is how long nothing must come.
func (r *rests) now() time.Duration {
	least := firstRest
	if r.answers >= enoughSeen {
		least = leastRest
	}
	return min(mostRest, max(least, restByGap*r.longest))
}

// questionRest is how long nothing must follow what looks like a question, where the end
// of an answer would be something else.
const questionRest = 300 * time.Millisecond

// LongestAnswer is how many times the limit an answer may take that keeps coming.
const LongestAnswer = 12

// Answered waits for the answer to what was said last: for its end where answers have one,
// or a question; else for its first byte that is no echo, and then for a rest. What a
// module sends by itself is no part of it. The error is that of the port or of ctx.
func (d *Dialog) Answered(ctx context.Context, a Answer) (How, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.pauseQuiet(ctx); err != nil {
		return Nothing, err
	}
	if d.lastWent.IsZero() { // nothing was said
		return Finished, nil
	}
	last := d.spoken
	for {
		if d.spoken.After(last) && !last.Before(d.lastWent) && d.begun() {
			d.rests.longest = max(d.rests.longest, d.spoken.Sub(last))
		}
		last = d.spoken
		how, at := d.answer(a)
		if how == Finished || !time.Now().Before(at) {
			if d.candidate.end > 0 { // it has stood there long enough
				d.promptShown()
				continue
			}
			if how.Came() {
				d.rests.answers++
				d.mute = !d.repeated()
			}
			return how, nil
		}
		if _, err := d.waitTo(ctx, nil, at); err != nil {
			return how, err
		}
	}
}

// answer is how the answer stands if nothing more comes, and when that is sure.
func (d *Dialog) answer(a Answer) (How, time.Time) {
	most := d.lastWent.Add(LongestAnswer * a.Within)
	limit := later(d.lastWent, d.spoken).Add(a.Within)
	begun, held := d.begun(), d.exchange.begun && !d.aside
	rest := a.Rest
	if rest == 0 {
		rest = d.rests.now()
	}
	switch {
	case held && !d.exchange.open, d.aside && d.result():
		return Finished, time.Time{}
	case begun && !d.spoken.Add(min(rest, a.Within)).Before(most), held && begun && !limit.Before(most):
		return Unended, most
	case begun && d.asks():
		return Question, d.spoken.Add(max(rest, questionRest))
	case held && begun:
		return Unended, limit
	case begun:
		return Rested, d.spoken.Add(rest)
	}
	return Nothing, d.lastWent.Add(a.Within)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Repeated reports whether what was said last has been repeated.
func (d *Dialog) Repeated() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.repeated()
}

func (d *Dialog) repeated() bool {
	for i := d.since(d.wentLine); i < len(d.lines); i++ {
		if d.lines[i].class == echo || d.lines[i].echoed > 0 {
			return true
		}
	}
	return false
}

// begun reports whether anything has come since the last words went out, beside their echo
// and what the module sends by itself.
func (d *Dialog) begun() bool {
	if !d.spokeSince {
		return false
	}
	for i := d.since(d.wentLine); i < len(d.lines); i++ {
		if c := d.lines[i].class; c == plain || c == prompt || c == echo && d.mute {
			return true
		}
	}
	rest := d.raw[max(int(d.partial-d.rawAt), 0):]
	if d.cfg.Dialect == phrasebook.Bytes {
		rest = d.raw
	}
	came := string(clean(rest))
	return came != "" && !strings.HasPrefix(d.echoOf(), came)
}

// asks reports whether what has come ends with a question: text without a line end whose
// last mark is one that asks.
func (d *Dialog) asks() bool {
	b := bytes.TrimRight(text.Plain(d.unended()), " \t")
	return isQuestion(b) && !strings.HasPrefix(d.echoOf(), string(clean(b)))
}

// isQuestion reports whether text ends as a question does.
func isQuestion(b []byte) bool {
	b = bytes.TrimRight(text.Plain(b), " \t")
	return len(b) > 0 && (bytes.IndexByte([]byte(":?>"), b[len(b)-1]) >= 0 || choice().Match(b))
}

// choice is the end of a question that names what may be answered, such as [y/n].
var choice = text.Regexp(`[\[(]\w+(?:/\w+)+[\])]$`)

// result reports whether a final result has come since the last words went out, which
// opened no exchange, as the end of a text message does.
func (d *Dialog) result() bool {
	for i := d.since(d.wentLine); i < len(d.lines); i++ {
		found := false
		d.set.Match(d.lines[i].Text, func(i int, _ []pattern.Capture) bool {
			found = i < d.finals
			return !found
		})
		if found {
			return true
		}
	}
	return false
}

// speaks reports whether what has just come, the lines from a number on and what follows
// them, is more than what a module sends by itself.
func (d *Dialog) speaks(from int64) bool {
	for i := d.since(from); i < len(d.lines); i++ {
		if d.lines[i].class != notice {
			return true
		}
	}
	return d.cfg.Dialect == phrasebook.Bytes || int(d.partial-d.rawAt) < len(d.raw)
}
