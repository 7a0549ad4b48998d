package stats

import (
	"math"

	"uparrot/core/verdict"
)

// score is the interval of E. B. Wilson (J. Am. Stat. Assoc. 22, 1927) for a share p of n
// values, which need not be whole, with a quantile.
func score(p, n, quantile float64) Share {
	if !(n > 0) {
		return Share{p, 0, 1}
	}
	q2 := quantile * quantile
	middle := (p + q2/(2*n)) / (1 + q2/n)
	half := quantile / (1 + q2/n) * math.Sqrt(p*(1-p)/n+q2/(4*n*n))
	s := Share{p, max(0, middle-half), min(1, middle+half)}
	if p == 0 {
		s.Low = 0 // rounding aside it is
	}
	if p == 1 {
		s.High = 1
	}
	return s
}

// FewRuns is how many lost runs must have been seen for the fit of their lengths to be
// trusted.
const FewRuns = 20

// kept is the share of the frames that counts: losses that stand together tell less than
// independent ones. For the two-state model it is (enter + leave) / (2 - enter - leave),
// the ratio of the variances of the number lost (from the autocorrelation 1 - enter -
// leave of its states), and at most 1.
func (r *Runs) kept() float64 {
	if r.sum == r.Frames() { // as where none is lost, nothing is known of how they stand together
		return 1
	}
	if r.entered == 0 || r.bad == 0 || r.leaves == 0 {
		if r.longest > 1 { // one run: nothing is known of how often they come, but how long this is
			return 1 / float64(2*r.longest-1)
		}
		return 1
	}
	sum := float64(r.entered)/float64(r.good) + float64(r.leaves)/float64(r.bad)
	return min(1, sum/(2-sum))
}

// Effective is how many independent frames would tell as much.
func (r *Runs) Effective() float64 { return float64(r.Frames()) * r.kept() }

// Frames is how many frames were taken in.
func (r *Runs) Frames() int {
	if !r.any {
		return 0
	}
	return r.good + r.bad + 1
}

// Lost is how many frames were lost.
func (r *Runs) Lost() int { return r.sum }

// Few reports whether losses came in runs, of which there were too few to know how long
// they are.
func (r *Runs) Few() bool {
	return r.count > 0 && r.count < FewRuns && r.longest > 1 && r.sum < r.Frames()
}

// Share is the share lost with its 95 % interval for losses that may stand together:
// Wilson's with the effective number of frames, and with Student's t of (runs - 1)
// degrees of freedom, at least 1, where there were few runs longer than one frame.
func (r *Runs) Share() Share {
	if r.Frames() == 0 {
		return Share{0, 0, 1}
	}
	quantile := z
	if r.Few() {
		quantile = student(float64(r.count - 1))
	}
	return score(float64(r.sum)/float64(r.Frames()), r.Effective(), quantile)
}

// Sequential is a test that may be looked at after every frame. The evidence is the mixture
// of likelihood ratios over a Beta(1/2, 1/2) prior (H. Robbins, Ann. Math. Stat. 41,
// 1970), whose maximum over time Ville's inequality bounds, of as many frames as are
// effective. While fewer than FewRuns lost runs were seen these are at most n / (2B - 1), B
// being Excludes: a mean burst of B leaves so much of n.
//
// It returns Undecided until the evidence is enough.
func (r *Runs) Sequential(most float64) verdict.Verdict {
	n, k := r.careful()
	switch {
	case n == 0 || evidence(k, n-k, most) < math.Log(1/SequentialError):
		return verdict.Undecided
	case k/n <= most:
		return verdict.Passed
	}
	return verdict.Failed
}

// SequentialError is the greatest share of runs in which Sequential names the
// wrong side, for both sides together, as far as losses do not stand together in
// longer bursts than were seen.
const SequentialError = 0.05

// leastBurst is the mean burst that Sequential allows for where fewer than FewRuns lost
// runs were seen.
const leastBurst = 5

