package verdict_test

import (
	"fmt"

	"uparrot/core/verdict"
)

// Of several verdicts the worst counts for the whole.
func Example() {
	whole := verdict.Verdict("")
	for _, v := range []verdict.Verdict{verdict.Passed, verdict.Untested, verdict.Passed} {
		whole = verdict.Worse(whole, v)
	}
	fmt.Println(whole)
	// Output:
	// untested
}
