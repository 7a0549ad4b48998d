package report

import (
	"fmt"
	"math"
	"slices"
	"time"

	"uparrot/core/report/chart"
	"uparrot/core/series"
)

// mostOutsideDrawn is how many values outside their limits a picture marks one by one.
const mostOutsideDrawn = 200

// Timeline is a value over time, as a picture shows it.
type Timeline struct {
	Name, Unit string
	Curve      *series.Curve
	Low, High  *float64 // that all were held against; nil is an open side
	Outside    []series.Sample
	Usual      time.Duration // from one value to the next; what is much longer is a gap
}

// Marked is a word at a time.
type Marked struct {
	At   time.Time
	Word string
}

// Usual is the time from one value of a series to the next.
func Usual(s series.Summary) time.Duration {
	if s.Rate <= 0 {
		return 0
	}
	return time.Duration(float64(time.Second) / s.Rate)
}

// OverTime shows values over time: what is least and greatest in each stretch as a band, the
// mean as a line, gaps where nothing came, limits, what is outside of them, and marks. Values
// of one unit stand over one another, each unit in a panel of its own, three at most.
func OverTime(title string, lines []Timeline, marks []Marked) chart.Chart {
	start, end := times(lines)
	if start.IsZero() {
		return nil
	}
	var c chart.Chart
	panels := map[string]*chart.Panel{}
	var units []string
	for _, l := range lines {
		if panels[l.Unit] == nil && len(units) < 3 {
			units = append(units, l.Unit)
			p := &chart.Panel{X: chart.Axis{Label: "time of " + start.Format("2 January 2006, -07:00"), High: max(end.Sub(start).Seconds(), 0.001), Ticks: chart.Clock(start)}}
			panels[l.Unit] = p
			c = append(c, p)
		}
	}
	c[0].Title = title
	for _, unit := range units {
		var own []Timeline
		for _, l := range lines {
			if l.Unit == unit {
				own = append(own, l)
			}
		}
		fill(panels[unit], start, own, marks)
	}
	return c
}

// Aligned shows several series over one another, each from its own beginning.
func Aligned(title string, lines []Timeline) chart.Chart {
	longest := 0.0
	p := &chart.Panel{Title: title, X: chart.Axis{Label: "time since the first value (s)"}}
	var moved []Timeline
	for _, l := range lines {
		if n := len(l.Curve.Spans()); n > 0 {
			longest = max(longest, (time.Duration(n) * l.Curve.Width()).Seconds())
			moved = append(moved, l)
		}
	}
	if len(moved) == 0 {
		return nil
	}
	p.X.High = longest
	fill(p, time.Time{}, moved, nil)
	return chart.Chart{p}
}

// times are when the first value and the last stretch are.
func times(lines []Timeline) (start, end time.Time) {
	for _, l := range lines {
		n := len(l.Curve.Spans())
		if n == 0 {
			continue
		}
		if from := l.Curve.Start(); start.IsZero() || from.Before(start) {
			start = from
		}
		if to := l.Curve.Start().Add(time.Duration(n) * l.Curve.Width()); to.After(end) {
			end = to
		}
	}
	return start, end
}

// fill puts the values of one unit into a panel. A zero start lets each begin at 0.
func fill(p *chart.Panel, start time.Time, lines []Timeline, marks []Marked) {
	unit := lines[0].Unit
	p.Y.Label = lines[0].Name
	if len(lines) > 1 {
		p.Y.Label = "value"
	}
	if unit != "" {
		p.Y.Label += " (" + unit + ")"
	}
	least, most := math.Inf(1), math.Inf(-1)
	see := func(v float64) { least, most = min(least, v), max(most, v) }
	var outside []chart.XY
	var limits []float64
	for i, l := range lines {
		from := start
		if from.IsZero() {
			from = l.Curve.Start()
		}
		p.Marks = append(p.Marks, segments(l, i, from, see)...)
		for _, o := range l.Outside {
			see(o.Value)
			outside = append(outside, chart.XY{X: o.At.Sub(from).Seconds(), Y: o.Value})
		}
		for _, limit := range []*float64{l.Low, l.High} {
			if limit != nil && !slices.Contains(limits, *limit) {
				limits = append(limits, *limit)
			}
		}
	}
	reach := max(most-least, math.Abs(most)/1000, 1e-9)
	name := "limit"
	for _, limit := range limits {
		if limit < least-3*reach || limit > most+3*reach { // far off: it would press the values flat
			continue
		}
		see(limit)
		p.Marks = append(p.Marks, chart.Line{Name: name, At: []chart.XY{{X: p.X.Low, Y: limit}, {X: p.X.High, Y: limit}}, Colour: chart.Bad, Dash: chart.Dashed})
		name = ""
	}
	if len(outside) > 0 {
		p.Marks = append(p.Marks, chart.Points{Name: "outside", At: outside, Colour: chart.Bad, Shape: chart.Triangle, Size: 4})
	}
	for _, m := range marks {
		if x := m.At.Sub(start).Seconds(); x >= p.X.Low && x <= p.X.High {
			p.Marks = append(p.Marks, chart.Rule{X: x, Text: m.Word, Colour: chart.Plain, Dash: chart.Dotted})
		}
	}
	room := max((most-least)*0.08, math.Abs(most)/1e4, 1e-9)
	p.Y.Low, p.Y.High = least-room, most+room
}

