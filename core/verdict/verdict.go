// Package verdict names what a run, a step or a measurement can come to.
package verdict

import "fmt"

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
	Measured  Verdict = "measured"  // no limit was given, so nothing was judged
)

// all are the outcomes, the good first.
var all = []Verdict{Passed, Measured, Skipped, Untested, Undecided, Failed, Broken}

// parse reads an outcome.
func parse(s string) (Verdict, error) {
	for _, v := range all {
		if string(v) == s {
			return v, nil
		}
	}
	return "", fmt.Errorf("there is no verdict %q", s)
}

// UnmarshalText is Parse; no text is no verdict.
func (v *Verdict) UnmarshalText(text []byte) (err error) {
	if *v = ""; len(text) > 0 {
		*v, err = parse(string(text))
	}
	return err
}

// weight orders outcomes from good to bad.
var weight = map[Verdict]int{Measured: 0, Passed: 1, Skipped: 2, Untested: 3, Undecided: 4, Failed: 5, Broken: 6}

// Worse is the worse of two outcomes; the empty one is the best.
func Worse(a, b Verdict) Verdict {
	if a == "" || b != "" && weight[b] > weight[a] {
		return b
	}
	return a
}
