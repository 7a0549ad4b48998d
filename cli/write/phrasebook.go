package write

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/phrasebook"
	"uparrot/core/phrasebook/sheet"
	"uparrot/core/source"
	"uparrot/core/source/toml"
)

// Phrasebook is the command phrasebook with its subcommands.
func Phrasebook(sh *shell.Streams) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "phrasebook",
		Short: "Show, compare and begin phrasebooks",
		Long: `Begins a phrasebook from a table of commands, a record, or what a module tells of itself;
shows what a module family understands as a page; tells what changed from one version to
another.`,
		Example: "uparrot phrasebook show dunlin.toml",
		Args:    shell.Subcommands,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(phrasebookNew(sh), phrasebookShow(sh), phrasebookCompare(sh))
	return cmd
}

// sheetForms are the forms of a phrasebook as a page.
var sheetForms = map[string]func(*sheet.Sheet, io.Writer) error{"text": (*sheet.Sheet).Text, "markdown": (*sheet.Sheet).Markdown, "html": (*sheet.Sheet).HTML}

func phrasebookShow(sh *shell.Streams) *cobra.Command {
	var files shell.Outputs
	var as, out string
	cmd := &cobra.Command{
		Use:   "show FILE",
		Short: "Show what a module family understands, on one page",
		Long: `Shows a phrasebook as a page: how the family is spoken to, its settings with their
ranges, its commands and answers, what it sends by itself, how it refuses, its readings
and packets. With --as it is Markdown, or a page to print.`,
		Example: "uparrot phrasebook show dunlin.toml --as html --out dunlin.html",
		Args:    shell.Args(1, 1, "one phrasebook"),
		RunE: func(cmd *cobra.Command, names []string) error {
			write, ok := sheetForms[as]
			if !ok {
				return shell.Usage(cmd, "--as: there is no form %q. %s", as, source.DidYouMean(as, []string{"text", "markdown", "html"}))
			}
			files.Inputs = names
			if err := files.PlanFile(cmd, "out", out); err != nil {
				return err
			}
			pb, err := phrasebook.Read(names[0])
			if err != nil {
				return shell.AsUsage(err)
			}
			if out == "" {
				return write(sheet.Of(pb), sh.Out)
			}
			return sh.Save(&files, out, func(w io.Writer) error { return write(sheet.Of(pb), w) })
		},
	}
	files.Add(cmd)
	cmd.Flags().StringVar(&out, "out", "", "write it to this file")
	cmd.Flags().StringVar(&as, "as", "text", "its form: text, markdown or html")
	return cmd
}

func phrasebookCompare(sh *shell.Streams) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "compare OLD NEW",
		Short: "Show what changed between two versions of a phrasebook",
		Long: `Tells what is new, gone, or otherwise in the second phrasebook: settings, commands,
answers, refusals. The exit status is 1 where anything is.`,
		Example: "uparrot phrasebook compare dunlin-2.3.toml dunlin.toml",
		Args:    shell.Args(2, 2, "two phrasebooks, the older first"),
		RunE: func(_ *cobra.Command, names []string) error {
			var tables []map[string]any
			for _, name := range names {
				if _, err := phrasebook.Read(name); err != nil {
					return shell.AsUsage(err)
				}
				var table map[string]any
				if _, err := toml.Read(name, &table); err != nil {
					return shell.AsUsage(err)
				}
				tables = append(tables, table)
			}
			all := sheet.Changes(tables[0], tables[1])
			if sh.JSON {
				if all == nil {
					all = []sheet.Change{}
				}
				if err := sh.PrintJSON(all); err != nil {
					return err
				}
			} else {
				tellChanges(sh, names, all)
			}
			if len(all) > 0 {
				return shell.QuietError{Status: shell.ExitFailed}
			}
			return nil
		},
	}
	sh.AddJSON(cmd, "what changed")
	return cmd
}

// tellChanges tells what changed, section by section.
func tellChanges(sh *shell.Streams, names []string, all []sheet.Change) {
	if len(all) == 0 {
		fmt.Fprintf(sh.Out, "%s and %s tell the same\n", names[0], names[1])
		return
	}
	section := "-"
	for _, c := range all {
		if c.Section != section {
			section = c.Section
			fmt.Fprintf(sh.Out, "%s\n", cmp.Or(section, "at the top"))
		}
		name := shell.OneLine(c.Name)
		what := strings.TrimPrefix(name+", "+c.What, ", ")
		switch {
		case c.New:
			fmt.Fprintf(sh.Out, "  new   %s\n", name)
		case c.Gone:
			fmt.Fprintf(sh.Out, "  gone  %s\n", name)
		default:
			before, after := quotedOrNothing(c.Before), quotedOrNothing(c.After)
			if one := fmt.Sprintf("        %s: %s, now %s", what, before, after); shell.Width(one) <= shell.Wide {
				fmt.Fprintln(sh.Out, one)
			} else {
				fmt.Fprintf(sh.Out, "        %s:\n            %s\n            now %s\n", what, before, after)
			}
		}
	}
}

func quotedOrNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return strings.ReplaceAll(s, "\n", "; ")
}
