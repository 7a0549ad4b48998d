// Package capacity looks for the highest load that a link carries.
package capacity

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// Search looks for the highest load that a link carries with its loss under a
// limit.
type Search struct {
	link.Test               // Every, Count, Sure and Limits are set by the search; its stream is told of each load (a LoadPoint) and, sealed, of the result
	MaxLoss   float64       // share lost or late
	Trial     time.Duration // how long each load is kept; 0 is DefaultTrial
	Fewest    int           // frames at each load, if the trial is shorter
	Most      int           // frames at each load at most

	try  func(ctx context.Context, every time.Duration) (LoadPoint, error) // measures at one load
	lost bool                                                              // by the load before, which may have left something behind
}

// DefaultTrial is how long each load is kept; RFC 2544, section 24, asks for 60 s.
const DefaultTrial = 10 * time.Second

// LoadPoint is what was found at one load, in the first direction.
type LoadPoint struct {
	EveryMS    float64         `json:"every_ms"`          // as planned
	KeptMS     float64         `json:"kept_every_ms"`     // as it was: the module may take frames more slowly
	Rate       float64         `json:"frames_per_second"` // carried: that came in time
	Throughput float64         `json:"payload_bits_per_second"`
	Load       float64         `json:"wire_load"` // share of the sender's wire that was really used
	Sent       int             `json:"sent"`
	Lost       int             `json:"lost"`   // or late
	Loss       stats.Share     `json:"loss"`   // lost or late
	Queued     int             `json:"queued"` // frames on their way at once, before one was known to be lost
	P95MS      record.Number   `json:"p95_ms"` // +Inf if so many were lost
	Verdict    verdict.Verdict `json:"verdict"`
}

// Name names a result.
const Name = "link capacity"

// Result is what the search has found.
type Result struct {
	Size    int        `json:"size"`
	MaxLoss float64    `json:"max_loss"`
	Held    *LoadPoint `json:"held"`   // the highest load that keeps the limit, confirmed; null if none does
	Broken  *LoadPoint `json:"broken"` // the lowest load that breaks it; null if none does

	// Buffer is how many frames the modules between had taken when the load that broke
	// the limit began to lose them; 0 if none did.
	Buffer int `json:"buffer_frames"`

	// Unsteady is set where the load that broke the limit kept it when it was tried
	// again.
	Unsteady bool `json:"unsteady,omitempty"`

	Points  []LoadPoint     `json:"points"` // all that was measured, in that order
	Verdict verdict.Verdict `json:"verdict"`
}

// close enough are two intervals between which nothing more is looked for.
const closeEnough = 1.12

// slowest is the longest interval that is tried.
const slowest = 30 * time.Second

// Do opens the ports for each load anew, so that one does not burden the next.
func (c *Search) Do(ctx context.Context) (Result, error) {
	res := Result{Size: c.Size, MaxLoss: c.MaxLoss, Points: []LoadPoint{}}
	err := c.Check()
	if c.try == nil {
		c.try = c.measure
	}
	if err == nil {
		res.Size = c.Size
		err = c.search(ctx, &res)
	}
	if err != nil {
		res.Verdict = verdict.Broken
	}
	c.Events.Emit(record.Event{Kind: record.Result, Text: Name, Verdict: res.Verdict, Value: res})
	return res, err
}

// holds measures at one interval and tells whether the link holds it.
func (c *Search) holds(ctx context.Context, res *Result, every time.Duration) (bool, error) {
	p, err := c.try(ctx, every)
	if err != nil {
		return false, err
	}
	res.Points = append(res.Points, p)
	c.Events.Emit(record.Event{Kind: record.Progress, Live: p})
	ok := p.Loss.Ratio <= c.MaxLoss // as in RFC 2544, section 26.1, the trial itself decides
	switch {
	case ok && (res.Held == nil || p.EveryMS <= res.Held.EveryMS):
		res.Held = &p
	case !ok && (res.Broken == nil || p.EveryMS >= res.Broken.EveryMS):
		res.Broken = &p
	}
	return ok, nil
}

