package stats

import (
	"math"
	"math/rand/v2"
	"testing"

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
				a, b := Wilson(binomial(rng, n, p), n), Wilson(binomial(rng, n, q), n)
				if a.Low <= p && p <= a.High {
					covered++
				}
				if d := Newcombe(a, b); d.Low <= p-q && p-q <= d.High {
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
				if v := Sequential(hits, n, limit); v != verdict.Undecided {
					decided++
					if v != c.right {
						wrong++
					}
					break
				}
			}
		}
		if share := float64(wrong) / rounds; share > SequentialError {
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
	d := Newcombe(Wilson(56, 70), Wilson(48, 80))
	near("low", d.Low, 0.0524, 0.0001)
	near("high", d.High, 0.3339, 0.0001)
	// (g) 10/10 - 0/20.
	d = Newcombe(Wilson(10, 10), Wilson(0, 20))
	near("low", d.Low, 0.6791, 0.0001)
	near("high", d.High, 1, 0.0001)
	bins := func(ms ...float64) (b []Bin) {
		for _, v := range ms {
			b = append(b, Bin{v, 1})
		}
		return b
	}
	r := RankSum(bins(4, 5, 6), bins(1, 2, 3))
	near("effect", r.Effect, 1, 0)
	near("p", r.P, 0.0495, 0.0001) // z = 4.5/sqrt(5.25)
	near("shift", r.Shift, 3, 0)
	near("equal", RankSum(bins(1, 2, 3), bins(1, 2, 3)).P, 1, 1e-9)
	near("nothing", RankSum(nil, bins(1)).P, 1, 0)
	near("frames", float64(FramesToShow(0.01, 0.01)), 2316, 10)
}

// The two-state model is found again in what it has drawn.
func TestBursts(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	const enter, leave = 0.02, 0.3
	var r Runs
	bad := false
	for range 400_000 {
		if bad {
			bad = rng.Float64() >= leave
		} else {
			bad = rng.Float64() < enter
		}
		r.Add(bad)
	}
	b := r.Bursts()
	if math.Abs(b.Enter-enter) > 0.001 || math.Abs(b.Leave-leave) > 0.01 || math.Abs(b.Mean-1/leave) > 0.1 || b.Longest < 10 {
		t.Errorf("%+v", b)
	}
	for pattern, want := range map[string]Bursts{
		"":       {},
		".....":  {},
		"xxx":    {Runs: 1, Mean: 3, Longest: 3},
		".x.xx.": {Runs: 2, Mean: 1.5, Longest: 2, Enter: 1, Leave: 0.666667},
	} {
		var r Runs
		for _, c := range pattern {
			r.Add(c == 'x')
		}
		if got := r.Bursts(); got != want {
			t.Errorf("%q: %+v, want %+v", pattern, got, want)
		}
	}
}

// Figures from E. B. Wilson's formula worked by hand for known cases.
func TestWilson(t *testing.T) {
	for _, c := range []struct {
		hits, n   int
		low, high float64
	}{
		{0, 0, 0, 1}, {0, 50, 0, 0.07135}, {0, 200, 0, 0.01885}, {1, 10, 0.01787, 0.40415}, {50, 100, 0.40383, 0.59617}, {10, 10, 0.72247, 1},
	} {
		s := Wilson(c.hits, c.n)
		if math.Abs(s.Low-c.low) > 2e-5 || math.Abs(s.High-c.high) > 2e-5 {
			t.Errorf("%d of %d: %+v, want %v to %v", c.hits, c.n, s, c.low, c.high)
		}
	}
}
