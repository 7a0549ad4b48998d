package stats

import (
	"math"
	"time"
)

// Jitter is the interarrival jitter of RFC 3550, section 6.4.1.
type Jitter struct {
	Value float64 // nanoseconds
	Sum   float64 // of |D|, in nanoseconds
	N     int     // how many D there were
	last  time.Duration
	any   bool
}

// Mean is the mean |D|, in nanoseconds.
func (j *Jitter) Mean() float64 { return j.Sum / float64(max(1, j.N)) }

// Add takes in the transit time of the next frame.
func (j *Jitter) Add(transit time.Duration) {
	if j.any {
		d := math.Abs(float64(transit - j.last))
		j.Value += (d - j.Value) / 16
		j.Sum += d
		j.N++
	}
	j.last, j.any = transit, true
}
