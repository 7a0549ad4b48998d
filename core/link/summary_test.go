package link

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"
)

// Twenty frames, one every 50 ms, worked out by hand (docs/link.md has the formulas): number i takes 10+i ms, but 9
// takes 100 ms and comes behind 10; 3 and 17 are lost, 12 leaves 7 ms late, 5 comes twice. Sorted, the ten-of-twenty
// value is 21 ms and the eighteenth 100; more than a twentieth is lost, so there is no 95th percentile.
func TestSummaryByHand(t *testing.T) {
	const every = 50 * time.Millisecond
	began := time.Date(2026, 11, 2, 7, 30, 0, 0, time.UTC)
	type moment struct {
		at     time.Time
		number int
		comes  bool
	}
	var list []moment
	for i := range 20 {
		sent := began.Add(time.Duration(i) * every)
		if i == 12 {
			sent = sent.Add(7 * time.Millisecond)
		}
		list = append(list, moment{sent, i, false})
		takes := time.Duration(10+i) * time.Millisecond
		if i == 9 {
			takes = 100 * time.Millisecond
		}
		if i != 3 && i != 17 {
			list = append(list, moment{sent.Add(takes), i, true})
		}
		if i == 5 {
			list = append(list, moment{sent.Add(takes + time.Millisecond), i, true})
		}
	}
	slices.SortFunc(list, func(a, b moment) int { return a.at.Compare(b.at) })
	var rows []Row
	ta := newTally(20, time.Second, 0, func(r Row) { rows = append(rows, r) })
	for _, m := range list {
		if m.comes {
			ta.arrived(uint32(m.number), m.at, 2*time.Millisecond, float64(-80-m.number%3), float64(m.number%5), 24)
		} else {
			ta.sent(began.Add(time.Duration(m.number)*every), m.at)
		}
	}
	ta.close(began.Add(time.Minute), false)
	d := ta.direction("valley", "summit")
	for what, c := range map[string][2]int{
		"sent": {d.Sent, 20}, "received": {d.Received, 18}, "lost": {d.Lost, 2}, "late": {d.Late, 0}, "under way": {d.UnderWay, 0}, "duplicated": {d.Duplicated, 1},
		"reordered": {d.Reordered, 1}, "foreign": {d.Foreign, 0}, "rows": {len(rows), 20}, "most under way": {d.MostUnder, 3}, "runs of lost": {d.Bursts.Runs, 2}, "the longest": {d.Bursts.Longest, 1},
	} {
		if c[0] != c[1] {
			t.Errorf("%s: %d, want %d", what, c[0], c[1])
		}
	}
	l := d.LatencyMS
	for what, c := range map[string][2]float64{
		"min": {float64(l.Min), 10}, "median": {float64(l.Median), 21}, "p90": {float64(l.P90), 100}, "p95": {float64(l.P95), math.Inf(1)}, "p99": {float64(l.P99), math.Inf(1)}, "max": {float64(l.Max), 100},
		"variation": {d.VariationMS, 90}, "jitter": {d.JitterMS, 6.834303}, "mean |D|": {d.MeanDMS, 10.412}, "kept": {d.KeptMS, 50}, "carried a second": {d.CarriedPS, 17.544},
		"lag, max": {d.Lag.Max, 7}, "lag, p95": {d.Lag.P95, 0.001}, "on the wire": {d.WireMS, 2}, "loss": {d.Loss.Ratio, 0.1}, "lost or late": {d.LostOrLate.Ratio, 0.1},
		"strength": {d.Strength.Mean, -80.94}, "the weakest": {d.Strength.Min, -82}, "the strongest": {d.Strength.Max, -80}, "snr": {d.SNR.Mean, 1.94}, "margin": {d.Margin.DB, 1.1},
	} {
		if math.Abs(c[0]-c[1]) > 0.0051 && c[0] != c[1] {
			t.Errorf("%s: %v, want %v", what, c[0], c[1])
		}
	}
	if d.PlannedMS != nil { // 7 ms once are no queue that hides
		t.Errorf("from the plan: %+v", d.PlannedMS)
	}
	for i, want := range map[int]string{3: "lost false 0", 5: "received false 1", 9: "received true 0", 10: "received false 0"} {
		if got := fmt.Sprint(rows[i].State, " ", rows[i].Order, " ", rows[i].Copies); got != want {
			t.Errorf("row %d: %s, want %s", i, got, want)
		}
	}
}
