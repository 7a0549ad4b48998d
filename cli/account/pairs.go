package account

import (
	"fmt"
	"io"

	"uparrot/cli/shell"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// TellPairs prints the rules that modules break.
func TellPairs(w io.Writer, s *shell.Screen, faults []record.PairFault) {
	for _, f := range faults {
		fmt.Fprintf(w, "\n%s: %s\n", s.Verdict(verdict.Failed, 0), PairWords(f, "is"))
	}
}

// PairWords tells in a line which rule is broken, or would be.
func PairWords(f record.PairFault, is string) string {
	must := map[string]string{"equal": "must be equal", "different": "must be unique"}[f.Rule]
	return fmt.Sprintf("%s of %s %s, and %s %s", shell.OneLine(f.Name), shell.OneLine(f.Family), must, is, shell.OneLine(f.Words()))
}
