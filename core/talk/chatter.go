package talk

import (
	"strings"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/text"
)

// Fold is one kind of line that a module says by itself again and again: a notice that the
// phrasebook knows, or lines that differ in their numbers alone.
type Fold struct {
	Text    string // the latest
	Before  string // the one before; "" if there was none
	Time    time.Time
	Count   int
	Changes int // how often it was another than the one before
}

// foldAfter is how many lines alike, none of them in an answer, are taken for chatter;
// mostShapes bounds how many kinds of line are remembered for that.
const (
	foldAfter  = 3
	mostShapes = 500
	mostFolds  = 200
)

// Folds sorts out what a module says by itself.
type Folds struct {
	Notices []*pattern.Pattern // that the phrasebook knows
	List    []*Fold            // in the order in which they came first

	byNotice map[int]*Fold
	byShape  map[string]*Fold // with less than foldAfter lines they are not in List
}

// take sorts one line that came, and returns its fold if it is chatter.
func (f *Folds) take(at time.Time, line string, answer bool) *Fold {
	for i, n := range f.Notices {
		if _, ok := n.Match([]byte(line)); ok {
			if f.byNotice == nil {
				f.byNotice = map[int]*Fold{}
			}
			if f.byNotice[i] == nil {
				f.byNotice[i] = &Fold{}
				f.List = append(f.List, f.byNotice[i])
			}
			f.byNotice[i].add(at, line)
			return f.byNotice[i]
		}
	}
	key := shape(line)
	fold := f.byShape[key]
	if fold == nil && answer || key == "" {
		return nil
	}
	if fold == nil {
		if len(f.byShape) >= mostShapes || f.byShape == nil {
			f.forget()
		}
		fold = &Fold{}
		f.byShape[key] = fold
	}
	if answer && fold.Count < foldAfter {
		return nil
	}
	if fold.add(at, line); fold.Count < foldAfter {
		return nil
	}
	if fold.Count == foldAfter && len(f.List) < mostFolds {
		f.List = append(f.List, fold)
	}
	return fold
}

// forget leaves of the kinds of line those that are chatter.
func (f *Folds) forget() {
	kept := map[string]*Fold{}
	for key, fold := range f.byShape {
		if fold.Count >= foldAfter && len(kept) < mostFolds {
			kept[key] = fold
		}
	}
	f.byShape = kept
}

func (f *Fold) add(at time.Time, line string) {
	if f.Before = f.Text; f.Count > 0 && f.Text != line {
		f.Changes++
	}
	f.Text, f.Time = line, at
	f.Count++
}

// Same reports whether the latest is what the one before was.
func (f *Fold) Same() bool { return f.Count > 1 && f.Text == f.Before }

// Changed is where the latest differs from the one before: from its first to its last byte
// that does; from is to if nothing does.
func (f *Fold) Changed() (from, to int) {
	if f.Count < 2 || f.Text == f.Before {
		return 0, 0
	}
	a, b := f.Text, f.Before
	for from < len(a) && from < len(b) && a[from] == b[from] {
		from++
	}
	to = len(a)
	for n := len(b); to > from && n > from && a[to-1] == b[n-1]; n-- {
		to--
	}
	return from, to
}

// shape is a line with its numbers left out.
func shape(line string) string {
	var b strings.Builder
	digits := false
	for _, r := range line {
		if r >= '0' && r <= '9' {
			if !digits {
				b.WriteByte('#')
			}
			digits = true
			continue
		}
		if digits && (r == '.' || r == ',') { // of a number, mostly
			continue
		}
		if r != '-' && r != '+' { // a sign comes and goes
			b.WriteRune(r)
		}
		digits = false
	}
	return b.String()
}

// Unreadable counts how much of what came is no text.
type Unreadable struct {
	all, odd float64
}

// unreadableFor is over how many bytes the share is taken, about.
const unreadableFor = 200

// Take takes bytes that came.
func (u *Unreadable) Take(b []byte) {
	for _, r := range string(text.Plain(b)) {
		const fades = 1 - 1.0/unreadableFor
		u.all, u.odd = u.all*fades+1, u.odd*fades
		if r == 0xfffd || r < ' ' && r != '\r' && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 {
			u.odd++
		}
	}
}

// Much reports whether so much is no text that the speed or the frame may be wrong.
func (u *Unreadable) Much() bool { return u.all > 6 && u.odd/u.all > 0.25 }
