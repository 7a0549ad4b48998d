package cli

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"uparrot/core/link"
	"uparrot/core/report"
)

// latencies gathers what the picture over time shows. However long a test lasts,
// it keeps so many points at most: when there are more, every second goes, and
// from then on only so many are taken.
type latencies struct {
	series []report.Series
	start  time.Time
	seen   map[string]int
	every  map[string]int
}

const mostPoints = 20_000

func newLatencies() *latencies {
	return &latencies{seen: map[string]int{}, every: map[string]int{}}
}

func (l *latencies) row(from, to string, r link.Row) {
	if l.start.IsZero() {
		l.start = r.Planned
	}
	name := from + " to " + to
	i := 0
	for i < len(l.series) && l.series[i].Name != name {
		i++
	}
	if i == len(l.series) {
		l.series = append(l.series, report.Series{Name: name})
		l.every[name] = 1
	}
	s, x := &l.series[i], r.Sent.Sub(l.start).Seconds()
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

// linkPictures draws a link test beside a file's name: NAME-time, NAME-distribution
// and, where the carrier tells strengths, NAME-strength.
func linkPictures(file string, l *latencies, sum link.Summary) error {
	ext := filepath.Ext(file)
	if ext != ".png" && ext != ".svg" {
		return &errUsage{what: fmt.Sprintf("--plot %s: wanted a file that ends in .png or .svg", file)}
	}
	named := func(what string) string { return strings.TrimSuffix(file, ext) + "-" + what + ext }
	title := fmt.Sprintf("%d bytes every %v", sum.Size, fromMS(sum.EveryMS))
	if err := report.Latency("Latency over time: "+title, l.series, named("time")); err != nil {
		return err
	}
	var curves []report.Curve
	points := map[string][]report.Point{}
	var names []string
	for i := range sum.Directions {
		d := &sum.Directions[i]
		name := d.From + " to " + d.To
		bins, err := d.Latencies()
		if err != nil {
			return err
		}
		if c := (report.Curve{Name: name}); len(bins) > 0 {
			for _, b := range bins {
				c.Add(b.MS, b.Count)
			}
			curves = append(curves, c)
		}
		if len(d.Levels) == 0 {
			continue
		}
		names = append(names, name)
		points[name] = levelPoints(d.Levels)
	}
	if len(curves) > 0 {
		if err := report.Distribution("How long frames took: "+title, curves, named("distribution")); err != nil {
			return err
		}
	}
	if len(names) > 0 {
		return report.StrengthLoss("Loss against strength: "+title, points, names, named("strength"))
	}
	return nil
}

// enoughForPoint is how many frames a point of loss against strength has at least,
// as far as there are so many.
const enoughForPoint = 30

// levelPoints puts neighbouring strengths together until each point says something.
func levelPoints(levels []link.Level) []report.Point {
	var points []report.Point
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
		w := link.Wilson(lost, sent)
		points = append(points, report.Point{DBm: float64(sum) / float64(sent), Sent: sent, Loss: w.Ratio, Low: w.Low, High: w.High})
		sent, lost, sum = 0, 0, 0
	}
	return points
}
