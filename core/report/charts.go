package report

import (
	"fmt"
	"math"
	"slices"
	"time"

	"uparrot/core/link/capacity"
	"uparrot/core/link/hearing"
	"uparrot/core/report/chart"
	"uparrot/core/verdict"
)

// delays is the latencies of one direction.
type delays struct {
	Name    string
	Seconds []float64 // when each frame was sent, since the first
	MS      []float64 // its latency in milliseconds
	Lost    []float64 // when the frames were sent that did not arrive

	// How many there were, of which the points may be a part.
	Received, LostCount int
}

// latency shows latency over time with losses marked at the bottom.
func latency(title string, series []delays) chart.Chart {
	p := &chart.Panel{Title: title, X: chart.Axis{Label: "time since the first frame (s)"}, Y: chart.Axis{Label: "latency (ms)"}}
	highest := 0.0
	for i, s := range series {
		colour, shape, _ := chart.Nth(i)
		points := make([]chart.XY, len(s.MS))
		for j, ms := range s.MS {
			points[j] = chart.XY{X: s.Seconds[j], Y: ms}
			highest = max(highest, ms)
		}
		lost := make([]chart.XY, len(s.Lost))
		for j, x := range s.Lost {
			lost[j] = chart.XY{X: x}
		}
		p.Marks = append(p.Marks,
			chart.Points{Name: fmt.Sprintf("%s: %d received", s.Name, s.Received), At: points, Colour: colour, Shape: shape, Size: 2.6},
			chart.Points{Name: fmt.Sprintf("%s: %d lost", s.Name, s.LostCount), At: lost, Colour: chart.Bad, Shape: chart.Cross + shape, Size: 4.5})
	}
	p.Y.High = max(1, highest*1.1)
	return chart.Chart{p}
}

// Curve is a sample of latencies.
type Curve struct {
	Name   string
	ms     []float64
	counts []int
	total  int
}

// Add adds a latency that was met count times. Latencies must rise.
func (c *Curve) Add(ms float64, count int) {
	c.ms = append(c.ms, ms)
	c.counts = append(c.counts, count)
	c.total += count
}

// Distribution shows which share of frames took longer than a time, on a
// logarithmic axis, so that the tail shows.
func Distribution(title string, curves []Curve) chart.Chart {
	p := &chart.Panel{Title: title, X: chart.Axis{Label: "latency (ms)"},
		Y: chart.Axis{Label: "share of frames that took longer", Log: true, Ticks: chart.Shares, High: 1}}
	least, low, high := 1.0, math.Inf(1), 0.0
	for i, c := range curves {
		if c.total == 0 {
			continue
		}
		var points []chart.XY
		above := c.total
		add := func(x float64, n int) {
			if n > 0 {
				points = append(points, chart.XY{X: x, Y: float64(n) / float64(c.total)})
			}
		}
		for j, v := range c.ms {
			add(v, above)
			above -= c.counts[j]
			add(v, above)
		}
		least = min(least, 1/float64(c.total))
		low, high = min(low, c.ms[0]), max(high, c.ms[len(c.ms)-1])
		colour, _, dash := chart.Nth(i)
		p.Marks = append(p.Marks, chart.Line{Name: fmt.Sprintf("%s (%d frames)", c.Name, c.total), At: points, Colour: colour, Dash: dash})
	}
	if p.X.High = high; low > high/4 { // nothing to see below
		p.X.Low = math.Floor(low - (high-low)/4)
	}
	p.Y.Low = min(0.1, math.Pow(10, math.Floor(math.Log10(least))))
	return chart.Chart{p}
}

// point is what was sent and lost at a strength, with the interval of its loss.
type point struct {
	DBm             float64 // mean of the frames
	Loss, Low, High float64 // shares
	Sent            int
}

// strengthLoss shows loss against strength, each with its 95 % interval.
func strengthLoss(title string, points map[string][]point, names []string) chart.Chart {
	p := &chart.Panel{Title: title, X: chart.Axis{Label: "strength (dBm)"}, Y: chart.Axis{Label: "loss (%), with 95 % interval"}}
	highest, weakest, strongest := 1.0, math.Inf(1), math.Inf(-1)
	for i, name := range names {
		colour, shape, _ := chart.Nth(i)
		m := chart.Points{Name: name, Colour: colour, Shape: shape, Size: 3.5}
		for _, q := range points[name] {
			m.At = append(m.At, chart.XY{X: q.DBm, Y: 100 * q.Loss})
			m.Spread = append(m.Spread, chart.Span{Low: 100 * q.Low, High: 100 * q.High})
			highest, weakest, strongest = max(highest, 100*q.High), min(weakest, q.DBm), max(strongest, q.DBm)
		}
		p.Marks = append(p.Marks, m)
	}
	p.Y.High = highest * 1.1
	p.X.Low, p.X.High = weakest-0.5, strongest+0.5
	return chart.Chart{p}
}

