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
	held    []dialogueLine
	last    []dialogueLine
	skipped int
	heard   int // lines that were heard in this round
	missed  int // ... in the rounds that are not shown, of a watch
	ofLast  int // ... of the last of them
	outside int
}

// roundWord is the word of a line that tells of a round and is not shown itself.
const roundWord = string(record.Round)

// line takes a line of the dialogue.
func (f *folded) line(l dialogueLine) error {
	if l.Word == "heard" {
		f.heard++
	}
	switch {
	case l.Word == roundWord:
		return f.round(l)
	case f.number > 0 && l.Verdict != "" && (l.Word == string(record.Step) || l.Word == string(record.Try)): // it did not come to its end
		if err := f.cut(l); err != nil {
			return err
		}
	case f.number > roundsShown && len(f.held) < mostHeld:
		f.held = append(f.held, l)
		return nil
	case f.number > roundsShown:
		return nil // of a round that long the rest is in the whole dialogue
	}
	return f.emit(l)
}

// cut ends a repetition in the middle of a round.
func (f *folded) cut(at dialogueLine) error {
	held := f.held
	if err := f.more(at, held); err != nil {
		return err
	}
	*f = folded{emit: f.emit}
	return f.all(held)
}

func (f *folded) round(l dialogueLine) error {
	held := f.held
	if f.number > roundsShown {
		if l.Verdict == verdict.Failed && f.outside < outsideShown {
			f.outside++
			if err := f.more(l, held); err != nil {
				return err
			}
			if err := f.all(held); err != nil {
				return err
			}
		} else {
			f.skipped, f.last, f.ofLast = f.skipped+1, held, 0
			if l.Readings > 0 { // what came while it asked for nothing
				f.ofLast = f.heard
			}
			f.missed += f.ofLast
		}
	}
	f.number, f.held, f.heard = l.Round, nil, 0
	if l.Round > 0 {
		return nil
	}
	last := f.last
	if f.skipped > 0 {
		f.skipped--
		f.missed -= f.ofLast
		if err := f.more(l, last); err != nil {
			return err
		}
		if err := f.all(last); err != nil {
			return err
		}
	}
	*f = folded{emit: f.emit}
	return nil
}

// more tells how many rounds are not shown, before the lines that are.
func (f *folded) more(at dialogueLine, next []dialogueLine) error {
	if len(next) > 0 {
		at = next[0]
	}
	n := max(f.skipped, f.missed)
	if f.skipped, f.missed = 0, 0; n == 0 {
		return nil
	}
	return f.emit(dialogueLine{Time: at.Time, Word: "folded", Text: fmt.Sprintf("%s more like that: the whole dialogue is in the report as text", text.Count(n, "time"))})
}

func (f *folded) all(lines []dialogueLine) error {
	for _, l := range lines {
		if err := f.emit(l); err != nil {
			return err
		}
	}
	return nil
}

// flush hands on what is held of a record that ends within a round.
func (f *folded) flush(at dialogueLine) error {
	if f.number == 0 {
		return nil
	}
	return f.cut(at)
}
