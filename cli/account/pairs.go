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
		must := map[string]string{"equal": "must be equal", "different": "must be unique"}[f.Rule]
		fmt.Fprintf(w, "\n%s: %s of %s %s, and is %s\n", s.Verdict(verdict.Failed, 0), shell.OneLine(f.Name), shell.OneLine(f.Family), must, shell.OneLine(f.Words()))
	}
}
