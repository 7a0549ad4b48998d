package series_test

import (
	"fmt"
	"time"

	"uparrot/core/series"
)

// Values over time: what they came to, and packed as a ledger keeps them.
func Example() {
	start := time.Date(2026, 11, 2, 7, 30, 0, 0, time.UTC)
	var s series.Series
	var samples []series.Sample
	for i, volts := range []float64{12.1, 12.3, 11.9} {
		at := start.Add(time.Duration(i) * time.Second)
		s.Add(at, volts, false)
		samples = append(samples, series.Sample{At: at, Value: volts})
	}
	sum := s.Summary()
	fmt.Println(sum.N, sum.Least, sum.Mean, sum.Greatest, len(series.Pack(samples)), "bytes")
	// Output:
	// 3 11.9 12.1 12.3 22 bytes
}
