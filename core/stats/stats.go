// Package stats holds what is said of samples: intervals, tests that may be looked
// at as they grow, differences, ranks, capability. Every formula names its source.
package stats

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"uparrot/core/verdict"
)

// Share is a part of a whole with its 95 % interval.
type Share struct {
	Ratio float64 `json:"ratio"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// z is the normal quantile of a two-sided 95 % interval.
var z = normalQuantile(0.975)

// normalQuantile is the value that a standard normal variable does not exceed with
// probability p.
func normalQuantile(p float64) float64 { return math.Sqrt2 * math.Erfinv(2*p-1) }

// normalAbove is how likely a standard normal variable exceeds x.
func normalAbove(x float64) float64 { return math.Erfc(x/math.Sqrt2) / 2 }

// ParseShare reads a part of a whole: 2%, 2 % or 0.02.
func ParseShare(text string) (float64, error) {
	bare := strings.TrimSpace(text)
	in, percent := strings.CutSuffix(bare, "%")
	f, err := strconv.ParseFloat(strings.TrimSpace(in), 64)
	if percent {
		f /= 100
	}
	if err != nil || !(f >= 0 && f <= 1) {
		return 0, fmt.Errorf("%q is no share: wanted one from 0%% to 100%%, such as 2%% or 0.02", text)
	}
	return f, nil
}

// Wilson is the share of hits in n with the Wilson score interval (E. B.
// Wilson, J. Am. Stat. Assoc. 22, 1927). With n = 0 nothing is known: 0 to 1.
func Wilson(hits, n int) Share {
	if n == 0 {
		return Share{0, 0, 1}
	}
	p, nn := float64(hits)/float64(n), float64(n)
	middle := (p + z*z/(2*nn)) / (1 + z*z/nn)
	half := z / (1 + z*z/nn) * math.Sqrt(p*(1-p)/nn+z*z/(4*nn*nn))
	s := Share{p, max(0, middle-half), min(1, middle+half)}
	if hits == 0 {
		s.Low = 0 // rounding aside it is
	}
	if hits == n {
		s.High = 1
	}
	return s
}

// Judge holds a share against the greatest allowed: where the interval lies on
// one side it decides, where the limit is inside it does not.
func (s Share) Judge(most float64) verdict.Verdict {
	switch {
	case s.High <= most:
		return verdict.Passed
	case s.Low > most:
		return verdict.Failed
	}
	return verdict.Undecided
}

// Sequential is a test that may be looked at after every frame: whenever it is
// stopped, it names the wrong side of the limit in at most SequentialError of all
// runs. It is the mixture of likelihood ratios over a Beta(1/2, 1/2) prior (H.
// Robbins, Ann. Math. Stat. 41, 1970), whose maximum over time Ville's
// inequality bounds.
//
// It returns Undecided until the evidence is enough.
func Sequential(hits, n int, most float64) verdict.Verdict {
	if n == 0 {
		return verdict.Undecided
	}
	k, m := float64(hits), float64(n-hits)
	evidence := lbeta(0.5+k, 0.5+m) - lbeta(0.5, 0.5) - xlogy(k, most) - xlogy(m, 1-most)
	switch {
	case evidence < math.Log(1/SequentialError):
		return verdict.Undecided
	case k/float64(n) <= most:
		return verdict.Passed
	}
	return verdict.Failed
}

// SequentialError is the greatest share of runs in which Sequential names the
// wrong side, for both sides together.
const SequentialError = 0.05

func lbeta(a, b float64) float64 {
	x, _ := math.Lgamma(a)
	y, _ := math.Lgamma(b)
	s, _ := math.Lgamma(a + b)
	return x + y - s
}

// xlogy is x log y, and 0 for x = 0 whatever y is.
func xlogy(x, y float64) float64 {
	if x == 0 {
		return 0
	}
	return x * math.Log(y)
}

// Difference is how much one share is above another, with its 95 % interval.
type Difference struct {
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// Shown reports whether the interval leaves out zero.
func (d Difference) Shown() bool { return d.Low > 0 || d.High < 0 }

// Newcombe is the difference a - b of two shares with the hybrid score interval
// (R. G. Newcombe, Statistics in Medicine 17, 1998, method 10).
func Newcombe(a, b Share) Difference {
	d := a.Ratio - b.Ratio
	return Difference{
		Value: d,
		Low:   d - math.Hypot(a.Ratio-a.Low, b.High-b.Ratio),
		High:  d + math.Hypot(a.High-a.Ratio, b.Ratio-b.Low),
	}
}

// FramesToShow is how many frames each of two runs needs so that a difference of
// loss of a given size about a common loss is shown in four cases of five, at 95 %
// confidence (J. L. Fleiss, Statistical Methods for Rates and Proportions, 1981,
// without continuity correction).
func FramesToShow(loss, size float64) int {
	power := normalQuantile(0.8)
	p1, p2 := loss, min(1, loss+size)
	spread := p1*(1-p1) + p2*(1-p2)
	return int(math.Ceil((z + power) * (z + power) * spread / (size * size)))
}

// Bin is a latency and how often it was met.
type Bin struct {
	MS    float64
	Count int
}

// Ranks is the comparison of two samples of latency by the rank-sum test of Mann
// and Whitney (Ann. Math. Stat. 18, 1947), normal approximation with correction
// for ties.
type Ranks struct {
	P      float64 `json:"p"`      // of a difference as great or greater, if there were none
	Effect float64 `json:"effect"` // how often a frame of the first takes longer than one of the second; ties count half
	Shift  float64 `json:"shift_ms"`
}

// Shown reports whether the test tells the two apart, at 5 %.
func (r Ranks) Shown() bool { return r.P < 0.05 }

// RankSum compares two samples, each in bins of rising latency.
func RankSum(a, b []Bin) Ranks {
	n1, n2 := total(a), total(b)
	if n1 == 0 || n2 == 0 {
		return Ranks{P: 1, Effect: 0.5}
	}
	var u, ties, below float64 // below: of b, so far
	for i, j := 0, 0; i < len(a) || j < len(b); {
		v := math.Inf(1)
		if i < len(a) {
			v = a[i].MS
		}
		if j < len(b) {
			v = min(v, b[j].MS)
		}
		var ca, cb float64
		if i < len(a) && a[i].MS == v {
			ca = float64(a[i].Count)
			i++
		}
		if j < len(b) && b[j].MS == v {
			cb = float64(b[j].Count)
			j++
		}
		u += ca * (below + cb/2)
		below += cb
		t := ca + cb
		ties += t*t*t - t
	}
	f1, f2 := float64(n1), float64(n2)
	n := f1 + f2
	sigma := math.Sqrt(f1 * f2 / 12 * (n + 1 - ties/(n*(n-1))))
	r := Ranks{P: 1, Effect: u / (f1 * f2), Shift: quantile(a, n1, 0.5) - quantile(b, n2, 0.5)}
	if sigma > 0 {
		r.P = 2 * normalAbove(math.Abs(u-f1*f2/2)/sigma)
	}
	return r
}

func total(bins []Bin) int {
	n := 0
	for _, b := range bins {
		n += b.Count
	}
	return n
}

// quantile is the least latency that a share of the sample does not exceed.
func quantile(bins []Bin, n int, q float64) float64 {
	left := int(math.Ceil(q * float64(n)))
	for _, b := range bins {
		if left -= b.Count; left <= 0 {
			return b.MS
		}
	}
	return 0
}

// Round is a value to a number of decimal places.
func Round(v float64, digits int) float64 {
	f := math.Pow10(digits)
	return math.Round(v*f) / f
}

// Percent is a share in words, to a hundredth of a percent.
func Percent(share float64) string { return fmt.Sprintf("%.2f %%", 100*share) }
