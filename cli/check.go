package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/source/toml"
	"uparrot/core/text"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/source"
)

// finding is one mistake or warning as JSON.
type finding struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Width   int    `json:"width"`
	What    string `json:"what"`
	Mend    string `json:"mend,omitempty"`
	Warning bool   `json:"warning"`
}

func (a *app) check() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "check FILE...",
		Short: "Reads procedures, phrasebooks and benches without touching a port",
		Long: `Reads procedures (*.parrot), phrasebooks and benches (*.toml) and reports every
mistake with its line, without touching a port.`,
		Example: "uparrot check commission.parrot larkfell.toml",
		Args:    args(1, -1, "one or more files"),
		RunE: func(cmd *cobra.Command, files []string) error {
			var mistakes, warnings source.Mistakes
			for _, f := range files {
				what, w, err := checkFile(f)
				warnings = append(warnings, w...)
				if m, ok := errors.AsType[source.Mistakes](err); ok {
					mistakes = append(mistakes, m...)
				} else if err != nil {
					mistakes = append(mistakes, source.Mistake{File: f, What: err.Error()})
				} else if !a.json {
					fmt.Fprintf(a.out, "%s: %s, no mistakes\n", f, what)
				}
			}
			mistakes = unique(mistakes)
			if a.json {
				all := []finding{}
				for i, m := range append(append(source.Mistakes{}, mistakes...), warnings...) {
					all = append(all, finding{m.File, m.Line, m.Column, m.Width, m.What, m.Mend, i >= len(mistakes)})
				}
				if err := a.printJSON(all); err != nil {
					return err
				}
				if len(mistakes) > 0 {
					return errQuiet{exitUsage}
				}
				return nil
			}
			a.warn(warnings)
			return mistakes.Err()
		},
	}
	cmd.Flags().BoolVar(&a.json, "json", false, "print the findings as JSON")
	return cmd
}

// errQuiet ends with a status after all has been said.
type errQuiet struct{ status int }

func (e errQuiet) Error() string { return "" }

// unique drops what is found twice, such as the mistakes of a phrasebook that
// two files name.
func unique(all source.Mistakes) source.Mistakes {
	seen := map[string]bool{}
	var out source.Mistakes
	for _, m := range all {
		if key := m.Error(); !seen[key] {
			seen[key] = true
			out = append(out, m)
		}
	}
	return out
}

// manyOfAKind is how many warnings that are mended alike are told in one line.
const manyOfAKind = 3

// warn tells of warnings. Many of a kind are one line.
func (a *app) warn(warnings source.Mistakes) {
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
			a.err.line("warning: and %d more", len(warnings)-i)
			break
		}
		if alike := kinds[key]; len(alike) >= manyOfAKind && w.Mend != "" {
			told[key] = true
			var all []string
			for _, one := range alike {
				all = append(all, fmt.Sprintf("%s (line %d)", one.What, one.Line))
			}
			a.err.line("warning: %s: %s", safe(w.File), text.Text(strings.Join(all, ", ")))
			a.err.line("    %s", text.Text(w.Mend))
			continue
		}
		a.err.line("warning: %s", text.Text(strings.TrimRight(w.Long(), "\n")))
	}
}

// warnBriefly tells in one line that there are warnings, and which is the first.
func (a *app) warnBriefly(warnings source.Mistakes) {
	if len(warnings) == 0 {
		return
	}
	first := warnings[0]
	more := ""
	if n := len(warnings) - 1; n > 0 {
		more = fmt.Sprintf(", and %d more", n)
	}
	a.err.line("warning: line %d: %s%s: uparrot check %s tells what to do", first.Line, safe(first.What), more, shellWord(first.File))
}

// checkFile reads a file as what it is.
func checkFile(path string) (what string, warnings source.Mistakes, err error) {
	if filepath.Ext(path) != ".toml" {
		f, err := procedure.Read(path)
		if err != nil {
			return "", nil, err
		}
		if len(f.Steps) == 0 {
			return "parts to include, " + count(len(f.Routines), "routine"), f.Warnings, nil
		}
		return fmt.Sprintf("procedure %q, %s", f.Title, count(len(f.Steps), "step")), f.Warnings, nil
	}
	if !isPhrasebook(path) {
		b, err := readBench(path)
		if err != nil {
			return "", nil, err
		}
		return "bench, " + count(len(b.Ports), "port"), nil, nil
	}
	pb, err := phrasebook.Read(path)
	if err != nil {
		return "", nil, err
	}
	mistakes, warnings := procedure.CheckSettings(pb)
	if err := slices.Concat(procedure.CheckPackets(pb), procedure.CheckReadings(pb), mistakes).Err(); err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("phrasebook of %s, %s", pb.Family, count(len(pb.Settings), "setting")), warnings, nil
}

// isPhrasebook tells a phrasebook from a bench, as far as the file can be read.
func isPhrasebook(path string) bool {
	var top map[string]any
	d, err := toml.Read(path, &top)
	return err != nil || !d.Has("port") && !d.Has("air")
}
