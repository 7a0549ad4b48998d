package report

import (
	"fmt"

	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// How many rounds of a repetition a page shows before it folds them, how many with a value
// outside its limits it shows besides, and how many lines of one are kept until it is known
// what it was.
const (
	roundsShown  = 3
	outsideShown = 5
	mostHeld     = 2000
)

// folded hands on lines, of a repetition the first rounds, those with a value outside its
// limits, the last, and the one in which it failed; how many are missing it tells.
type folded struct {
	emit    func(dialogueLine) error
	number  int // of the round; 0 outside of any
	now     round
	last    round // of those that are not shown
	skipped int
	missed  int  // lines that were heard in the rounds that are not shown
	asksNot bool // it is a watch that asks for nothing: what counts is what was heard, whichever round it came in
	outside int
}

// round is what is kept of one, until it is known what it was.
type round struct {
	lines []dialogueLine
	more  int // lines that are not kept
	heard int // lines of it that were heard
}

// roundWord is the word of a line that tells of a round and is not shown itself.
const roundWord = string(record.Round)

// line takes a line of the dialogue.
func (f *folded) line(l dialogueLine) error {
	switch {
	case l.Word == roundWord:
		return f.round(l)
	case f.number > 0 && l.Verdict != "" && (l.Word == string(record.Step) || l.Word == string(record.Try)): // it did not come to its end
		if err := f.cut(l); err != nil {
			return err
		}
	case f.number > roundsShown:
		if l.Word == "heard" {
			f.now.heard++
		}
		if len(f.now.lines) < mostHeld {
			f.now.lines = append(f.now.lines, l)
		} else {
			f.now.more++
		}
		return nil
	}
	return f.emit(l)
}

// cut ends a repetition in the middle of a round.
func (f *folded) cut(at dialogueLine) error {
	if err := f.show(at, f.now); err != nil {
		return err
	}
	*f = folded{emit: f.emit}
	return nil
}

func (f *folded) round(l dialogueLine) error {
	f.asksNot = f.asksNot || l.Readings > 0
	if f.number > roundsShown {
		if l.Verdict == verdict.Failed && f.outside < outsideShown {
			f.outside++
			if err := f.show(l, f.now); err != nil {
				return err
			}
		} else if len(f.now.lines) > 0 {
			f.skipped, f.missed, f.last = f.skipped+1, f.missed+f.now.heard, f.now
		}
	}
	f.number, f.now = l.Round, round{}
	if l.Round > 0 {
		return nil
	}
	if f.skipped > 0 {
		f.skipped, f.missed = f.skipped-1, f.missed-f.last.heard
		if err := f.show(l, f.last); err != nil {
			return err
		}
	}
	*f = folded{emit: f.emit}
	return nil
}

// show tells how many rounds are not shown, and shows the one behind them.
func (f *folded) show(at dialogueLine, next round) error {
	if len(next.lines) > 0 {
		at = next.lines[0]
	}
	n := f.skipped
	if f.asksNot && f.missed > 0 {
		n = f.missed
	}
	f.skipped, f.missed = 0, 0
	if err := f.tell(at, n, "time"); err != nil {
		return err
	}
	for _, l := range next.lines {
		if err := f.emit(l); err != nil {
			return err
		}
		at = l
	}
	return f.tell(at, next.more, "line")
}

// tell says how much is not shown.
func (f *folded) tell(at dialogueLine, n int, what string) error {
	if n == 0 {
		return nil
	}
	return f.emit(dialogueLine{Time: at.Time, Word: "folded", Text: fmt.Sprintf("%s more like that: the whole dialogue is in the report as text", text.Count(n, what))})
}

// flush hands on what is held of a record that ends within a round.
func (f *folded) flush(at dialogueLine) error {
	if f.number == 0 {
		return nil
	}
	return f.cut(at)
}
