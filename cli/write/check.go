package write

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/report"
	"uparrot/core/source"
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
	*shell.Streams
	files shell.Outputs
	name  string
	out   string
	as    string
}

// Check is the command check.
func Check(sh *shell.Streams) *cobra.Command {
	c := &checkCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "check FILE|FOLDER|-...",
		Short: "Read procedures, phrasebooks and benches without touching a port",
		Long: `Reads procedures (*.parrot), phrasebooks and benches (*.toml) and reports every
mistake with its line, without touching a port. Of a folder all such files in it and
below are read; the file - is standard input, which --name calls.`,
		Example: "uparrot check commission.parrot larkfell.toml",
		Args:    shell.Args(1, -1, "one or more files"),
		RunE:    c.run,
	}
	c.files.Add(cmd)
	cmd.Flags().StringVar(&c.name, "name", "", "what standard input is called: its folder is where what it names lies")
	cmd.Flags().StringVar(&c.out, "out", "", "write the findings to this file")
	cmd.Flags().StringVar(&c.as, "as", "", "the form of that file: json or sarif")
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print the findings as JSON")
	return cmd
}

func (c *checkCommand) run(cmd *cobra.Command, files []string) error {
	switch {
	case c.as != "" && c.as != "json" && c.as != "sarif":
		return shell.Usage(cmd, "--as: there is no form %q. %s", c.as, source.DidYouMean(c.as, []string{"json", "sarif"}))
	case c.as != "" && c.out == "":
		return shell.Usage(cmd, "--as %s: name the file with --out", c.as)
	}
	c.files.Inputs = files
	if err := c.files.PlanFile(cmd, "out", c.out); err != nil {
		return err
	}
	files, others, err := inFolders(files)
	if err != nil {
		return shell.Usage(cmd, "%v", err)
	}
	for _, o := range others {
		c.Err.Line("%s is not read: it is %s", shell.Safe(o.path), o.is)
	}
	var mistakes, warnings source.Mistakes
	for _, f := range files {
		d, err := ReadDoc(c.Streams, f, c.name)
		if err != nil {
			mistakes = append(mistakes, source.Mistake{File: f, What: "it cannot be read: " + source.Cause(err).Error(), Mend: source.NearFile(f, f, "")})
			continue
		}
		warnings = append(warnings, d.Warnings...)
		if mistakes = append(mistakes, d.Mistakes...); len(d.Mistakes) > 0 || c.JSON {
			continue
		}
		fmt.Fprintf(c.Streams.Out, "%s: %s, no mistakes\n", d.Path, d.Words())
		if lacks := d.Lacks(); len(lacks) > 0 {
			fmt.Fprintf(c.Streams.Out, "    it has no:\n%s", shell.Wrapped(lacks, ", ", "        "))
		}
	}
	mistakes = unique(mistakes)
	if c.JSON {
		err = c.PrintJSON(findings(mistakes, warnings))
	} else {
		c.Warn(warnings)
	}
	if err == nil && c.out != "" {
		err = c.Save(&c.files, c.out, func(w io.Writer) error {
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
	case len(mistakes) > 0 && c.JSON:
		return shell.QuietError{Status: shell.ExitUsage}
	}
	return mistakes.Err()
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
	var results []report.SarifResult
	for i, m := range slices.Concat(mistakes, warnings) {
		r := report.SarifResult{Rule: "mistake", Level: "error", Text: m.What, File: m.File, Line: m.Line, Column: m.Column, Width: m.Width}
		if i >= len(mistakes) {
			r.Rule, r.Level = "warning", "warning"
		}
		if m.Mend != "" {
			r.Text += ". " + m.Mend
		}
		results = append(results, r)
	}
	return report.WriteSARIF(w, shell.Version, map[string]string{"mistake": "the file cannot be used as it is", "warning": "the file can be used, and may not do what was meant"}, results)
}

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

// ReadDoc reads a file as what it is; the file - is standard input, and name what it is called then.
func ReadDoc(sh *shell.Streams, path, name string) (*writing.Doc, error) {
	text, err := textOf(sh, path)
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
