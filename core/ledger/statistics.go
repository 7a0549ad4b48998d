package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"uparrot/core/record"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// Trend is a measurement over units and time.
type Trend struct {
	What   string         `json:"what"`
	Unit   string         `json:"unit,omitempty"`
	N      int            `json:"n"`
	Units  int            `json:"units"`               // that it was measured at
	Judged int            `json:"judged"`              // of them, that were held against limits
	Failed int            `json:"failed"`              // outside their limits
	None   int            `json:"no_number,omitempty"` // not a number or infinite: they are in no statistic below
	Mean   record.Number  `json:"mean"`
	SD     *record.Number `json:"sd"` // standard deviation of the sample; null below 2 values
	Min    record.Number  `json:"min"`
	Max    record.Number  `json:"max"`
	Low    *float64       `json:"low,omitempty"` // the limits, if all values had the same
	High   *float64       `json:"high,omitempty"`
	Moved  bool           `json:"limits_moved,omitempty"` // they had not
	Ppk    *stats.Index   `json:"ppk,omitempty"`
	Cpk    *stats.Index   `json:"cpk,omitempty"`
	Means  bool           `json:"means_of_series,omitempty"` // they average values over time, so there is no capability
	Drift  *Drift         `json:"drift,omitempty"`
	Step   string         `json:"step,omitempty"` // in which it was measured, where that was one
	// Parts are the trends of each unit of measurement and each step, where there are several: what differs in these
	// is not one heap, and has no mean.
	Parts []Trend `json:"parts,omitempty"`

	Values []Value `json:"-"`
}

// Drift is by how much values change from the first to the last, by a line of least squares, with its 95 % interval.
// It is told for that time and no other: nothing is known of how it goes on.
type Drift struct {
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	OverS float64 `json:"over_s"` // from the first to the last, in seconds
}

// Shown reports whether the interval leaves out none.
func (d Drift) Shown() bool { return d.Low > 0 || d.High < 0 }

// EnoughForIndex is how many values an index should rest on. Below it the interval
// is so wide that the index says little.
const EnoughForIndex = 30

// NewTrend works out a trend from values in the order of time.
//
// Ppk is the distance from the mean to the nearer limit in units of three standard
// deviations of all values (ISO 22514-2, process performance). Cpk is the same
// with the standard deviation that neighbouring values show, the mean moving range
// over 1.128, so that a slow drift does not count (ISO 7870-2, individuals). Their
// interval is that of Bissell (1990): index ± 1.96 √(1/(9n) + index² v), v being half the
// relative variance of the standard deviation squared: 1/(2n−2) for Ppk, and
// (0.8264 n − 1.082)/(n − 1)² for the moving range, which has fewer degrees of freedom. Both
// suppose values spread as in a normal distribution.
func NewTrend(what string, values []Value) Trend {
	t := Trend{What: what, N: len(values), Values: values}
	if t.N == 0 {
		return t
	}
	type kind struct{ unit, step string }
	var kinds []kind
	by := map[kind][]Value{}
	for _, v := range values {
		k := kind{v.Unit, v.Step}
		if by[k] == nil {
			kinds = append(kinds, k)
		}
		by[k] = append(by[k], v)
	}
	if len(kinds) > 1 {
		units, none := map[string]bool{}, record.Number(math.NaN())
		for _, k := range kinds {
			part := NewTrend(what, by[k])
			t.Judged, t.Failed, t.None, t.Parts = t.Judged+part.Judged, t.Failed+part.Failed, t.None+part.None, append(t.Parts, part)
		}
		for _, v := range values {
			units[v.Run.Unit] = true
		}
		t.Units, t.Mean, t.Min, t.Max = len(units), none, none, none
		return t
	}
	t.Step = values[0].Step
	var xs, seconds []float64
	units := map[string]bool{}
	moving := 0.0
	least, most := math.Inf(1), math.Inf(-1)
	t.Unit, t.Low, t.High = values[0].Unit, values[0].Low, values[0].High
	for _, v := range values {
		units[v.Run.Unit] = true
		if v.Verdict != verdict.Measured {
			t.Judged++
		}
		if v.Verdict == verdict.Failed {
			t.Failed++
		}
		if !same(v.Low, t.Low) || !same(v.High, t.High) {
			t.Moved = true
		}
		if !v.Value.Finite() {
			t.None++
			continue
		}
		t.Means = t.Means || v.OfSeries
		xs, seconds = append(xs, float64(v.Value)), append(seconds, v.when().Sub(values[0].when()).Seconds())
		least, most = min(least, float64(v.Value)), max(most, float64(v.Value))
		if n := len(xs); n > 1 {
			moving += math.Abs(xs[n-1] - xs[n-2])
		}
	}
	t.Units = len(units)
	t.Mean, t.Min, t.Max = record.Number(stats.Mean(xs)), record.Number(least), record.Number(most)
	if t.Moved {
		t.Low, t.High = nil, nil
	}
	if n := len(xs); n > 1 {
		sd := stats.StdDev(xs)
		spread := record.Number(sd)
		t.SD = &spread
		if slope, low, high, known := stats.Line(seconds, xs); known {
			over := slices.Max(seconds) - slices.Min(seconds)
			t.Drift = &Drift{slope * over, low * over, high * over, over}
		}
		if t.None == 0 && !t.Means { // an index of what is left would flatter
			t.Ppk = t.index(sd, stats.Capability)
			t.Cpk = t.index(moving/float64(n-1)/stats.MovingRange, stats.CapabilityOfRange)
		}
	}
	return t
}

