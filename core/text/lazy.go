package text

import (
	"regexp"
	"sync"
)

// Regexp is a regular expression that is compiled when it is first needed: a program that starts
// compiles none that it does not use. It must be right; tests/house_test.go compiles all.
func Regexp(expr string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })
}
