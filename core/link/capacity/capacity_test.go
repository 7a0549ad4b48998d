package capacity

import (
	"context"
	"math"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/sim/simtest"
	"uparrot/core/verdict"
)

// The search ends near what the air carries by its own rate.
func TestCapacity(t *testing.T) {
	for _, c := range []struct {
		air  bench.Air
		rate float64 // 0: the wire is the limit; below 0: nothing holds
	}{
		{bench.Air{Rate: 4800, Preamble: 15 * time.Millisecond, Buffer: 300, Delay: 5 * time.Millisecond}, 1000.0 / 55},
		{bench.Air{Rate: 1200, Buffer: 200}, 1000.0 / 160},
		{bench.Air{Delay: 5 * time.Millisecond}, 0},
		{bench.Air{Loss: 0.9}, -1},
	} {
		synctest.Test(t, func(t *testing.T) {
			c.air.Seed = 2
			_, valley, summit := simtest.Radios(t, c.air, "2")
			search := &Search{Test: link.Test{A: valley, B: summit, Sleep: time.Sleep, Plan: link.Plan{Count: 1, Every: time.Second, Deadline: 2 * time.Second}}, MaxLoss: 0.05, Fewest: 60, Most: 400}
			res, err := search.Do(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			switch {
			case c.rate < 0:
				if res.Verdict != verdict.Failed || res.Held != nil || !strings.Contains(res.String(), "even one frame every") {
					t.Errorf("%s: %+v", res, res.Held)
				}
			case c.rate == 0:
				if res.Broken != nil || res.Held == nil || math.Abs(res.Held.Load-1) > 0.01 || !strings.Contains(res.String(), "the wire is the limit") {
					t.Errorf("%s", res)
				}
			case res.Held == nil || res.Broken == nil || res.Held.Rate > c.rate*1.1 || res.Held.Rate < c.rate*0.85 || res.Broken.Rate < c.rate*0.95 || res.Broken.Rate > c.rate*1.25:
				t.Errorf("%s, want about %.1f", res, c.rate)
			}
		})
	}
}

// A load that broke the limit and keeps it when it is tried again is not what the
// link carries, and the wire is not the limit.
func TestUnsteady(t *testing.T) {
	again := map[time.Duration]int{}
	search := &Search{MaxLoss: 0.05, Fewest: 60, Most: 400}
	search.Test = link.Test{Plan: link.Plan{Count: 1, Every: time.Second, Deadline: time.Second, Size: 40}, A: &bench.Station{Name: "valley"}, B: &bench.Station{Name: "summit"}}
	search.try = func(_ context.Context, every time.Duration, _ int) (LoadPoint, error) {
		again[every]++
		p := LoadPoint{EveryMS: float64(every.Microseconds()) / 1000, Rate: 1 / every.Seconds(), Verdict: verdict.Passed}
		if every < 40*time.Millisecond && again[every] == 1 {
			p.Verdict, p.Loss.Ratio = verdict.Failed, 0.2
		}
		return p, nil
	}
	res, err := search.Do(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if !res.Unsteady || res.Held == nil || res.Broken == nil || res.Held.EveryMS < 40 || res.Broken.EveryMS >= 40 || strings.Contains(res.String(), "wire") {
		t.Errorf("%s: %+v, %+v", res, res.Held, res.Broken)
	}
}
