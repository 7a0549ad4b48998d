package shell

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"uparrot/core/source"
	"uparrot/core/text"
)

// manyOfAKind is how many warnings that are mended alike are told in one line.
const manyOfAKind = 3

// Warn tells of warnings. Many of a kind are one line.
func (a *Streams) Warn(warnings source.Mistakes) {
	kinds := map[[2]string]source.Mistakes{}
	for _, w := range warnings {
		key := [2]string{w.File, w.Mend}
		kinds[key] = append(kinds[key], w)
	}
	told := map[[2]string]bool{}
	shown := 0
	for i, w := range warnings {
		key := [2]string{w.File, w.Mend}
		if told[key] {
			continue
		}
		if shown++; shown > source.Shown {
			a.Err.Line("warning: and %d more", len(warnings)-i)
			break
		}
		if alike := kinds[key]; len(alike) >= manyOfAKind && w.Mend != "" {
			told[key] = true
			var all []string
			for _, one := range alike {
				all = append(all, fmt.Sprintf("%s (line %d)", one.What, one.Line))
			}
			a.Err.Line("warning: %s: %s", Safe(w.File), text.Text(strings.Join(all, ", ")))
			a.Err.Line("    %s", text.Text(w.Mend))
			continue
		}
		a.Err.Line("warning: %s", text.Text(strings.TrimRight(w.Long(), "\n")))
	}
}

// WarnBriefly tells in one line that there are warnings, and which is the first.
func (a *Streams) WarnBriefly(warnings source.Mistakes) {
	if len(warnings) == 0 {
		return
	}
	first := warnings[0]
	more := ""
	if n := len(warnings) - 1; n > 0 {
		more = fmt.Sprintf(", and %d more", n)
	}
	a.Err.Line("warning: line %d: %s%s: uparrot check %s tells what to do", first.Line, Safe(first.What), more, ShellWord(first.File))
}

// Facts prints names and values, a row each.
func (a *Streams) Facts(rows [][2]string) {
	var all [][]string
	for _, r := range rows {
		all = append(all, []string{"  " + r[0], r[1]})
	}
	Table(a.Out, all)
}

// Section prints a table below an empty line, unless it has nothing but its head.
func (a *Streams) Section(rows [][]string) {
	if len(rows) > 1 {
		fmt.Fprintln(a.Out)
		Table(a.Out, rows)
	}
}

// Streams is what all commands share.
type Streams struct {
	In   io.Reader
	Out  io.Writer
	Err  *Screen
	JSON bool

	Stdout io.Writer // standard output, where --out - has taken it; else nil
}

// PrintJSON writes a result to stdout.
func (a *Streams) PrintJSON(v any) error {
	enc := json.NewEncoder(a.Out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}
