package stats_test

import (
	"fmt"

	"uparrot/core/stats"
)

// Six of 200 frames were lost: what that says of the link, with 95 % confidence.
func Example() {
	s := stats.Wilson(6, 200)
	fmt.Printf("%s lost, between %s and %s\n", stats.Percent(s.Ratio), stats.Percent(s.Low), stats.Percent(s.High))
	fmt.Println("to prove less than 5 %, without a loss:", stats.FramesToPass(0.05), "frames")
	// Output:
	// 3.00 % lost, between 1.38 % and 6.39 %
	// to prove less than 5 %, without a loss: 73 frames
}
