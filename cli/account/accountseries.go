package account

import (
	"fmt"
	"strings"

	"uparrot/cli/shell"
	"uparrot/core/record"
	"uparrot/core/series"
	"uparrot/core/verdict"
)

// How many rounds of a repetition an account tells in full, and of the others how many at
// most in which a value was not within its limits.
const (
	roundsTold  = 3
	outsideTold = 10
)

// folding keeps a repetition from filling the screen: its first rounds are told, those with
// a value outside its limits, the last, and the one in which it failed.
type folding struct {
	number  int      // of the round, 0 outside
	held    []string // lines of this round; of the first ones none are held
	last    []string // ... of the last one that was not told
	skipped int
	outside int // told because of a value
	shown   int // readings that were told in this round
	missed  int // readings that were not told, of a watch
	ofLast  int // ... of the last round that was not told
}

// line tells a line, now or where its round is to be told.
func (a *Run) line(format string, values ...any) {
	if a.fold.number > roundsTold {
		a.fold.held = append(a.fold.held, fmt.Sprintf(format, values...))
		return
	}
	a.Err.Line(format, values...)
}

// before ends what is held where something comes that must be seen.
func (f *folding) before(a *Run, e record.Event) {
	if f.number > 0 && e.Verdict != "" && (e.Kind == record.Step || e.Kind == record.Try) { // it did not come to its end
		held := f.held
		f.number, f.held = 0, nil
		f.more(a)
		tellAll(a, held)
		*f = folding{}
	}
}

// round takes in that a round begins, or that there are no more.
func (a *Run) round(e record.Event) {
	mark, ok := e.Value.(record.RoundMark)
	if !ok {
		return
	}
	f := &a.fold
	held, told, rest := f.held, f.number <= roundsTold, max(0, mark.Readings-f.shown)
	f.number, f.held, f.shown = 0, nil, 0
	switch {
	case told:
		f.missed += rest
	case mark.Outside && f.outside < outsideTold:
		f.outside++
		f.more(a)
		tellAll(a, held)
		f.missed += rest
	default:
		f.skipped, f.last, f.ofLast = f.skipped+1, held, mark.Readings-rest
		f.missed += mark.Readings
	}
	if !mark.Over {
		f.number = mark.Number
		return
	}
	if last := f.last; f.skipped > 0 {
		f.skipped--
		f.missed -= f.ofLast
		f.more(a)
		tellAll(a, last)
	}
	f.more(a)
	*f = folding{}
}

// more tells how many rounds were not told.
func (f *folding) more(a *Run) {
	if n := max(f.skipped, f.missed); n > 0 {
		a.Err.Line("   %s", a.Err.Faint("... "+shell.Count(n, "time")+" more like that"))
	}
	f.skipped, f.missed = 0, 0
}

func tellAll(a *Run, lines []string) {
	for _, l := range lines {
		a.Err.Line("%s", l)
	}
}

// runningSeries is a series of the step as it goes on.
type runningSeries struct {
	record.SeriesBegins
	series.Series
	text string
}

func (a *Run) seriesBegins(e record.Event) {
	if b, ok := e.Value.(record.SeriesBegins); ok {
		a.running = append(a.running, &runningSeries{SeriesBegins: b})
	}
}

// samples draws the line that shows how the values of the step stand.
func (a *Run) samples(e record.Event) {
	s, ok := e.Value.(record.Samples)
	if !ok || !a.Err.Terminal {
		return
	}
	var parts []string
	for _, r := range a.running {
		if r.Number == s.Series {
			r.take(s)
		}
		if r.N() > 0 {
			parts = append(parts, r.words())
		}
	}
	a.Err.Draw("   %s", shell.OneLine(strings.Join(parts, "   ")))
}

// take takes samples in.
func (r *runningSeries) take(s record.Samples) {
	out := 0
	for i, at := range s.At {
		outside := out < len(s.Outside) && s.Outside[out] == i
		if outside {
			out++
		}
		if s.Texts != nil {
			r.AddText(at, s.Texts[i])
			r.text = s.Texts[i]
			continue
		}
		r.Add(at, s.Values[i], outside)
	}
}

// words are the latest value, and what all came to.
func (r *runningSeries) words() string {
	s := r.Summary()
	if s.Texts > 0 {
		return fmt.Sprintf("%s: %s (%d)", r.What, shell.Clip(r.text), s.N)
	}
	words := fmt.Sprintf("%s: %s (%d: %s to %s", r.What, record.WithUnit(s.Last.String(), r.Unit), s.N, record.Short(float64(s.Least)), record.Short(float64(s.Greatest)))
	if s.Outside > 0 {
		words += fmt.Sprintf(", %d outside", s.Outside)
	}
	return words + ")"
}

// limit tells a value that was held against limits, or that was kept without any.
func (a *Run) limit(e record.Event) {
	r, ok := e.Value.(record.Measurement)
	if !ok {
		return
	}
	shown := ShownMeasured(r)
	if !r.Judged() {
		a.line("   note   %s: %s", shell.Safe(r.What), shown)
		return
	}
	text := fmt.Sprintf("   limit  %s: %s, wanted %s", shell.Safe(r.What), shown, r.Wanted())
	if r.Verdict != verdict.Passed {
		text += "  " + a.Err.Verdict(r.Verdict, 0)
	}
	a.line("%s", text)
}