// segments is one series as bands and lines, broken where nothing came for long.
func segments(l Timeline, i int, start time.Time, see func(float64)) (marks []chart.Mark) {
	colour, _, dash := chart.Nth(i)
	width := l.Curve.Width()
	var band chart.Band
	line := chart.Line{Name: l.Name, Colour: colour, Dash: dash}
	spread, few := false, 0
	last := -1
	var dots []chart.XY
	end := func() {
		if spread {
			marks = append(marks, band)
		}
		if len(line.At) == 1 && len(band.X) == 1 {
			dots = append(dots, line.At[0])
		}
		marks = append(marks, line)
		line.Name, line.At, band, spread = "", nil, chart.Band{}, false
	}
	for j, s := range l.Curve.Spans() {
		if s.N == 0 {
			continue
		}
		gap := time.Duration(j-last) * width
		if last >= 0 && gap > 4*l.Usual+2*width {
			end()
		}
		x := (l.Curve.Start().Sub(start) + time.Duration(j)*width + width/2).Seconds()
		if width == time.Millisecond {
			x -= 0.0005
		}
		last, few = j, few+1
		line.At = append(line.At, chart.XY{X: x, Y: s.Mean()})
		band.X, band.Of, band.Colour = append(band.X, x), append(band.Of, chart.Span{Low: s.Least, High: s.Greatest}), colour
		spread = spread || s.Least < s.Greatest
		see(s.Least)
		see(s.Greatest)
	}
	if len(line.At) > 0 {
		end()
	}
	if few <= 60 {
		dots = nil
		for _, m := range marks {
			if l, ok := m.(chart.Line); ok {
				dots = append(dots, l.At...)
			}
		}
	}
	if len(dots) > 0 {
		marks = append(marks, chart.Points{At: dots, Colour: colour, Size: 2.2})
	}
	return marks
}

// Amounts is a sample of values as a picture shows it: how many are at most each value.
type Amounts struct {
	Name      string
	Low, High float64 // of all values
	Counts    []int   // in as many equal steps from Low to High
}

// Add counts a value.
func (a *Amounts) Add(v float64) {
	i := len(a.Counts) - 1
	if a.High > a.Low {
		i = min(i, max(0, int((v-a.Low)/(a.High-a.Low)*float64(len(a.Counts)))))
	}
	a.Counts[i]++
}

// Spread shows which share of values is at most what, of several samples over one another,
// with their limits.
func Spread(title, what, unit string, shares []Amounts, low, high *float64) chart.Chart {
	p := &chart.Panel{Title: title, X: chart.Axis{Label: what}, Y: chart.Axis{Label: "share of values at most that (%)", Low: 0, High: 125, Ticks: func(_, _ float64) []chart.Tick { return chart.Round(0, 100) }}}
	if unit != "" {
		p.X.Label += " (" + unit + ")"
	}
	least, most := math.Inf(1), math.Inf(-1)
	for i, s := range shares {
		total := 0
		for _, n := range s.Counts {
			total += n
		}
		if total == 0 {
			continue
		}
		colour, _, dash := chart.Nth(i)
		line := chart.Line{Name: fmt.Sprintf("%s (%d)", s.Name, total), Colour: colour, Dash: dash, At: []chart.XY{{X: s.Low, Y: 0}}}
		least, most = min(least, s.Low), max(most, s.High)
		sum, step := 0, (s.High-s.Low)/float64(len(s.Counts))
		for j, n := range s.Counts {
			sum += n
			line.At = append(line.At, chart.XY{X: s.Low + step*float64(j+1), Y: 100 * float64(sum) / float64(total)})
		}
		p.Marks = append(p.Marks, line)
	}
	if len(p.Marks) == 0 {
		return nil
	}
	reach := max(most-least, 1e-9)
	for i, limit := range []*float64{low, high} {
		if limit != nil && *limit > least-2*reach && *limit < most+2*reach {
			least, most = min(least, *limit), max(most, *limit)
			p.Marks = append(p.Marks, chart.Rule{X: *limit, Text: []string{"low limit", "high limit"}[i], Colour: chart.Bad, Dash: chart.Dashed})
		}
	}
	p.X.Low, p.X.High = least-reach*0.03, most+reach*0.03
	return chart.Chart{p}
}
