package capacity

import (
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
