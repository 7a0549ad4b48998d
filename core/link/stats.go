package link

import (
	"math"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"uparrot/core/verdict"
)

// Share is a part of a whole with its 95 % interval.
type Share struct {
	Ratio float64 `json:"ratio"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// z is the normal quantile of a two-sided 95 % interval.
var z = distuv.UnitNormal.Quantile(0.975)

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

// judge holds a share against the greatest allowed: where the interval lies on
// one side it decides, where the limit is inside it does not.
func (s Share) judge(most float64) verdict.Verdict {
	switch {
	case s.High <= most:
		return verdict.Passed
	case s.Low > most:
		return verdict.Failed
	}
	return verdict.Undecided
}

// jitter is the interarrival jitter of RFC 3550, section 6.4.1.
type jitter struct {
	value float64 // nanoseconds
	last  time.Duration
	any   bool
}

func (j *jitter) add(transit time.Duration) {
	if j.any {
		j.value += (math.Abs(float64(transit-j.last)) - j.value) / 16
	}
	j.last, j.any = transit, true
}
