// Package verdict names what a run, a step or a measurement can come to.
package verdict

// Verdict is an outcome.
type Verdict string

// The outcomes.
const (
	Passed    Verdict = "passed"
	Failed    Verdict = "failed"
	Untested  Verdict = "untested"  // was not reached
	Skipped   Verdict = "skipped"   // was left out on purpose
	Broken    Verdict = "broken"    // could not be run: port lost, file wrong
	Undecided Verdict = "undecided" // too little was measured to tell
)

// weight orders outcomes from good to bad.
var weight = map[Verdict]int{Passed: 0, Skipped: 1, Untested: 2, Undecided: 3, Failed: 4, Broken: 5}

// Worse is the worse of two outcomes; the empty one is the best.
func Worse(a, b Verdict) Verdict {
	if a == "" || b != "" && weight[b] > weight[a] {
		return b
	}
	return a
}
