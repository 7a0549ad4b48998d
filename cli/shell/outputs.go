package shell

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/output"
	"uparrot/core/report/chart"
	"uparrot/core/session"
)

// Outputs are the files that a command makes, with the flags that hold for all.
type Outputs struct {
	output.Files

	Copy string // of the record, where a person has asked for one
}

// Add lays on the flags that hold for every file that a command makes.
func (o *Outputs) Add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&o.Overwrite, "overwrite", false, "replace an existing file; never a record, a ledger or an input")
	addKeepBoth(cmd)
}

// addKeepBoth is one flag for outputs and records alike.
func addKeepBoth(cmd *cobra.Command) {
	if cmd.Flags().Lookup("keep-both") == nil {
		cmd.Flags().Bool("keep-both", false, "add a number if the file exists")
	}
}

// KeepBoth reports whether it was given.
func KeepBoth(cmd *cobra.Command) bool {
	given, err := cmd.Flags().GetBool("keep-both")
	return err == nil && given
}

// PlanFile looks whether an output may be written, before anything is done; flag names it.
func (o *Outputs) PlanFile(cmd *cobra.Command, flag, path string) error {
	if path == "" {
		return nil
	}
	if path == "-" && flag != "out" {
		return Usage(cmd, "--%s -: only --out takes - for standard output", flag)
	}
	o.Know(cmd)
	if path == "-" {
		return nil
	}
	if err := o.Plan("--"+flag, path); err != nil {
		return WithExample(cmd, &session.Misuse{What: err.Error()})
	}
	return nil
}

// reads are the flags that name what a command reads.
var reads = []string{"bench", "phrasebook", "set-file", "answers", "repeat-failed", "resume", "ledger", "from-record"}

// Know takes in what the flags say of other files: what the command reads, and where its
// record goes.
func (o *Outputs) Know(cmd *cobra.Command) {
	o.KeepBoth = KeepBoth(cmd)
	flags := cmd.Flags()
	o.Inputs = append(o.Inputs, flags.Args()...)
	for _, name := range reads {
		if path, err := flags.GetString(name); err == nil && path != "" { // not every command has each
			o.Inputs = append(o.Inputs, path)
		}
	}
	if files, err := flags.GetStringArray("secret-file"); err == nil {
		for _, f := range files {
			_, path, _ := strings.Cut(f, "=")
			o.Inputs = append(o.Inputs, path)
		}
	}
	if path, err := flags.GetString("record"); err == nil && path != "" {
		o.Reserve("--record", path)
	}
}

// PlanPicture is plan of one that is drawn.
func (o *Outputs) PlanPicture(cmd *cobra.Command, flag, path string) error {
	if ext := filepath.Ext(path); path != "" && ext != ".png" && ext != ".svg" {
		return Usage(cmd, "--%s %s: wanted a file that ends in .png or .svg", flag, path)
	}
	return o.PlanFile(cmd, flag, path)
}

// Save writes an output, and tells its name where that is another than was given.
func (a *Streams) Save(o *Outputs, path string, write func(io.Writer) error) error {
	if path == "-" && a.Stdout != nil {
		return write(a.Stdout)
	}
	named, err := o.Write(path, write)
	if err == nil && named != path {
		a.Err.Line("written to %s", Safe(named))
	}
	return err
}

// Draw draws a chart to a file, if one is named.
func (a *Streams) Draw(o *Outputs, path string, c chart.Chart) error {
	if path == "" {
		return nil
	}
	err := a.Save(o, path, func(w io.Writer) error { return chart.Draw(w, c, strings.TrimPrefix(filepath.Ext(path), ".")) })
	if err != nil {
		return fmt.Errorf("draw: %w", err)
	}
	return nil
}
