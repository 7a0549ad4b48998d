package prove

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/source"
)

// Report is the command report.
func Report(sh *shell.Streams) *cobra.Command {
	var form, out, table string
	var verify bool
	files := &shell.Outputs{}
	cmd := &cobra.Command{
		Use:   "report RECORD",
		Short: "Make a record readable in any form, or verify that it is whole",
		Long: `Makes a report out of a record alone, at any later time: the same record gives the
same bytes. --as tells the form:

` + forms() + `
--verify tells whether the record is whole (exit status 0), cut short (4) or
altered (1). The record - is standard input, and --out - standard output.`,
		Example: "uparrot report valley.record --as html --out valley.html",
		Args:    shell.Args(1, 1, "one record"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if known := report.Forms(); !verify && !slices.Contains(known, form) {
				return shell.Usage(cmd, "--as: there is no form %q. %s", form, source.DidYouMean(form, known))
			}
			if table != "" && (form != "csv" || !slices.Contains(report.Tables, table)) {
				return shell.Usage(cmd, "--table is for --as csv, and is one of %s", strings.Join(report.Tables, ", "))
			}
			files.Inputs = args
			if err := files.PlanFile(cmd, "out", out); err != nil {
				return err
			}
			f, done, err := recordToRead(sh, args[0])
			if err != nil {
				return &session.Misuse{What: fmt.Sprintf("read the record: %v", err)}
			}
			defer done()
			if verify {
				return verifyRecord(sh, args[0], f)
			}
			d, err := account.View(sh, f, form, table, out, files)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if !d.Whole() {
				sh.Err.Line("uparrot: the record is %s. The report says so too", shell.Safe(d.Words()))
			}
			if d.Altered != "" {
				return shell.QuietError{Status: shell.ExitFailed}
			}
			return nil
		},
	}
	files.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&form, "as", "text", "the form: "+strings.Join(report.Forms(), ", "))
	fl.StringVar(&table, "table", "", "with --as csv: "+strings.Join(report.Tables, ", "))
	fl.StringVar(&out, "out", "", "write to this file, for the owner alone; without it to stdout")
	fl.BoolVar(&verify, "verify", false, "tell whether the record is whole, cut short or altered")
	fl.BoolVar(&sh.JSON, "json", false, "with --verify: print the result as JSON")
	return cmd
}

// recordToRead opens a record; - is standard input, which is kept in a file meanwhile, since a record
// is gone through twice.
func recordToRead(sh *shell.Streams, path string) (f *os.File, done func(), err error) {
	if path != "-" {
		f, err = source.Open(path)
		return f, func() { f.Close() }, err
	}
	if f, err = os.CreateTemp("", "uparrot-record-"); err != nil {
		return nil, nil, err
	}
	done = func() {
		f.Close()
		os.Remove(f.Name()) // it is in the folder for what is thrown away
	}
	_, err = io.Copy(f, sh.In)
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		done()
	}
	return f, done, err
}

func forms() string {
	var b strings.Builder
	for _, f := range report.FormsAbout() {
		fmt.Fprintf(&b, "  %-9s %s\n", f[0], f[1])
	}
	return b.String()
}

// verifyRecord tells how whole a record is.
func verifyRecord(sh *shell.Streams, name string, f io.Reader) error {
	state, err := record.Read(f, func(record.Event) error { return nil })
	_, damaged := errors.AsType[*record.Damaged](err)
	_, later := errors.AsType[*record.Later](err)
	if err != nil && !((damaged || later) && state.Events > 0) {
		return fmt.Errorf("%s: %w", name, err)
	}
	if sh.JSON {
		if err := sh.PrintJSON(map[string]any{
			"record": name, "whole": state.Whole(), "altered": state.Altered != "", "later": state.Later != "", "words": state.Words(), "lines": state.Events,
			"run": state.Origin.Run, "unit": state.Origin.Unit, "last": state.Last,
		}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(sh.Out, "%s is %s\n", shell.Safe(name), shell.Safe(state.Words()))
	}
	switch {
	case state.Altered != "":
		return shell.QuietError{Status: shell.ExitFailed}
	case state.Later != "":
		return shell.QuietError{Status: shell.ExitUsage}
	case !state.Whole():
		return shell.QuietError{Status: shell.ExitUndecided}
	}
	return nil
}
