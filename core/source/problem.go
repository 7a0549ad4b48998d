package source

import "fmt"

// Problem is what is wrong with a word or a value, wherever it was written, and
// how to mend it.
type Problem struct {
	What string
	Mend string // may be empty
}

// Error is both in a row.
func (p *Problem) Error() string {
	if p.Mend == "" {
		return p.What
	}
	return p.What + ". " + p.Mend
}

// NoSuch is the problem of a word that is none of those known: there is no WHAT
// "WORD".
func NoSuch(what, word string, known []string) *Problem {
	return &Problem{fmt.Sprintf("there is no %s %q", what, word), DidYouMean(word, known)}
}
