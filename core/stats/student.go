package stats

import (
	"math"

	"gonum.org/v1/gonum/mathext"
)

// student is the quantile of Student's t for a two-sided 95 % interval, with df degrees of
// freedom, at least 1 (Abramowitz and Stegun, 26.7.1, through the incomplete beta function).
func student(df float64) float64 {
	df = max(1, df)
	x := mathext.InvRegIncBeta(df/2, 0.5, 0.05)
	return math.Sqrt(df * (1 - x) / x)
}

// binomial is how likely at most k of n come, each with probability p.
func binomial(k, n int, p float64) float64 {
	switch {
	case k < 0:
		return 0
	case k >= n:
		return 1
	}
	return mathext.RegIncBeta(float64(n-k), float64(k+1), 1-p)
}

// ranks are the places in an ordered sample of n independent values between which its
// quantile q lies with 95 % confidence, exact (H. A. David, Order Statistics, 1981,
// section 2.5): 0 means that so few values give no bound below, n+1 none above.
func ranks(q float64, n int) (low, high int) {
	low = max(0, least(n+1, func(k int) bool { return binomial(k-1, n, q) > 0.025 })-1)
	high = least(n+1, func(k int) bool { return 1-binomial(k-1, n, q) <= 0.025 })
	return low, high
}

// least is the least k of 0 to most from which on it is so; most, if it is so of none.
func least(most int, enough func(k int) bool) int {
	from, to := 0, most
	for from < to {
		if k := (from + to) / 2; enough(k) {
			to = k
		} else {
			from = k + 1
		}
	}
	return from
}
