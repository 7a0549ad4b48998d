package port

import (
	"fmt"
	"strconv"
	"strings"
)

// fromLsof are the programs in what "lsof -F pc" writes, all but the one of a number: a line p with
// the number of each, then a line c with its name.
func fromLsof(list string, but int) []string {
	var who []string
	pid := 0
	for line := range strings.Lines(list) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "p"):
			pid, _ = strconv.Atoi(line[1:]) // what is no number is nobody's
		case strings.HasPrefix(line, "c") && pid > 0 && pid != but:
			who = append(who, fmt.Sprintf("%s (process %d)", line[1:], pid))
		}
	}
	return who
}