// when a value was measured; where the ledger does not tell, when its run began.
func (v Value) when() time.Time {
	if v.At.IsZero() {
		return v.Run.Began
	}
	return v.At
}

func same(a, b *float64) bool { return a == nil && b == nil || a != nil && b != nil && *a == *b }

// index is nil without a limit or a spread.
func (t *Trend) index(sd float64, of func(room, sd float64, n int) *stats.Index) *stats.Index {
	if t.Low == nil && t.High == nil || !(sd > 0) || math.IsInf(sd, 0) || !t.Mean.Finite() {
		return nil
	}
	room := math.Inf(1)
	if t.Low != nil {
		room = float64(t.Mean) - *t.Low
	}
	if t.High != nil {
		room = min(room, *t.High-float64(t.Mean))
	}
	return of(room, sd, t.N)
}

// Trend is the trend of a measurement in the runs that a filter chooses.
func (l *Ledger) Trend(ctx context.Context, what string, f Filter) (Trend, error) {
	var values []Value
	err := l.Values(ctx, what, f, func(v Value) error { values = append(values, v); return nil })
	return NewTrend(what, values), err
}

// Yield is how the units of one procedure came through. Runs that name no unit
// count for nothing but Unnamed.
type Yield struct {
	Title   string      `json:"title"`
	Units   int         `json:"units"`
	First   stats.Share `json:"first_pass"` // of the units that passed in their first run, without a further try by hand
	Final   stats.Share `json:"final"`      // of the units that passed in their last run
	Runs    int         `json:"runs"`
	Unnamed int         `json:"runs_without_unit"`
	Steps   []StepCount `json:"failures_by_step"` // the most frequent first
}

// StepCount is how often a step was what a run failed at.
type StepCount struct {
	Title string `json:"title"`
	Runs  int    `json:"runs"`
	Units int    `json:"units"`
}

// units chooses units in place of runs: what one did at first, and in the end, is told by all its runs up to the end of
// the time that is asked for, and a choice of runs by verdict or day would make first runs of later ones. The filter
// is that of all these runs, and first tells whether one that is a unit's first ever is within the choice.
func (f Filter) units() (all Filter, first func(Run) bool) {
	all = f
	all.Verdict, all.Since, all.Last = "", time.Time{}, 0
	return all, func(r Run) bool {
		return (f.Verdict == "" || r.Verdict == f.Verdict) && (f.Since.IsZero() || !r.Began.Before(f.Since))
	}
}

