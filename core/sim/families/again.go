package families

import (
	"bytes"
	"time"

	"uparrot/core/record/conversation"
	"uparrot/core/sim"
	"uparrot/core/text"
)

// again answers as a module did in a recorded conversation, with its times. What
// is said decides: the next turn of the record that begins so is answered, first
// among those still to come, then among all.
type again struct {
	*sim.Unit
	bench *sim.Bench
	talk  *conversation.Talk
	next  int    // the turn that comes next in the record
	typed []byte // heard, and no turn yet
	ends  text.Ends
	busy  time.Time // with the answer before, until then
}

func newAgain(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	a := &again{Unit: u, bench: b, talk: u.Again}
	a.Power(time.Now(), true)
	return a, nil
}

// power begins the record anew.
func (a *again) Power(at time.Time, on bool) {
	a.next, a.typed = 0, nil
	if on {
		a.SetLine(a.talk.Line)
		a.play(at, 0, a.talk.First)
	}
}

// longestTyped is how much that fits nowhere is kept.
const longestTyped = 64 << 10

func (a *again) Heard(at time.Time, b []byte) {
	for _, c := range b {
		part := a.ends.Take(c)
		if part == text.Second && len(a.typed) == 0 {
			continue // it belongs to the CR before
		}
		if a.typed = append(a.typed, c); len(a.typed) > longestTyped {
			a.typed = a.typed[1:]
		}
		line := part != text.Inside
		if i := a.find(line); i >= 0 {
			a.typed = nil
			a.next = i + 1
			turn := a.talk.Turns[i]
			a.Say(at, string(turn.Echo))
			a.play(at, a.CurrentLine().Time(len(turn.Said)), turn.Heard)
		} else if line {
			a.strange(text.Trim(a.typed))
			a.typed = nil
		}
	}
}

// find is the turn that was said so, or -1. A line may end otherwise than it did.
func (a *again) find(line bool) int {
	turns := a.talk.Turns
	words := string(text.Trim(a.typed))
	for n := range turns {
		i := (a.next + n) % len(turns)
		t := turns[i]
		switch {
		case t.Ending && line && words == t.Text():
			return i
		case !t.Ending && bytes.Equal(a.typed, t.Said) && i == a.next: // bytes count only in their place
			return i
		}
	}
	return -1
}

// sameAnswer is how soon a piece follows another where both are of one answer.
const sameAnswer = 50 * time.Millisecond

// play sends what came then, at the times at which it came: those are of reading,
// when the line had carried it, and of saying, before it had.
func (a *again) play(at time.Time, said time.Duration, heard []conversation.Heard) {
	line := a.CurrentLine()
	if at.Before(a.busy) { // a module answers one thing after the other
		at = a.busy
	}
	a.busy = at
	answering := true
	soonest := time.Duration(0) // a long piece begins long before it has come, but not before the one ahead of it
	for i, h := range heard {
		after := max(soonest, h.After-said-line.Time(len(h.Bytes)))
		soonest = after + time.Microsecond
		if h.Line != nil { // the module changed as soon as its answer was out, the host later
			line = *h.Line
			to := line
			if after = soonest; i > 0 {
				after = max(soonest, heard[i-1].After-said+2*time.Millisecond)
			}
			soonest = after + time.Microsecond
			a.bench.Later(a.Unit, at.Add(after), func(time.Time) { a.SetLine(to) })
			continue
		}
		a.bench.Later(a.Unit, at.Add(after), func(at time.Time) { a.Send(at, h.Bytes) })
		if answering = answering && (i == 0 || h.After-heard[i-1].After < sameAnswer); answering {
			a.busy = at.Add(after + line.Time(len(h.Bytes)))
		}
	}
}

// strange tells of what the record does not know.
func (a *again) strange(words []byte) {
	if len(words) > 0 {
		a.bench.Strange(a.Name, string(words))
	}
}
