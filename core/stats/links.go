package stats

import (
	"fmt"
	"math"
	"math/rand/v2"
)

// Link is a simulated link: frames are lost with a chance that depends on its state.
type Link struct {
	Name string
	// Two states (Gilbert, 1960; Elliott, 1963): the chances of a loss in the good and in the bad one, the share of
	// frames in the bad one, and how many frames it lasts on average.
	Good, Bad, Share, Stretch float64
	// A slow fade: the logarithm of the odds of a loss moves by Depth about its middle, which makes up a loss of
	// Good, with a correlation that falls to 1/e over so many frames. 0 is no fade.
	Fade, Depth float64
	// One burst of so many frames lost, at a place of its own in each test, among losses of Good. 0 is none.
	Burst int
}

// Independent is a link whose losses come singly.
func Independent(loss float64) Link {
	return Link{Name: fmt.Sprintf("single losses, %v %%", 100*loss), Good: loss}
}

// TwoStates is a link whose losses come in stretches.
func TwoStates(good, bad, share, stretch float64) Link {
	return Link{Name: fmt.Sprintf("%v %% lost in %v %% of frames, %v %% else, stretches of %v", 100*bad, 100*share, 100*good, stretch), Good: good, Bad: bad, Share: share, Stretch: stretch}
}

// Fading is a link whose loss comes and goes slowly.
func Fading(loss, depth, frames float64) Link {
	return Link{Name: fmt.Sprintf("fades of %v frames, depth %v, %v %%", frames, depth, 100*loss), Good: loss, Fade: frames, Depth: depth}
}

// OneBurst is a link that loses so many frames in a row once in a test, and others singly.
func OneBurst(loss float64, burst int) Link {
	return Link{Name: fmt.Sprintf("single losses, %v %%, and one burst of %d", 100*loss, burst), Good: loss, Burst: burst}
}

// Loss is the share that it loses in tests of so many frames.
func (l Link) Loss(frames int) float64 {
	if l.Burst > 0 {
		return l.Good + (1-l.Good)*float64(l.Burst)/float64(frames)
	}
	return l.Good*(1-l.Share) + l.Bad*l.Share
}

// Stretches is how many stretches of loss are to be expected in a test of so many frames.
func (l Link) Stretches(frames int) float64 {
	n := float64(frames)
	switch {
	case l.Burst > 0:
		return 1
	case l.Fade > 0: // twice its integrated autocorrelation time
		return n / (2 * l.Fade)
	case l.Share > 0:
		return n * l.Share / l.Stretch
	}
	return n * l.Good
}

// Play has the link take frames, and tells of each whether it is lost.
func (l Link) Play(rng *rand.Rand, frames int, lost func(bool)) {
	l.Until(rng, frames, func(is bool) bool { lost(is); return true })
}

// Until is Play, as long as more frames are wanted.
func (l Link) Until(rng *rand.Rand, frames int, more func(lost bool) bool) {
	next := l.start(rng)
	from := math.MaxInt
	if l.Burst > 0 {
		from = rng.IntN(frames - l.Burst + 1)
	}
	for i := range frames {
		is := next()
		if !more(is || i >= from && i < from+l.Burst) {
			return
		}
	}
}

// start is the link from a moment on: whether the next frame is lost.
func (l Link) start(rng *rand.Rand) func() bool {
	switch {
	case l.Fade > 0:
		middle, x := l.middle(), rng.NormFloat64()
		keep := math.Exp(-1 / l.Fade)
		move := math.Sqrt(1 - keep*keep)
		return func() bool {
			chance := 1 / (1 + math.Exp(-middle-l.Depth*x))
			x = keep*x + move*rng.NormFloat64()
			return rng.Float64() < chance
		}
	case l.Share > 0:
		bad, leave := rng.Float64() < l.Share, 1/max(1, l.Stretch)
		enter := 1.0
		if l.Share < 1 {
			enter = min(1, l.Share*leave/(1-l.Share))
		}
		return func() bool {
			chance := l.Good
			if bad {
				chance, bad = l.Bad, rng.Float64() >= leave
			} else {
				bad = rng.Float64() < enter
			}
			return chance >= 1 || rng.Float64() < chance
		}
	}
	return func() bool { return rng.Float64() < l.Good }
}

// middle is the middle of the logarithm of the odds at which the loss is Good on average.
func (l Link) middle() float64 {
	mean := func(middle float64) float64 {
		sum, weights := 0.0, 0.0
		for x := -6.0; x <= 6; x += 0.05 {
			w := math.Exp(-x * x / 2)
			sum, weights = sum+w/(1+math.Exp(-middle-l.Depth*x)), weights+w
		}
		return sum / weights
	}
	low, high := -30.0, 30.0
	for range 60 {
		if m := (low + high) / 2; mean(m) < l.Good {
			low = m
		} else {
			high = m
		}
	}
	return low
}