// Excludes is the greatest mean burst that Sequential allows for.
func (r *Runs) Excludes() int { return max(leastBurst, r.longest) }

// careful are the effective frames, and those of them that were lost, for decisions on
// the way.
func (r *Runs) careful() (n, lost float64) {
	kept := r.kept()
	if r.count < FewRuns {
		kept = min(kept, 1/float64(2*r.Excludes()-1))
	}
	return float64(r.Frames()) * kept, float64(r.sum) * kept
}

// Sequence is the share lost with bounds that hold at every moment together: in 95 % of
// tests the truth never leaves them, however often they are looked at. They are the
// shares against which Sequential has no evidence.
func (r *Runs) Sequence() Share {
	n, k := r.careful()
	if n == 0 {
		return Share{0, 0, 1}
	}
	p := k / n
	s := Share{p, 0, 1}
	enough := math.Log(1 / SequentialError)
	bound := func(inside, outside float64) float64 {
		for range 60 {
			if mid := (inside + outside) / 2; evidence(k, n-k, mid) < enough {
				inside = mid
			} else {
				outside = mid
			}
		}
		return inside
	}
	if k > 0 {
		s.Low = bound(p, 0)
	}
	if k < n {
		s.High = bound(p, 1)
	}
	return s
}

// evidence is the logarithm of the likelihood of k lost and m received under any share,
// by that under one.
func evidence(k, m, share float64) float64 {
	return lbeta(0.5+k, 0.5+m) - lbeta(0.5, 0.5) - xlogy(k, share) - xlogy(m, 1-share)
}

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

// Together reports whether the losses stand together more than independent ones do in
// one of twenty tests: the number of runs that k lost of n make is then so small (W. L.
// Stevens, Annals of Eugenics 9, 1939).
func (r *Runs) Together() bool {
	k, n := r.sum, r.Frames()
	if k < 2 || k == n {
		return false
	}
	// P(runs) = C(k-1, runs-1) C(n-k+1, runs) / C(n, k)
	choose := func(n, k int) float64 {
		if k < 0 || k > n {
			return math.Inf(-1)
		}
		a, _ := math.Lgamma(float64(n + 1))
		b, _ := math.Lgamma(float64(k + 1))
		c, _ := math.Lgamma(float64(n - k + 1))
		return a - b - c
	}
	sum := 0.0
	for runs := 1; runs <= r.count; runs++ {
		sum += math.Exp(choose(k-1, runs-1) + choose(n-k+1, runs) - choose(n, k))
	}
	return sum <= 0.05
}

// FramesToPass is how many frames it takes at least to show that a share lost keeps a
// limit: so many with none lost (from Wilson's interval). 0 stands for none that would.
func FramesToPass(most float64) int {
	if !(most > 0) {
		return 0
	}
	return int(math.Ceil(z*z*(1/most-1) - 1e-9))
}

// FramesToDecide is the same for Sequential.
func FramesToDecide(most float64) int {
	if !(most > 0) {
		return 0
	}
	return least(min(1<<40, math.MaxInt/4), func(n int) bool {
		return evidence(0, float64(n)/(2*leastBurst-1), most) >= math.Log(1/SequentialError)
	})
}

// FramesInAll is about how many frames would decide on which side of a limit the share
// lost lies, if it and its runs stay as they are; 0 if it is too near for 10 million.
func (r *Runs) FramesInAll(most float64) int {
	if r.Frames() == 0 {
		return 0
	}
	p, kept := float64(r.sum)/float64(r.Frames()), r.kept()
	for n := float64(r.Frames()); n < 10e6; n *= 1.05 {
		if s := score(p, n*kept, z); s.High <= most || s.Low > most {
			digits := math.Pow10(int(math.Log10(n)) - 1)
			return int(math.Ceil(n/digits) * digits)
		}
	}
	return 0
}