// Yields are the yields of all procedures at the units whose first run a filter chooses, by all their runs up to the
// end of its time. A run that never came to a verdict has not passed; one that only measured is left out.
func (l *Ledger) Yields(ctx context.Context, f Filter) ([]Yield, error) {
	f.Results = true
	type fate struct{ first, last bool }
	fates := map[string]map[string]*fate{} // by title and unit
	byTitle := map[string]*Yield{}
	titles := []string{}
	all, within := f.units()
	passedOver := map[string]bool{} // title and unit
	counted := map[string]*Yield{}  // by run
	if err := l.Runs(ctx, all, func(r Run) error {
		if r.Verdict == string(verdict.Measured) {
			return nil
		}
		key := r.Name() + "\x00" + r.Unit
		if first := fates[r.Name()][r.Unit] == nil; passedOver[key] || (first || r.Unit == "") && !within(r) {
			passedOver[key] = r.Unit != ""
			return nil
		}
		title := r.Name()
		y := byTitle[title]
		if y == nil {
			y = &Yield{Title: title, Steps: []StepCount{}}
			byTitle[title] = y
			fates[title] = map[string]*fate{}
			titles = append(titles, title)
		}
		y.Runs++
		counted[r.Run] = y
		passed := r.Verdict == string(verdict.Passed)
		switch u := fates[title][r.Unit]; {
		case r.Unit == "":
			y.Unnamed++
		case u == nil:
			fates[title][r.Unit] = &fate{passed && r.ByHand == 0, passed}
		default:
			u.last = passed
		}
		return nil
	}); err != nil {
		return nil, err
	}
	if err := l.failures(ctx, all, counted); err != nil {
		return nil, err
	}
	sort.Strings(titles)
	list := []Yield{}
	for _, title := range titles {
		y := byTitle[title]
		first, last := 0, 0
		for _, u := range fates[title] {
			first, last = first+count(u.first), last+count(u.last)
		}
		y.Units = len(fates[title])
		y.First, y.Final = stats.Wilson(first, y.Units), stats.Wilson(last, y.Units)
		list = append(list, *y)
	}
	return list, nil
}

func count(b bool) int {
	if b {
		return 1
	}
	return 0
}

// failures counts the steps that runs failed at which are counted, in the runs of a filter.
func (l *Ledger) failures(ctx context.Context, f Filter, counted map[string]*Yield) error {
	type failed struct{ run, unit, step string }
	type at struct {
		yield *Yield
		step  string
	}
	runs, units := map[at]map[string]bool{}, map[at]map[string]bool{}
	var order []at
	where, values := f.where()
	if err := each(ctx, l, func(r *sql.Rows) (x failed, err error) { return x, r.Scan(&x.run, &x.unit, &x.step) }, func(x failed) error {
		y := counted[x.run]
		if y == nil {
			return nil
		}
		k := at{y, x.step}
		if runs[k] == nil {
			runs[k], units[k], order = map[string]bool{}, map[string]bool{}, append(order, k)
		}
		runs[k][x.run], units[k][x.unit] = true, true
		return nil
	}, "SELECT r.run, r.unit, s.title FROM steps s JOIN runs r ON r.run = s.run WHERE s.verdict IN ('failed', 'broken', 'undecided') AND "+where, values...); err != nil {
		return err
	}
	slices.SortFunc(order, func(a, b at) int {
		return cmp.Or(len(runs[b])-len(runs[a]), strings.Compare(a.step, b.step))
	})
	for _, k := range order {
		k.yield.Steps = append(k.yield.Steps, StepCount{k.step, len(runs[k]), len(units[k])})
	}
	return nil
}
