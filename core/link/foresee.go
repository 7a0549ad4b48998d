package link

import (
	"math/rand/v2"
	"slices"
	"time"

	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// Foreseen is what a test would come to at a link that loses a share of its frames.
type Foreseen struct {
	Loss      float64       `json:"loss"` // the link's own, from 0 to 1
	Passed    stats.Share   `json:"passed"`
	Failed    stats.Share   `json:"failed"`
	Undecided stats.Share   `json:"undecided"`
	Frames    int           `json:"frames"`     // in the middle of all tests: half take more
	Most      int           `json:"frames_p95"` // that 95 of 100 tests do not go beyond
	Took      time.Duration `json:"-"`          // for Frames
	TookMost  time.Duration `json:"-"`          // ... for Most
}

// Foresee makes a test so many times at a link that loses a share of its frames, in bursts of a
// mean length (1 is each by itself), and judges each as the test itself would. The same seed
// gives the same.
func (p Plan) Foresee(loss, burst float64, times int, seed uint64) Foreseen {
	rng := rand.New(rand.NewPCG(seed, uint64(loss*1e9)))
	came := map[verdict.Verdict]int{}
	var frames []int
	for range times {
		v, n := p.imagine(loss, burst, rng)
		came[v]++
		frames = append(frames, n)
	}
	slices.Sort(frames)
	f := Foreseen{
		Loss: loss, Passed: stats.Wilson(came[verdict.Passed], times), Failed: stats.Wilson(came[verdict.Failed], times), Undecided: stats.Wilson(came[verdict.Undecided], times),
		Frames: frames[len(frames)/2], Most: frames[min(len(frames)-1, len(frames)*95/100)],
	}
	f.Took, f.TookMost = p.lasts(f.Frames), p.lasts(f.Most)
	return f
}

// lasts is how long so many frames take, with the wait for the last.
func (p Plan) lasts(frames int) time.Duration {
	return time.Duration(max(0, frames-1))*p.Every + p.Deadline
}

// imagine is one test of a link whose frames are lost in bursts of a mean length.
func (p Plan) imagine(loss, burst float64, rng *rand.Rand) (verdict.Verdict, int) {
	most := *p.Limits.MaxLoss
	link := stats.Independent(loss)
	if burst > 1 {
		link = stats.TwoStates(0, 1, loss, burst)
	}
	var r stats.Runs
	var on *decision
	look := lookEvery
	link.Until(rng, p.Count, func(lost bool) bool {
		r.Add(lost)
		if p.Sure && (r.Frames() >= look || r.Frames() == p.Count) {
			look = lookNext(r.Frames())
			decide(&on, &r, most)
		}
		return on == nil
	})
	switch {
	case on != nil:
		return on.Verdict, r.Frames()
	case p.Sure:
		return verdict.Undecided, p.Count
	case r.Lost() == p.Count: // nothing arrived
		return verdict.Failed, p.Count
	}
	return r.Share().Judge(most), p.Count
}
