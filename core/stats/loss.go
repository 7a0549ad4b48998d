package stats

import (
	"fmt"
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

// FewStretches is how many stretches of loss must have been seen for the fit of their lengths to be trusted.
const FewStretches = 20

// fewSeen is under how many stretches that is doubtful: their number is an estimate.
const fewSeen = 30

// LongMemory is over how many frames losses are taken to depend on one another at most, where nothing tells. A
// test that is less than FewStretches times as long may miss such stretches altogether.
const LongMemory = 300

// LongEnough is how many frames a test has that would have met stretches of loss of any length up to LongMemory.
const LongEnough = FewStretches * LongMemory

// memory is how the losses seen depend on one another.
func (r *Runs) memory() memory { return r.memoryFrom(leastEvidence) }

// memoryFrom is memory, where so much evidence is enough for one.
func (r *Runs) memoryFrom(least float64) memory {
	if r.sum == 0 || r.sum == r.Frames() {
		return independent
	}
	kept := r.scales[0].Blocks == r.Frames() // else it was gone on from what an earlier version had kept
	if kept {
		if m := r.scales.memory(r.sum, r.Frames(), least); m != independent {
			return m
		}
	}
	if kept && (r.Frames() > fewFrames || !r.Together()) {
		return independent
	}
	// Too few frames for the scales: the two states with all lost in one of them.
	if r.entered == 0 || r.bad == 0 || r.leaves == 0 {
		return memory{float64(max(1, 2*r.longest-1)), float64(r.longest)}
	}
	sum := float64(r.entered)/float64(r.good) + float64(r.leaves)/float64(r.bad)
	return memory{max(1, (2-sum)/sum), 1 / sum}
}

// fewFrames are too few for the scales to tell all of a memory.
const fewFrames = 200

// Effective is how many independent frames would tell as much.
func (r *Runs) Effective() float64 { return float64(r.Frames()) / r.memory().inflation }

// Frames is how many frames were taken in.
func (r *Runs) Frames() int {
	if !r.any {
		return 0
	}
	return r.good + r.bad + 1
}

// Lost is how many frames were lost.
func (r *Runs) Lost() int { return r.sum }

// stretches is how many stretches of loss were about seen: of two states so many as the number lost varies by, and
// of slow fades the frames over twice their memory, whichever is less.
func (r *Runs) stretches(m memory, frames float64) float64 {
	p := float64(r.sum) / float64(r.Frames())
	return min(2*frames*p*(1-p)/m.inflation, frames/(2*max(m.frames, 0.5)))
}

// Stretches is about how many stretches of loss were seen, where losses stand together; false where nothing says
// that they do.
func (r *Runs) Stretches() (n float64, together bool) {
	m := r.memory()
	if m == independent {
		return 0, false
	}
	return r.stretches(m, float64(r.Frames())), true
}

// Doubt is what the interval of the share cannot know of losses that stand together; "" if there is nothing.
func (r *Runs) Doubt() string {
	n, together := r.Stretches()
	switch {
	case r.Frames() == 0:
	case r.sum == 0:
		return "none was seen, so rare bursts of losses are not excluded: the bound is for losses that come singly"
	case r.sum == r.Frames():
		return "all were lost: whether that was one outage or goes on so cannot be told"
	case together && n < fewSeen:
		return fmt.Sprintf("losses come in stretches, of which about %d were seen: too few to know how often and how long they come", max(1, int(math.Round(n))))
	case !together && r.Frames() < LongEnough:
		return fmt.Sprintf("in %d frames, stretches of loss that come less often than every %d frames are not excluded", r.Frames(), max(1, r.Frames()/FewStretches))
	}
	return ""
}

// quantile is what the interval is made with: of Student's t, with half as many degrees of freedom as stretches of
// loss were seen, since how they vary is known from them alone. The half was chosen by measurement: see docs/link.md.
func (r *Runs) quantile(m memory, frames float64) float64 {
	if m == independent {
		return z
	}
	return student(r.stretches(m, frames)/2 - 1)
}

// Share is the share lost with its 95 % interval for losses that may stand together: Wilson's with the effective
// number of frames and a wider quantile.
func (r *Runs) Share() Share {
	if r.Frames() == 0 {
		return Share{0, 0, 1}
	}
	m, n := r.memory(), float64(r.Frames())
	return score(float64(r.sum)/n, n/m.inflation, r.quantile(m, n))
}

// Sequential is a test that may be looked at after every frame. The evidence is the mixture of likelihood ratios
// over a Beta(1/2, 1/2) prior (H. Robbins, Ann. Math. Stat. 41, 1970), whose maximum over time Ville's inequality
// bounds, of as many frames as are effective. Their number is estimated, so it is taken with care: less the fewer
// stretches of loss were seen, and in a test that is not LongEnough at most n / (2B - 1), B being leastBurst,
// or lostBurst for a limit that is broken.
//
// It returns Undecided until the evidence is enough.
func (r *Runs) Sequential(most float64) verdict.Verdict {
	above := float64(r.sum) > most*float64(r.Frames())
	switch {
	case !r.against(r.memory(), most, above):
		return verdict.Undecided
	case above:
		return verdict.Failed
	}
	return verdict.Passed
}

// against reports whether there is evidence enough against a share, which that of the frames is above or not; m is how
// losses depend on one another.
func (r *Runs) against(m memory, share float64, above bool) bool {
	burst := leastBurst
	if above { // what was lost was seen: how it stands together is known better than how what may come does
		burst = lostBurst
	}
	n, k := r.careful(m, burst)
	return n > 0 && evidence(k, n-k, share) >= math.Log(1/SequentialError)
}

// SequentialError is the greatest share of runs in which Sequential names the wrong side, for both sides together,
// as far as stretches of loss come at least Every so many frames.
const SequentialError = 0.05

// leastBurst is the mean burst that Sequential allows for in a test that is not LongEnough.
const leastBurst = 20

// lostBurst is the same for deciding that a limit is broken.
const lostBurst = 5

// Every is how often stretches of loss must come at least for a test so long to have met one in 95 % of cases,
// in frames.
func (r *Runs) Every() int { return r.Frames() / 3 }

// careful are the effective frames, and those of them that were lost, for decisions on the way.
func (r *Runs) careful(m memory, burst int) (n, lost float64) {
	if r.Frames() == 0 {
		return 0, 0
	}
	frames, inflation := float64(r.Frames()), m.inflation
	if r.sum == r.Frames() { // one outage, as far as is known
		inflation = 2*frames - 1
	}
	if m != independent {
		inflation *= 1 + 2/math.Sqrt(max(1, r.stretches(m, frames)))
	}
	if r.Frames() < LongEnough {
		inflation = max(inflation, float64(2*burst-1))
	}
	return frames / inflation, float64(r.sum) / inflation
}

// Sequence is the share lost with bounds that hold at every moment together: in 95 % of
// tests the truth never leaves them, however often they are looked at. They are the
// shares against which Sequential has no evidence.
func (r *Runs) Sequence() Share {
	if r.Frames() == 0 {
		return Share{0, 0, 1}
	}
	p, m := float64(r.sum)/float64(r.Frames()), r.memory()
	bound := func(outside float64) float64 {
		inside := p
		for range 60 {
			if mid := (inside + outside) / 2; r.against(m, mid, mid < p) {
				outside = mid
			} else {
				inside = mid
			}
		}
		return inside
	}
	s := Share{p, 0, 1}
	if p > 0 {
		s.Low = bound(0)
	}
	if p < 1 {
		s.High = bound(1)
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
		inflation := 1.0
		if n < LongEnough {
			inflation = 2*leastBurst - 1
		}
		return evidence(0, float64(n)/inflation, most) >= math.Log(1/SequentialError)
	})
}

