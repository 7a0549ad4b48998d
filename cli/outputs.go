package cli

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

// outputs are the files that a command makes, with the flags that hold for all.
type outputs struct {
	output.Files

	copy string // of the record, where a person has asked for one
}

func (o *outputs) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&o.Overwrite, "overwrite", false, "replace a file that exists; never a record, a ledger or what is read")
	addKeepBoth(cmd)
}

// addKeepBoth is one flag for outputs and records alike.
func addKeepBoth(cmd *cobra.Command) {
	if cmd.Flags().Lookup("keep-both") == nil {
		cmd.Flags().Bool("keep-both", false, "where a file exists take the next free name")
	}
}

// keepBoth reports whether it was given.
func keepBoth(cmd *cobra.Command) bool {
	given, err := cmd.Flags().GetBool("keep-both")
	return err == nil && given
}

// plan looks whether an output may be written, before anything is done; flag names it.
func (o *outputs) plan(cmd *cobra.Command, flag, path string) error {
	if path == "" {
		return nil
	}
	if path == "-" && flag != "out" {
		return usage(cmd, "--%s -: only --out takes - for standard output", flag)
	}
	o.know(cmd)
	if path == "-" {
		return nil
	}
	if err := o.Plan("--"+flag, path); err != nil {
		return withExample(cmd, &session.Misuse{What: err.Error()})
	}
	return nil
}

// reads are the flags that name what a command reads.
var reads = []string{"bench", "phrasebook", "set-file", "answers", "repeat-failed", "resume", "ledger", "from-record"}

// know takes in what the flags say of other files: what the command reads, and where its
// record goes.
func (o *outputs) know(cmd *cobra.Command) {
	o.KeepBoth = keepBoth(cmd)
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

// planPicture is plan of one that is drawn.
func (o *outputs) planPicture(cmd *cobra.Command, flag, path string) error {
	if ext := filepath.Ext(path); path != "" && ext != ".png" && ext != ".svg" {
		return usage(cmd, "--%s %s: wanted a file that ends in .png or .svg", flag, path)
	}
	return o.plan(cmd, flag, path)
}

// save writes an output, and tells its name where that is another than was given.
func (a *app) save(o *outputs, path string, write func(io.Writer) error) error {
	if path == "-" && a.stdout != nil {
		return write(a.stdout)
	}
	named, err := o.Write(path, write)
	if err == nil && named != path {
		a.err.line("written to %s", safe(named))
	}
	return err
}

// draw draws a chart to a file, if one is named.
func (a *app) draw(o *outputs, path string, c chart.Chart) error {
	if path == "" {
		return nil
	}
	err := a.save(o, path, func(w io.Writer) error { return chart.Draw(w, c, strings.TrimPrefix(filepath.Ext(path), ".")) })
	if err != nil {
		return fmt.Errorf("draw: %w", err)
	}
	return nil
}
