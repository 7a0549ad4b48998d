package frame

import (
	"math"
	"time"
)

// AirTime is how long bytes take in the air, after their preamble. A rate of 0
// leaves the bytes out.
func AirTime(bytes int, rate float64, preamble time.Duration) time.Duration {
	if rate == 0 {
		return preamble
	}
	return preamble + time.Duration(math.Round(float64(8*bytes)/rate*float64(time.Second)))
}
