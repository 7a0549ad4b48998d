package report

import (
	"testing"
	"time"

	"uparrot/core/link"
)

// The picture over time keeps a bounded number of points and counts them all.
func TestLatencies(t *testing.T) {
	l := NewFrames()
	start := time.Unix(0, 0)
	for i := range 100_000 {
		r := link.Row{Planned: start, Sent: start.Add(time.Duration(i) * time.Millisecond), State: link.OnTime}
		r.Arrived = r.Sent.Add(time.Duration(i%50) * time.Millisecond)
		if i%100 == 7 {
			r.State = link.Lost
		}
		l.Row("a", "b", r)
	}
	s := l.series[0]
	if s.Received != 99_000 || s.LostCount != 1000 || len(s.MS) > mostPoints || len(s.MS) < mostPoints/2 || len(s.Seconds) != len(s.MS) {
		t.Errorf("%d received, %d lost, %d points", s.Received, s.LostCount, len(s.MS))
	}
	for i := 1; i < len(s.Seconds); i++ {
		if s.Seconds[i] <= s.Seconds[i-1] {
			t.Fatalf("point %d goes back in time", i)
		}
	}
	points := levelPoints(&link.Direction{Levels: []link.Level{{DBm: -120, Sent: 10, Lost: 5}, {DBm: -119, Sent: 30, Lost: 3}, {DBm: -110, Sent: 100}, {DBm: -90, Sent: 4}}})
	sent := 0
	for _, p := range points {
		sent += p.Sent
	}
	if len(points) != 2 || sent != 144 || points[0].Sent != 40 || points[0].DBm != -119.25 || points[0].Loss != 0.2 {
		t.Errorf("%+v", points)
	}
}
