package link

import (
	"fmt"
	"time"
)

// farClock is the clock of a far end that repeats frames, as far as its times in them tell. It has no zero in common
// with this machine's, whose own clock runs evenly (it is the monotonic one).
type farClock struct {
	stays    time.Duration // of the last frame in which it can be right
	earliest time.Duration // ... and between which its zero must lie, after that of this machine's
	latest   time.Duration
	known    bool
	steps    int
	step     time.Duration // the greatest by which it must have stepped, at least
	began    time.Time
}

// stay is how long a frame stayed there, of which the clock tells when it came and when it went, in microseconds. A
// frame cannot have stayed longer than it took in all, nor less than nothing: then the clock has stepped meanwhile,
// and the frame is taken to have stayed as long as the one before. Where the clock must have stepped between two
// frames it is told too.
func (c *farClock) stay(sent, arrived time.Time, came, went int64) time.Duration {
	stay, took := time.Duration(went-came)*time.Microsecond, arrived.Sub(sent)
	if c.began.IsZero() {
		c.began = sent
	}
	if stay < 0 || stay > took {
		c.stepped(max(-stay, stay-took))
		c.known = false // the next frame tells of a clock that has stepped already
		return min(c.stays, took)
	}
	c.stays = stay
	// It came after it was sent, and went before it arrived.
	latest := time.Duration(came)*time.Microsecond - sent.Sub(c.began)
	earliest := time.Duration(went)*time.Microsecond - arrived.Sub(c.began)
	if c.known && earliest > c.latest {
		c.stepped(earliest - c.latest)
	} else if c.known && latest < c.earliest {
		c.stepped(c.earliest - latest)
	}
	c.earliest, c.latest, c.known = earliest, latest, true
	return stay
}

func (c *farClock) stepped(by time.Duration) {
	c.steps++
	c.step = max(c.step, by)
}

// FarClock is what the clock of a far end has done that it should not.
type FarClock struct {
	Steps  int     `json:"steps"`
	StepMS float64 `json:"step_ms"` // the greatest, at least so much
}

// told is nil where it has gone evenly, as far as is known.
func (c *farClock) told() *FarClock {
	if c.steps == 0 {
		return nil
	}
	return &FarClock{c.steps, ms(c.step)}
}

// Words say what it has done.
func (f FarClock) Words() string {
	return fmt.Sprintf("the far end's clock stepped %d times, by %.1f ms or more: how long such a frame stayed there is taken from the one before", f.Steps, f.StepMS)
}