// FramesInAll is how many frames in all decide on which side of a limit the share lost lies in four cases of five,
// over all that the share may be by what was seen; 0 if it is too near for 10 million.
func (r *Runs) FramesInAll(most float64) int {
	if r.Frames() == 0 {
		return 0
	}
	if r.sum == 0 { // if it stays so, none is lost
		return roundUp(float64(max(FramesToPass(most), r.Frames())))
	}
	m, seen := r.memoryFrom(0.5), float64(r.Frames()) // a memory that is likely costs frames, one that is not known for sure too
	if m != independent {
		m.inflation *= 1 + 3/math.Sqrt(max(1, r.stretches(m, seen))) // it is less sure the fewer stretches were seen
	}
	for n := seen * 1.05; n < 10e6; n *= 1.05 {
		if r.decides(m, n, most) >= promised {
			return roundUp(n)
		}
	}
	return 0
}

// roundUp is a number of frames with two digits.
func roundUp(n float64) int {
	digits := math.Pow10(max(0, int(math.Log10(n))-1))
	return int(math.Ceil(n/digits) * digits)
}

// promised is in how many cases a number of frames is to do what is said of it; a little more than four of five,
// since it is held against what was seen.
const promised = 0.84

// decides is how likely n frames of a new test decide on a limit, for what the share may be by those that were seen.
func (r *Runs) decides(m memory, n, most float64) float64 {
	seen := float64(r.Frames())
	middle := (float64(r.sum) + 0.5) / (seen + 1) // never 0 or 1
	spread := math.Sqrt(middle * (1 - middle) * m.inflation / seen)
	// A share must be beside the limit by so much to be decided (the score interval).
	edge := r.quantile(m, n) * math.Sqrt(max(1e-12, most*(1-most))*m.inflation/n)
	likely, weights := 0.0, 0.0
	for u := -2.5; u <= 2.51; u += 0.25 {
		p := middle + u*spread
		if p <= 0 || p >= 1 {
			continue
		}
		w, own := math.Exp(-u*u/2), math.Sqrt(p*(1-p)*m.inflation/n)
		likely += w * (normal((p-most-edge)/own) + normal((most-p-edge)/own))
		weights += w
	}
	return likely / weights
}

// normal is how likely a standard normal variable is at most x.
func normal(x float64) float64 { return math.Erfc(-x/math.Sqrt2) / 2 }
