package cli

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli/shell"
)

// man writes the pages that packages bring.
func man(sh *shell.Streams) *cobra.Command {
	return &cobra.Command{
		Use:    "man FOLDER",
		Short:  "Writes manual pages, one a command, into a folder",
		Hidden: true,
		Long: `Writes the manual pages of all commands, for man(1), into a folder. What exists there
is replaced. SOURCE_DATE_EPOCH sets the date that they bear.`,
		Example: "uparrot man man1",
		Args:    shell.Args(1, 1, "one folder"),
		RunE: func(cmd *cobra.Command, folder []string) error {
			if err := os.MkdirAll(folder[0], 0o755); err != nil {
				return fmt.Errorf("make the folder for the pages: %w", err)
			}
			return writeManual(cmd.Root(), folder[0], manualDate())
		},
	}
}

// manualDate is the day that the pages bear: that of the sources.
func manualDate() time.Time {
	if s, err := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64); err == nil {
		return time.Unix(s, 0).UTC()
	}
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if at, err := time.Parse(time.RFC3339, s.Value); s.Key == "vcs.time" && err == nil {
				return at.UTC()
			}
		}
	}
	return time.Now().UTC()
}

// writeManual writes the page of a command and those of all below it.
func writeManual(cmd *cobra.Command, folder string, day time.Time) error {
	path := filepath.Join(folder, manualName(cmd)+".1")
	if err := os.WriteFile(path, []byte(manualPage(cmd, day)), 0o644); err != nil {
		return fmt.Errorf("write a manual page: %w", err)
	}
	for _, c := range cmd.Commands() {
		if hasPage(c) {
			if err := writeManual(c, folder, day); err != nil {
				return err
			}
		}
	}
	return nil
}

// hasPage reports whether a command has a page of its own: all do that people call.
func hasPage(cmd *cobra.Command) bool { return cmd.IsAvailableCommand() || cmd.Name() == "help" }

func manualName(cmd *cobra.Command) string { return strings.ReplaceAll(cmd.CommandPath(), " ", "-") }

// manualPage is the page of a command in the macros of man(7).
func manualPage(cmd *cobra.Command, day time.Time) string {
	cmd.InitDefaultHelpFlag()
	var b strings.Builder
	fmt.Fprintf(&b, ".TH %s 1 %s \"uparrot %s\" \"Upright Parrot\"\n.ad l\n.nh\n", roff(strings.ToUpper(manualName(cmd))), day.Format(time.DateOnly), roff(shell.Version))
	short := cmd.Short
	if !cmd.HasParent() {
		short = "Puts radio, modem and console-attached modules into service"
	}
	fmt.Fprintf(&b, ".SH NAME\n%s \\- %s\n", roff(manualName(cmd)), roff(lower(short)))
	fmt.Fprintf(&b, ".SH SYNOPSIS\n.nf\n%s\n.fi\n", roff(cmd.UseLine()))
	b.WriteString(".SH DESCRIPTION\n")
	writeProse(&b, cmd.Long)
	if cmd.Example != "" {
		b.WriteString(".SH EXAMPLES\n.nf\n")
		for line := range strings.SplitSeq(strings.TrimSpace(cmd.Example), "\n") {
			fmt.Fprintf(&b, "%s\n", roffLine(strings.TrimSpace(line)))
		}
		b.WriteString(".fi\n")
	}
	if cmd.HasAvailableSubCommands() {
		b.WriteString(".SH COMMANDS\n")
		for _, c := range cmd.Commands() {
			if hasPage(c) {
				fmt.Fprintf(&b, ".TP\n.BR %s (1)\n%s\n", roff(manualName(c)), roffLine(c.Short))
			}
		}
	}
	manualFlags(&b, "OPTIONS", cmd.NonInheritedFlags())
	manualFlags(&b, "OPTIONS OF EVERY COMMAND", cmd.InheritedFlags())
	b.WriteString(".SH SEE ALSO\n")
	switch {
	case !cmd.HasParent():
		b.WriteString("The pages in docs, and\n.BR uparrot\\-help (1).\n")
	default:
		fmt.Fprintf(&b, ".BR %s (1)\n", roff(manualName(cmd.Parent())))
	}
	return b.String()
}

// lower begins a text with a small letter, as the line of a name does.
func lower(s string) string {
	if len(s) > 1 && s[1] >= 'a' && s[1] <= 'z' {
		return strings.ToLower(s[:1]) + s[1:]
	}
	return s
}

// writeProse writes paragraphs; what is set in stays as it stands, line by line.
func writeProse(b *strings.Builder, text string) {
	first := true
	for part := range strings.SplitSeq(strings.Trim(text, "\n"), "\n\n") {
		if !first {
			b.WriteString(".PP\n")
		}
		first = false
		kept := false
		for line := range strings.SplitSeq(part, "\n") {
			if set := strings.HasPrefix(line, " "); set != kept {
				b.WriteString(map[bool]string{true: ".nf\n", false: ".fi\n"}[set])
				kept = set
			}
			if line != "" {
				fmt.Fprintf(b, "%s\n", roffLine(line))
			}
		}
		if kept {
			b.WriteString(".fi\n")
		}
	}
}

func manualFlags(b *strings.Builder, head string, flags *pflag.FlagSet) {
	if !flags.HasAvailableFlags() {
		return
	}
	fmt.Fprintf(b, ".SH %s\n", head)
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		value, about := pflag.UnquoteUsage(f)
		if value != "" {
			value = " " + cmp.Or(kindWords[value], value)
		}
		if d := f.DefValue; d != "" && d != "false" && d != "[]" && d != "0" && d != "0s" {
			about += fmt.Sprintf(" (default %s)", d)
		}
		fmt.Fprintf(b, ".TP\n.B %s%s\n%s\n", roff(name), roff(value), roffLine(about))
	})
}

// roff has the signs that troff takes for its own stand for themselves.
func roff(s string) string {
	return strings.NewReplacer(`\`, `\e`, "-", `\-`, `"`, `\(dq`, "^", `\(ha`, "~", `\(ti`, "`", `\(ga`).Replace(s)
}

// roffLine is a line of text that does not begin with what would be a request.
func roffLine(s string) string {
	s = roff(s)
	if strings.HasPrefix(s, ".") || strings.HasPrefix(s, "'") {
		return `\&` + s
	}
	return s
}