func (c *Search) search(ctx context.Context, res *Result) error {
	// From the wire's own limit down until it holds.
	fast, slow := time.Duration(0), c.EveryForLoad(1)
	for {
		ok, err := c.holds(ctx, res, slow)
		if err != nil {
			return err
		}
		if ok {
			break
		}
		if fast = slow; slow > slowest {
			res.Verdict = verdict.Failed
			return nil
		}
		slow *= 2
	}
	// Between what breaks and what holds, by the geometric mean.
	for fast > 0 && float64(slow)/float64(fast) > closeEnough {
		middle := time.Duration(math.Sqrt(float64(fast) * float64(slow)))
		ok, err := c.holds(ctx, res, middle)
		if err != nil {
			return err
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
		ok, err := c.holds(ctx, res, slow)
		if err != nil {
			return err
		}
		if ok {
			break
		}
		fast, slow = slow, time.Duration(float64(slow)*closeEnough)
	}
	if fast > 0 {
		held, broken := res.Held, res.Broken
		res.Broken = nil
		ok, err := c.holds(ctx, res, fast)
		if err != nil {
			return err
		}
		if ok { // once so and once so: what was sure before is all that is sure
			res.Held, res.Broken, res.Unsteady = held, broken, true
		}
	}
	if res.Broken != nil {
		res.Buffer = res.Broken.Queued
	}
	if res.Verdict = verdict.Passed; res.Held == nil {
		res.Verdict = verdict.Undecided
	}
	return nil
}

// measure tests the link at one load.
func (c *Search) measure(ctx context.Context, every time.Duration) (LoadPoint, error) {
	t := c.Test
	trial := c.Trial
	if trial == 0 {
		trial = DefaultTrial
	}
	t.Events = record.Only(c.Events)
	t.Every, t.Sure, t.Seed = every, false, 0
	t.Count = min(max(c.Fewest, int(trial/every)), max(c.Most, c.Fewest))
	t.Limits = link.Limits{MaxLoss: &c.MaxLoss}
	t.Drain = c.lost // what is left of the load before is no part of this one
	sum, err := t.Do(ctx)
	if err != nil {
		return LoadPoint{}, err
	}
	if len(sum.Directions) == 0 || sum.Directions[0].Sent == 0 {
		return LoadPoint{}, errors.New("no frame was sent")
	}
	d := sum.Directions[0]
	kept := max(d.KeptMS, 0.001) / 1000
	carried := d.CarriedPS * float64(d.Received-d.Late) / float64(max(1, d.Received))
	p := LoadPoint{
		EveryMS: float64(every.Microseconds()) / 1000, KeptMS: d.KeptMS, Rate: carried, Throughput: float64(8*t.Size) * carried,
		Load: t.A.Setup.Line().Time(d.SentBytes).Seconds() / kept, Sent: d.Sent, Lost: d.Lost + d.Late, Loss: d.LostOrLate, Queued: d.MostUnder, Verdict: d.Verdict,
	}
	if d.LatencyMS != nil {
		p.P95MS = d.LatencyMS.P95
	}
	c.lost = p.Lost > 0
	return p, nil
}

// wireFull is the share of the wire from which on it is the wire that sets the rate.
const wireFull = 0.95

// String is the result in words.
func (r Result) String() string {
	limit := stats.Percent(r.MaxLoss)
	switch {
	case r.Held == nil && r.Broken != nil:
		return fmt.Sprintf("even one frame every %.0f ms loses more than %s", r.Broken.EveryMS, limit)
	case r.Held == nil:
		return "no load could be confirmed"
	case r.Broken == nil && r.Held.Load >= wireFull:
		return fmt.Sprintf("the wire is the limit: at %.1f frames/s, all that it carries, the loss stays under %s", r.Held.Rate, limit)
	case r.Broken == nil:
		return fmt.Sprintf("%.1f frames/s with a loss under %s: the modules take no more, with the wire in use for %.0f %% of the time", r.Held.Rate, limit, 100*r.Held.Load)
	}
	more := "lose more"
	if r.Unsteady {
		more = "lose more at one time and less at another"
	}
	return fmt.Sprintf("%.1f frames/s (%.0f bits of payload a second) with a loss under %s; %.1f frames/s sent %s", r.Held.Rate, r.Held.Throughput, limit, 1000/max(r.Broken.KeptMS, 0.001), more)
}
