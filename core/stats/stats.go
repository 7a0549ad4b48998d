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

// ParseShare reads a part of a whole: 2%, 2 % or 0.02.
func ParseShare(text string) (float64, error) {
	bare := strings.TrimSpace(text)
	in, percent := strings.CutSuffix(bare, "%")
	f, err := strconv.ParseFloat(strings.TrimSpace(in), 64)
	if percent {
		f /= 100
	}
	if err != nil || !(f >= 0 && f <= 1) {
		return 0, fmt.Errorf("%q is not a percentage: write 0%% to 100%%, such as 2%% or 0.02", text)
	}
	return f, nil
}

// Wilson is the share of hits in n with the Wilson score interval (E. B.
// Wilson, J. Am. Stat. Assoc. 22, 1927). With n = 0 nothing is known: 0 to 1.
func Wilson(hits, n int) Share {
	return Thinned(hits, n, 1)
}

// Thinned is Wilson of frames of which only a share tells, from 0 to 1, since losses stand
// together (Runs.Effective of all frames tells it).
func Thinned(hits, n int, share float64) Share {
	if n == 0 {
		return Share{0, 0, 1}
	}
	return score(float64(hits)/float64(n), float64(n)*share, z)
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
// without continuity correction). Inflation is by how much dependence on one another raises the variance, at least 1.
func FramesToShow(loss, size, inflation float64) int {
	power := normalQuantile(0.8)
	p1, p2 := loss, min(1, loss+size)
	spread := p1*(1-p1) + p2*(1-p2)
	return int(math.Ceil((z + power) * (z + power) * spread * inflation / (size * size)))
}

// Bin is a latency and how often it was met.
type Bin struct {
	MS    float64
	Count int
}

// Ranks is the comparison of two samples of latency; see Permutation.
type Ranks struct {
	P         float64 `json:"p"`           // of a difference as great or greater, if there were none
	Corrected float64 `json:"p_corrected"` // for several comparisons (Holm); p where there is one
	Effect    float64 `json:"effect"`      // how often a frame of the first takes longer than one of the second; ties count half
	Shift     float64 `json:"shift_ms"`    // of the medians
}

// Shown reports whether the test tells the two apart, at 5 %.
func (r Ranks) Shown() bool { return r.Corrected < 0.05 }

// Round is a value to a number of decimal places.
func Round(v float64, digits int) float64 {
	f := math.Pow10(digits)
	return math.Round(v*f) / f
}

// Percent is a share in words: to a hundredth of a percent, and one that is less with
// two digits.
func Percent(share float64) string {
	if p := 100 * share; p > 0 && p < 0.095 {
		return fmt.Sprintf("%.2g %%", p)
	}
	return fmt.Sprintf("%.2f %%", 100*share)
}
