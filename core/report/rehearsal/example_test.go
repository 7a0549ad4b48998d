package rehearsal_test

import (
	"fmt"

	"uparrot/core/rehearse"
	"uparrot/core/report/rehearsal"
)

// A rehearsal in one line.
func Example() {
	fmt.Println(rehearsal.Summary(&rehearse.Report{Bad: []rehearse.Bad{{Class: rehearse.Caught}, {Class: rehearse.Caught}, {Class: rehearse.Missed}, {Class: rehearse.NotTested}}}))
	// Output: caught 66.7 %: 2 caught, 1 missed, 0 harmless, 1 not tested, 0 not observable
}
