package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/source"
	"uparrot/core/text"
	"uparrot/core/writing"
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

// checkCommand is the command check with its flags.
type checkCommand struct {
	*app
	files outputs
	name  string
	out   string
	as    string
}

func (a *app) check() *cobra.Command {
	c := &checkCommand{app: a}
	cmd := &cobra.Command{
		Use:   "check FILE|FOLDER|-...",
		Short: "Reads procedures, phrasebooks and benches without touching a port",
		Long: `Reads procedures (*.parrot), phrasebooks and benches (*.toml) and reports every
mistake with its line, without touching a port. Of a folder all such files in it and
below are read; the file - is standard input, which --name calls.`,
		Example: "uparrot check commission.parrot larkfell.toml",
		Args:    args(1, -1, "one or more files"),
		RunE:    c.run,
	}
	c.files.add(cmd)
	cmd.Flags().StringVar(&c.name, "name", "", "what standard input is called: its folder is where what it names lies")
	cmd.Flags().StringVar(&c.out, "out", "", "write the findings to this file")
	cmd.Flags().StringVar(&c.as, "as", "", "the form of that file: json or sarif")
	cmd.Flags().BoolVar(&a.json, "json", false, "print the findings as JSON")
	return cmd
}

func (c *checkCommand) run(cmd *cobra.Command, files []string) error {
	switch {
	case c.as != "" && c.as != "json" && c.as != "sarif":
		return usage(cmd, "--as: there is no form %q. %s", c.as, source.DidYouMean(c.as, []string{"json", "sarif"}))
	case c.as != "" && c.out == "":
		return usage(cmd, "--as %s: name the file with --out", c.as)
	}
	c.files.Inputs = files
	if err := c.files.plan(cmd, "out", c.out); err != nil {
		return err
	}
	files, others, err := inFolders(files)
	if err != nil {
		return usage(cmd, "%v", err)
	}
	for _, o := range others {
		c.err.line("%s is not read: it is %s", safe(o.path), o.is)
	}
	var mistakes, warnings source.Mistakes
	for _, f := range files {
		d, err := c.readDoc(f, c.name)
		if err != nil {
			mistakes = append(mistakes, source.Mistake{File: f, What: unreadable(err), Mend: source.NearFile(f, f, "")})
			continue
		}
		warnings = append(warnings, d.Warnings...)
		if mistakes = append(mistakes, d.Mistakes...); len(d.Mistakes) > 0 || c.json {
			continue
		}
		fmt.Fprintf(c.app.out, "%s: %s, no mistakes\n", d.Path, d.Words())
		if lacks := d.Lacks(); len(lacks) > 0 {
			fmt.Fprintf(c.app.out, "    it has no:\n%s", wrapped(lacks, ", ", "        "))
		}
	}
	mistakes = unique(mistakes)
	if c.json {
		err = c.printJSON(findings(mistakes, warnings))
	} else {
		c.warn(warnings)
	}
	if err == nil && c.out != "" {
		err = c.save(&c.files, c.out, func(w io.Writer) error {
			if c.as == "sarif" {
				return findingsSARIF(w, mistakes, warnings)
			}
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			return e.Encode(findings(mistakes, warnings))
		})
	}
	switch {
	case err != nil:
		return err
	case len(mistakes) > 0 && c.json:
		return errQuiet{exitUsage}
	}
	return mistakes.Err()
}

// unreadable is why a file cannot be read, without what reads it.
func unreadable(err error) string {
	if p, ok := errors.AsType[*os.PathError](err); ok {
		return "it cannot be read: " + p.Err.Error()
	}
	return err.Error()
}

// inFolders are the files, and of folders the procedures and tables in them.
func inFolders(names []string) (files []string, others []passedOver, err error) {
	for _, name := range names {
		info, err := os.Stat(name)
		if name == "-" || err != nil || !info.IsDir() {
			files = append(files, name) // what is wrong with it is told when it is read
			continue
		}
		before := len(files)
		err = filepath.WalkDir(name, func(path string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if e.IsDir() && path != name && strings.HasPrefix(e.Name(), ".") {
				return fs.SkipDir
			}
			ext := filepath.Ext(path)
			if !e.Type().IsRegular() || ext != ".parrot" && ext != ".toml" {
				return nil
			}
			text, err := source.ReadFile(path)
			switch k := source.KindOf(string(text)); {
			case err != nil || ext == ".parrot" || k == source.Bench || k == source.Phrasebook:
				files = append(files, path)
			case k == source.Unknown:
				others = append(others, passedOver{path, "neither a bench nor a phrasebook"})
			default:
				others = append(others, passedOver{path, string(k)})
			}
			return nil
		})
		if err != nil {
			return nil, nil, err
		}
		if len(files) == before {
			return nil, nil, fmt.Errorf("there is no procedure (*.parrot) and no table (*.toml) in %s", name)
		}
	}
	return files, others, nil
}

// passedOver is a file in a folder that is not read, and what it is.
type passedOver struct{ path, is string }

// findings are mistakes and warnings as data.
func findings(mistakes, warnings source.Mistakes) []finding {
	all := []finding{}
	for i, m := range slices.Concat(mistakes, warnings) {
		all = append(all, finding{m.File, m.Line, m.Column, m.Width, m.What, m.Mend, i >= len(mistakes)})
	}
	return all
}

// findingsSARIF writes mistakes and warnings as SARIF 2.1.0.
func findingsSARIF(w io.Writer, mistakes, warnings source.Mistakes) error {
	var results []sarifResult
	for i, m := range slices.Concat(mistakes, warnings) {
		r := sarifResult{Rule: "mistake", Level: "error", Text: m.What, File: m.File, Line: m.Line, Column: m.Column, Width: m.Width}
		if i >= len(mistakes) {
			r.Rule, r.Level = "warning", "warning"
		}
		if m.Mend != "" {
			r.Text += ". " + m.Mend
		}
		results = append(results, r)
	}
	return writeSARIF(w, map[string]string{"mistake": "the file cannot be used as it is", "warning": "the file can be used, and may not do what was meant"}, results)
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

// readDoc reads a file as what it is; the file - is standard input, and name what it is called then.
func (a *app) readDoc(path, name string) (*writing.Doc, error) {
	text, err := a.source(path)
	if err != nil {
		return nil, err
	}
	if path == "-" {
		if path = name; path == "" {
			path = "input.parrot"
			if k := source.KindOf(text); k == source.Bench || k == source.Phrasebook {
				path = "input.toml"
			}
		}
	}
	return writing.Read(path, text, source.ReadFile), nil
}

// isPhrasebook tells a phrasebook from a bench, as far as the file can be read.
func isPhrasebook(path string) bool {
	text, err := source.ReadFile(path)
	return err != nil || source.KindOf(string(text)) != source.Bench
}
