package compare_test

import (
	"fmt"

	"uparrot/core/link"
	"uparrot/core/link/compare"
	"uparrot/core/stats"
)

// Whether a new aerial loses less: the losses of two runs, and whether their difference is shown.
func Example() {
	run := func(lost int) link.Summary {
		return link.Summary{Directions: []link.Direction{{From: "valley", To: "summit", Sent: 1000, Lost: lost, Loss: stats.Wilson(lost, 1000), Effective: 1000}}}
	}
	all, err := compare.Runs("old.json", run(80), "new.json", run(30), 0.02)
	if err != nil {
		fmt.Println(err)
		return
	}
	d := all[0].Loss
	fmt.Printf("%s: %.3f (%.3f to %.3f), shown: %v\n", all[0].Direction, d.Value, d.Low, d.High, all[0].LossShown)
	// Output: valley to summit: 0.050 (0.030 to 0.071), shown: true
}
