package report

import (
	"fmt"
	"time"

	"uparrot/core/link"
	"uparrot/core/report/chart"
	"uparrot/core/text"
)

// Frames gathers what the picture over time shows. However long a test lasts,
// it keeps so many points at most: when there are more, every second goes, and
// from then on only so many are taken.
type Frames struct {
	series []delays
	start  time.Time
	seen   map[string]int
	every  map[string]int
}

const mostPoints = 20_000

// NewFrames gathers nothing yet.
func NewFrames() *Frames {
	return &Frames{seen: map[string]int{}, every: map[string]int{}}
}

// Row takes in one frame.
func (l *Frames) Row(from, to string, r link.Row) {
	if l.start.IsZero() {
		l.start = r.Planned
	}
	name := from + " to " + to
	i := 0
	for i < len(l.series) && l.series[i].Name != name {
		i++
	}
	if i == len(l.series) {
		l.series = append(l.series, delays{Name: name})
		l.every[name] = 1
	}
	s, x := &l.series[i], r.Sent.Sub(l.start).Seconds()
	if r.State == link.UnderWay { // neither lost nor received
		return
	}
	if r.State == link.Lost {
		s.LostCount++
		if len(s.Lost) < mostPoints {
			s.Lost = append(s.Lost, x)
		}
		return
	}
	s.Received++
	l.seen[name]++
	if l.seen[name]%l.every[name] != 0 {
		return
	}
	if len(s.MS) == mostPoints {
		for j := range mostPoints / 2 {
			s.Seconds[j], s.MS[j] = s.Seconds[2*j], s.MS[2*j]
		}
		s.Seconds, s.MS = s.Seconds[:mostPoints/2], s.MS[:mostPoints/2]
		l.every[name] *= 2
	}
	s.Seconds = append(s.Seconds, x)
	s.MS = append(s.MS, float64(r.Latency().Microseconds())/1000)
}

// picture is one drawing of a link test.
type picture struct {
	what  string // time, distribution or strength
	chart chart.Chart
}

// pictures draws a link test: latency over time, the distribution of latencies
// and, where the carrier tells strengths, loss against strength.
func pictures(l *Frames, sum link.Summary) ([]picture, error) {
	var list []picture
	plan := fmt.Sprintf(": %d bytes every %v", sum.Size, text.FromMS(sum.EveryMS))
	if l != nil {
		list = append(list, picture{"time", latency("Latency over time"+plan, l.series)})
	}
	var curves []Curve
	points := map[string][]point{}
	var names []string
	for i := range sum.Directions {
		d := &sum.Directions[i]
		name := d.From + " to " + d.To
		bins, err := d.Latencies()
		if err != nil {
			return nil, err
		}
		if c := (Curve{Name: name}); len(bins) > 0 {
			for _, b := range bins {
				c.Add(b.MS, b.Count)
			}
			curves = append(curves, c)
		}
		if len(d.Levels) > 0 {
			names = append(names, name)
			points[name] = levelPoints(d)
		}
	}
	if len(curves) > 0 {
		list = append(list, picture{"distribution", Distribution("How long frames took"+plan, curves)})
	}
	if len(names) > 0 {
		list = append(list, picture{"strength", strengthLoss("Loss against strength"+plan, points, names)})
	}
	return list, nil
}

// PictureKinds are what a link test can be drawn as; Strength only where the carrier
// tells strengths.
var PictureKinds = []string{"time", "distribution", "strength"}

// Pictures are the charts of a link test, by kind.
func Pictures(l *Frames, sum link.Summary) (map[string]chart.Chart, error) {
	list, err := pictures(l, sum)
	all := map[string]chart.Chart{}
	for _, p := range list {
		all[p.what] = p.chart
	}
	return all, err
}

// enoughForPoint is how many frames a point of loss against strength has at least,
// as far as there are so many.
const enoughForPoint = 30

// levelPoints puts neighbouring strengths together until each point says something.
func levelPoints(d *link.Direction) []point {
	levels := d.Levels
	var points []point
	var sent, lost, sum int
	for i, lv := range levels {
		sent, lost, sum = sent+lv.Sent, lost+lv.Lost, sum+lv.DBm*lv.Sent
		left := 0
		for _, rest := range levels[i+1:] {
			left += rest.Sent
		}
		if i < len(levels)-1 && (sent < enoughForPoint || left < enoughForPoint) {
			continue
		}
		w := d.LossOf(lost, sent)
		points = append(points, point{DBm: float64(sum) / float64(sent), Sent: sent, Loss: w.Ratio, Low: w.Low, High: w.High})
		sent, lost, sum = 0, 0, 0
	}
	return points
}
