package stats

import (
	"math"
	"time"
)

// Jitter is the interarrival jitter of RFC 3550, section 6.4.1.
type Jitter struct {
	Value float64 // nanoseconds
	last  time.Duration
	any   bool
}

// Add takes in the transit time of the next frame.
func (j *Jitter) Add(transit time.Duration) {
	if j.any {
		j.Value += (math.Abs(float64(transit-j.last)) - j.Value) / 16
	}
	j.last, j.any = transit, true
}
