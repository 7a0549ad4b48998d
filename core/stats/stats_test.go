package stats

import (
	"math"
	"math/rand/v2"
	"testing"
)

// drawn draws how many of n hit with a chance p.
func drawn(rng *rand.Rand, n int, p float64) int {
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
				a, b := Wilson(drawn(rng, n, p), n), Wilson(drawn(rng, n, q), n)
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
	blocks := func(ms ...float64) *Blocks {
		b := &Blocks{}
		for _, v := range ms {
			b.Add(v)
		}
		return b
	}
	r := Permutation(blocks(4, 5, 6), blocks(1, 2, 3))
	near("effect", r.Effect, 1, 0)
	near("p", r.P, 0.10, 1e-9) // exact: 2 of 20 ways
	near("shift", r.Shift, 3, 0.01)
	near("equal", Permutation(blocks(1, 2, 3), blocks(1, 2, 3)).P, 1, 1e-9)
	near("nothing", Permutation(blocks(), blocks(1)).P, 1, 0)
	for i, want := range []float64{0.03, 0.06, 0.06} { // by hand: 3 x 0.01, 2 x 0.03, then no less
		near("holm", Holm([]float64{0.01, 0.03, 0.04})[i], want, 1e-12)
	}
	// Student's t from the tables of W. S. Gosset.
	for df, want := range map[float64]float64{1: 12.706, 2: 4.303, 10: 2.228, 30: 2.042} {
		near("t", student(df), want, 0.001)
	}
	// Order statistics of the median (H. A. David, table of section 2.5): 10 values, the 2nd
	// and the 9th.
	if low, high := ranks(0.5, 10); low != 2 || high != 9 {
		t.Errorf("median of 10: %d to %d", low, high)
	}
	if low, high := ranks(0.99, 50); low == 0 || high != 51 {
		t.Errorf("99th percentile of 50: %d to %d", low, high)
	}
	for share, want := range map[float64]string{0: "0.00 %", 0.00004: "0.004 %", 0.0009: "0.09 %", 0.02: "2.00 %", 1: "100.00 %"} {
		if got := Percent(share); got != want {
			t.Errorf("%v is %s, want %s", share, got, want)
		}
	}
	for most, want := range map[float64]int{0.05: 73, 0.02: 189, 0.01: 381, 0: 0} {
		if got := FramesToPass(most); got != want {
			t.Errorf("%v takes %d frames, want %d", most, got, want)
		} else if want > 0 && (Wilson(0, want).High > most || Wilson(0, want-1).High <= most) {
			t.Errorf("%v: %d frames are not the least", most, want)
		}
	}
	near("frames", float64(FramesToShow(0.01, 0.01, 1)), 2316, 10)
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

// The intervals of capability cover the truth, for both standard deviations.
func TestCapabilityCovers(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 2))
	const rounds = 4000
	for _, n := range []int{20, 50, 100} {
		all, moving := 0, 0
		const truth = 4.0 / 3 // limits at 4 standard deviations
		for range rounds {
			xs := make([]float64, n)
			ranges := 0.0
			for i := range xs {
				if xs[i] = rng.NormFloat64(); i > 0 {
					ranges += math.Abs(xs[i] - xs[i-1])
				}
			}
			room := 4 - math.Abs(Mean(xs))
			in := func(x *Index) int { return count(x.Low <= truth && truth <= x.High) }
			all += in(Capability(room, StdDev(xs), n))
			moving += in(CapabilityOfRange(room, ranges/float64(n-1)/MovingRange, n))
		}
		for name, k := range map[string]int{"all values": all, "moving range": moving} {
			if share := float64(k) / rounds; share < 0.925 || share > 0.97 {
				t.Errorf("%s, n %d: %.3f", name, n, share)
			}
		}
	}
}
