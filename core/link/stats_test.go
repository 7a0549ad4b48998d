package link

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// binomial draws how many of n hit with a chance p.
func binomial(rng *rand.Rand, n int, p float64) int {
	hits := 0
	for range n {
		if rng.Float64() < p {
			hits++
		}
	}
	return hits
}

// The 95 % intervals cover the truth in 93 to 97 % of simulated runs: averaged
// over shares near each other, since a binomial's coverage swings from share to
// share.
func TestIntervalsCover(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{100, 500, 2000} {
		for _, middle := range []float64{0.02, 0.05, 0.2} {
			covered, diffs, all := 0, 0, 0
			for range 4000 {
				p := middle * (0.8 + 0.4*rng.Float64())
				q := middle * (0.8 + 0.4*rng.Float64())
				a, b := stats.Wilson(binomial(rng, n, p), n), stats.Wilson(binomial(rng, n, q), n)
				if a.Low <= p && p <= a.High {
					covered++
				}
				if d := stats.Newcombe(a, b); d.Low <= p-q && p-q <= d.High {
					diffs++
				}
				all++
			}
			for name, c := range map[string]int{"Wilson": covered, "Newcombe": diffs} {
				if name == "Newcombe" && middle*float64(n) < 5 {
					continue // with hardly any losses it is wider than it need be
				}
				if share := float64(c) / float64(all); share < 0.93 || share > 0.97 {
					t.Errorf("%s, n %d, about %v: %.3f", name, n, middle, share)
				}
			}
		}
	}
}

// However often it is looked at, the sequential test names the wrong side in at
// most 5 % of runs, and it does decide.
func TestSequentialErrors(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	const limit, most, rounds = 0.05, 4000, 1000
	for _, c := range []struct {
		p       float64
		right   verdict.Verdict
		decides float64
	}{{0.05, "", 0}, {0.048, verdict.Passed, 0}, {0.052, verdict.Failed, 0}, {0.02, verdict.Passed, 0.99}, {0.1, verdict.Failed, 0.99}, {0, verdict.Passed, 1}} {
		wrong, decided := 0, 0
		for range rounds {
			hits := 0
			for n := 1; n <= most; n++ {
				if rng.Float64() < c.p {
					hits++
				}
				if v := stats.Sequential(hits, n, limit); v != verdict.Undecided {
					decided++
					if v != c.right {
						wrong++
					}
					break
				}
			}
		}
		if share := float64(wrong) / rounds; share > stats.SequentialError {
			t.Errorf("at %v the wrong side in %.3f of runs", c.p, share)
		}
		if share := float64(decided) / rounds; share < c.decides {
			t.Errorf("at %v decided in %.3f of runs", c.p, share)
		}
	}
}

// Published and hand-worked values.
func TestKnownValues(t *testing.T) {
	near := func(what string, got, want, by float64) {
		if math.Abs(got-want) > by {
			t.Errorf("%s: %v, want %v", what, got, want)
		}
	}
	// Newcombe 1998, table II, (a) 56/70 - 48/80, method 10.
	d := stats.Newcombe(stats.Wilson(56, 70), stats.Wilson(48, 80))
	near("low", d.Low, 0.0524, 0.0001)
	near("high", d.High, 0.3339, 0.0001)
	// (g) 10/10 - 0/20.
	d = stats.Newcombe(stats.Wilson(10, 10), stats.Wilson(0, 20))
	near("low", d.Low, 0.6791, 0.0001)
	near("high", d.High, 1, 0.0001)
	bins := func(ms ...float64) (b []stats.Bin) {
		for _, v := range ms {
			b = append(b, stats.Bin{v, 1})
		}
		return b
	}
	r := stats.RankSum(bins(4, 5, 6), bins(1, 2, 3))
	near("effect", r.Effect, 1, 0)
	near("p", r.P, 0.0495, 0.0001) // z = 4.5/sqrt(5.25)
	near("shift", r.Shift, 3, 0)
	near("equal", stats.RankSum(bins(1, 2, 3), bins(1, 2, 3)).P, 1, 1e-9)
	near("nothing", stats.RankSum(nil, bins(1)).P, 1, 0)
	near("frames", float64(stats.FramesToShow(0.01, 0.01)), 2316, 10)
}

// The two-state model is found again in what it has drawn.
func TestBursts(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	const enter, leave = 0.02, 0.3
	var r runs
	bad := false
	for range 400_000 {
		if bad {
			bad = rng.Float64() >= leave
		} else {
			bad = rng.Float64() < enter
		}
		r.add(bad)
	}
	b := r.bursts()
	if math.Abs(b.Enter-enter) > 0.001 || math.Abs(b.Leave-leave) > 0.01 || math.Abs(b.Mean-1/leave) > 0.1 || b.Longest < 10 {
		t.Errorf("%+v", b)
	}
	for pattern, want := range map[string]stats.Bursts{
		"":       {},
		".....":  {},
		"xxx":    {Runs: 1, Mean: 3, Longest: 3},
		".x.xx.": {Runs: 2, Mean: 1.5, Longest: 2, Enter: 1, Leave: 0.666667},
	} {
		var r runs
		for _, c := range pattern {
			r.add(c == 'x')
		}
		if got := r.bursts(); got != want {
			t.Errorf("%q: %+v, want %+v", pattern, got, want)
		}
	}
}

// Minutes and levels count every frame once, whatever the order of arrival.
func TestGathered(t *testing.T) {
	ta := newTally(time.Second, 0, nil)
	at := time.Unix(1000, 0)
	for i := range 300 {
		sent := at.Add(time.Duration(i) * time.Second)
		n := ta.sent(sent, sent)
		if i%10 != 3 {
			ta.arrived(n, sent.Add(20*time.Millisecond), 0, float64(-80-i/100), 9, 24)
		}
	}
	ta.close()
	d := ta.direction("a", "b")
	if fmt.Sprint(d.Minutes) != "[{0 60 6} {1 60 6} {2 60 6} {3 60 6} {4 60 6}]" {
		t.Error(d.Minutes)
	}
	if fmt.Sprint(d.Levels) != "[{-82 100 10} {-81 100 10} {-80 100 10}]" {
		t.Error(d.Levels)
	}
	bins, err := d.Latencies()
	if err != nil || total(bins) != 270 || math.Abs(bins[0].MS-20) > 0.01 {
		t.Errorf("%v, %v", bins, err)
	}
}