// LoadCurve shows what a search for a link's capacity found: loss and latency
// against load, one below the other; nil if it measured nothing.
func LoadCurve(r capacity.Result) chart.Chart {
	if len(r.Points) == 0 {
		return nil
	}
	limit := 100 * r.MaxLoss
	low, high, highest, longest := math.Inf(1), 0.0, limit, 0.0
	loss := []chart.Points{{Name: "keeps the limit", Size: 4}, {Name: "breaks the limit", Size: 4, Colour: chart.Second, Shape: chart.Triangle}}
	late := slices.Clone(loss)
	for _, p := range r.Points {
		sent := p.Rate // of an earlier version, which told the plan
		if p.KeptMS > 0 {
			sent = 1000 / p.KeptMS
		}
		i := 0
		if p.Loss.Ratio > r.MaxLoss {
			i = 1
		}
		loss[i].At = append(loss[i].At, chart.XY{X: sent, Y: 100 * p.Loss.Ratio})
		loss[i].Spread = append(loss[i].Spread, chart.Span{Low: 100 * p.Loss.Low, High: 100 * p.Loss.High})
		if p.P95MS.Finite() { // else so many were lost that no latency is that of 95 %
			late[i].At = append(late[i].At, chart.XY{X: sent, Y: float64(p.P95MS)})
			longest = max(longest, float64(p.P95MS))
		}
		highest = max(highest, 100*p.Loss.High)
		low, high = min(low, sent), max(high, sent)
	}
	late[0].Name, late[1].Name = "", "" // the legend above is for both
	x := chart.Axis{Low: low / 1.15, High: high * 1.15, Log: true, Ticks: chart.Decades}
	most := chart.Line{Name: fmt.Sprintf("limit %g %%", limit), At: []chart.XY{{X: x.Low, Y: limit}, {X: x.High, Y: limit}}, Colour: chart.Plain, Dash: chart.Dashed}
	top := &chart.Panel{Title: fmt.Sprintf("What the link carries: frames of %d bytes", r.Size),
		X: x, Y: chart.Axis{Label: "loss (%), 95 % interval", High: min(100, max(1, highest*1.3))}, Marks: []chart.Mark{loss[0], loss[1], most}}
	x.Label = "load (frames/s sent)"
	bottom := &chart.Panel{X: x, Y: chart.Axis{Label: "95 % of frames within (ms)", High: max(1, longest*1.1)}, Marks: []chart.Mark{late[0], late[1]}}
	return chart.Chart{top, bottom}
}

// Matrix shows who hears whom: the darker, the more was heard; what is against the
// wish has a thick frame and a mark; nil if nobody spoke.
func Matrix(r hearing.Result) chart.Chart {
	if len(r.Cells) == 0 {
		return nil
	}
	n := len(r.Names)
	speakers := slices.Clone(r.Names)
	slices.Reverse(speakers)
	p := &chart.Panel{Title: "Who hears whom",
		X: chart.Axis{Label: "listener", Low: -0.5, High: float64(n) - 0.5, Ticks: chart.Names(r.Names)},
		Y: chart.Axis{Label: "speaker", Low: -0.5, High: float64(n) - 0.5, Ticks: chart.Names(speakers)}}
	for _, c := range r.Cells {
		at := chart.XY{X: float64(slices.Index(r.Names, c.Listener)), Y: float64(slices.Index(speakers, c.Speaker))}
		cell := chart.Cell{At: at, Text: fmt.Sprintf("%d of %d", c.Heard, c.Sent), Share: float64(c.Heard) / float64(max(1, c.Sent))}
		if c.Verdict == verdict.Failed {
			cell.Text, cell.Wrong = cell.Text+"  wrong", true
		}
		p.Marks = append(p.Marks, cell)
	}
	return chart.Chart{p}
}

// TrendPoint is one value of a measurement over time; nil is an open limit.
type TrendPoint struct {
	At        time.Time
	Value     float64
	Low, High *float64
	Passed    bool
}

// Trend shows values over time, with the mean and the limits that each was held against. A
// time without values is as wide as it was long.
func Trend(what, unit string, mean float64, points []TrendPoint) chart.Chart {
	label := what
	if unit != "" {
		label += " (" + unit + ")"
	}
	start := points[0].At
	end := points[len(points)-1].At.Sub(start).Seconds()
	aside := max(end*0.02, 0.5)
	within := chart.Points{Name: "within the limits", Size: 4}
	outside := chart.Points{Name: "outside", Colour: chart.Bad, Shape: chart.Triangle, Size: 5}
	limits := make([]chart.Line, 2)
	least, most, judged := mean, mean, false
	for i, v := range points {
		x := v.At.Sub(start).Seconds()
		least, most = min(least, v.Value), max(most, v.Value)
		if v.Passed {
			within.At = append(within.At, chart.XY{X: x, Y: v.Value})
		} else {
			outside.At = append(outside.At, chart.XY{X: x, Y: v.Value})
		}
		from, to := x-aside/2, x+aside/2
		if i > 0 {
			from = (x + points[i-1].At.Sub(start).Seconds()) / 2
		}
		if i+1 < len(points) {
			to = (x + points[i+1].At.Sub(start).Seconds()) / 2
		}
		for j, limit := range []*float64{v.Low, v.High} {
			if limit != nil {
				judged = true
				limits[j].At = append(limits[j].At, chart.XY{X: from, Y: *limit}, chart.XY{X: to, Y: *limit})
				least, most = min(least, *limit), max(most, *limit)
			}
		}
	}
	p := &chart.Panel{Title: what, X: chart.Axis{Label: "time, from " + start.Format("2 January 2006 15:04 -07:00"), Low: -aside, High: end + aside, Ticks: chart.Clock(start)}, Y: chart.Axis{Label: label}}
	name := "limits"
	for _, l := range limits {
		if len(l.At) > 0 {
			l.Name, l.Colour, l.Dash = name, chart.Bad, chart.Dashed
			name = ""
			p.Marks = append(p.Marks, l)
		}
	}
	if !judged {
		within.Name = "values"
	}
	p.Marks = append(p.Marks, chart.Line{Name: "mean", At: []chart.XY{{X: -aside, Y: mean}, {X: end + aside, Y: mean}}, Colour: chart.Plain, Dash: chart.Dotted}, within, outside)
	room := max((most-least)*0.1, math.Abs(most)/1e4, 1e-9)
	p.Y.Low, p.Y.High = least-room, most+room
	return chart.Chart{p}
}
