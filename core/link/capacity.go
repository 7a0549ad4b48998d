package link

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"uparrot/core/verdict"
)

// Capacity looks for the highest load that a link carries with its loss under a
// limit.
type Capacity struct {
	Test                    // Every, Count, Sure and Limits are set by the search
	MaxLoss float64         // share
	Least   int             // frames at each load before it is judged
	Most    int             // frames at each load at most
	Found   func(LoadPoint) // told of each load as it is measured; may be nil
}

// LoadPoint is what was found at one load, in the first direction.
type LoadPoint struct {
	EveryMS    float64         `json:"every_ms"`
	Rate       float64         `json:"frames_per_second"`
	Throughput float64         `json:"payload_bits_per_second"`
	Load       float64         `json:"wire_load"` // share of the sender's wire
	Sent       int             `json:"sent"`
	Lost       int             `json:"lost"`
	Loss       Share           `json:"loss"`
	P95MS      float64         `json:"p95_ms"`
	Verdict    verdict.Verdict `json:"verdict"`
}

// CapacityResult is what the search has found.
type CapacityResult struct {
	Size    int             `json:"size"`
	MaxLoss float64         `json:"max_loss"`
	Held    *LoadPoint      `json:"held"`   // the highest load that keeps the limit, confirmed; null if none does
	Broken  *LoadPoint      `json:"broken"` // the lowest load that breaks it, confirmed; null if the wire itself is the limit
	Points  []LoadPoint     `json:"points"` // all that was measured, in that order
	Verdict verdict.Verdict `json:"verdict"`
}

// close enough are two intervals between which nothing more is looked for.
const closeEnough = 1.12

// slowest is the longest interval that is tried.
const slowest = 30 * time.Second

// Search opens the ports for each load anew, so that one does not burden the next.
func (c *Capacity) Search(ctx context.Context) (CapacityResult, error) {
	if err := c.Check(); err != nil {
		return CapacityResult{}, err
	}
	res := CapacityResult{Size: c.Size, MaxLoss: c.MaxLoss, Points: []LoadPoint{}}
	wire := c.EveryForLoad(1)
	holds := func(every time.Duration, most int) (bool, error) {
		p, err := c.measure(ctx, every, most)
		if err != nil {
			return false, err
		}
		res.Points = append(res.Points, p)
		if c.Found != nil {
			c.Found(p)
		}
		ok := p.Verdict == verdict.Passed || p.Verdict == verdict.Undecided && p.Loss.Ratio <= c.MaxLoss
		point := &res.Points[len(res.Points)-1]
		switch {
		case ok && (res.Held == nil || point.EveryMS <= res.Held.EveryMS):
			held := *point
			res.Held = &held
		case !ok && (res.Broken == nil || point.EveryMS >= res.Broken.EveryMS):
			broken := *point
			res.Broken = &broken
		}
		return ok, nil
	}
	// From the wire's own limit down until it holds.
	fast, slow := time.Duration(0), wire
	for {
		ok, err := holds(slow, c.Most/2)
		if err != nil {
			return res, err
		}
		if ok {
			break
		}
		if fast = slow; slow > slowest {
			res.Verdict = verdict.Failed
			return res, nil
		}
		slow *= 2
	}
	// Between what breaks and what holds, by the geometric mean.
	for fast > 0 && float64(slow)/float64(fast) > closeEnough {
		middle := time.Duration(math.Sqrt(float64(fast) * float64(slow)))
		ok, err := holds(middle, c.Most/2)
		if err != nil {
			return res, err
		}
		if ok {
			slow = middle
		} else {
			fast = middle
		}
	}
	// Both ends once more, with all the frames there may be; what does not hold then
	// goes down a step.
	for range 5 {
		res.Held = nil
		ok, err := holds(slow, c.Most)
		if err != nil {
			return res, err
		}
		if ok {
			break
		}
		fast, slow = slow, time.Duration(float64(slow)*closeEnough)
	}
	if fast > 0 {
		res.Broken = nil
		if _, err := holds(fast, c.Most); err != nil {
			return res, err
		}
	}
	if res.Verdict = verdict.Passed; res.Held == nil {
		res.Verdict = verdict.Undecided
	}
	return res, nil
}

// measure tests the link at one load.
func (c *Capacity) measure(ctx context.Context, every time.Duration, most int) (LoadPoint, error) {
	t := c.Test
	t.Every, t.Count, t.Sure, t.Seed = every, max(c.Least, most), true, 0
	t.Limits = Limits{MaxLoss: &c.MaxLoss}
	t.least = c.Least
	sum, err := t.Do(ctx)
	if err != nil {
		return LoadPoint{}, err
	}
	if len(sum.Directions) == 0 {
		return LoadPoint{}, errors.New("no frame was sent")
	}
	d := sum.Directions[0]
	p := LoadPoint{
		EveryMS: float64(every.Microseconds()) / 1000, Rate: 1 / every.Seconds(), Throughput: float64(8*t.Size) / every.Seconds(),
		Load: float64(t.EveryForLoad(1)) / float64(every), Sent: d.Sent, Lost: d.Lost, Loss: d.Loss, Verdict: d.Verdict,
	}
	if d.LatencyMS != nil {
		p.P95MS = d.LatencyMS.P95
	}
	return p, nil
}

// String is the result in words.
func (r CapacityResult) String() string {
	limit := percent(r.MaxLoss)
	switch {
	case r.Held == nil && r.Broken != nil:
		return fmt.Sprintf("even one frame every %.0f ms loses more than %s", r.Broken.EveryMS, limit)
	case r.Held == nil:
		return "no load could be confirmed"
	case r.Broken == nil:
		return fmt.Sprintf("the wire is the limit: at %.1f frames/s, all that it carries, the loss stays under %s", r.Held.Rate, limit)
	}
	return fmt.Sprintf("%.1f frames/s (%.0f bits of payload a second) with a loss under %s; %.1f frames/s lose more", r.Held.Rate, r.Held.Throughput, limit, r.Broken.Rate)
}
