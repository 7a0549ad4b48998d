// Manual writes the manual pages of all commands, for man(1), into a folder; what exists there is
// replaced. SOURCE_DATE_EPOCH sets the date that they bear. Packages bring the pages:
//
//	go run ./docs/manual man1
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"

	"uparrot/cli"
	"uparrot/cli/shell"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "manual takes one folder, such as man1")
		os.Exit(2)
	}
	err := os.MkdirAll(os.Args[1], 0o755)
	if err == nil {
		err = writeManual(cli.Command(), os.Args[1])
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "write the manual pages:", err)
		os.Exit(1)
	}
}

// writeManual writes the pages of a command and of all below it. Their texts become Markdown meanwhile,
// as the generator wants them.
func writeManual(root *cobra.Command, folder string) error {
	eachPage(root, func(c *cobra.Command) {
		c.DisableAutoGenTag = true
		c.Long = inMarkdown(c.Long)
		c.Short = marks.Replace(c.Short)
		c.Flags().VisitAll(asInManual)
		c.PersistentFlags().VisitAll(asInManual)
	})
	header := func() *doc.GenManHeader {
		return &doc.GenManHeader{Section: "1", Source: "uparrot " + shell.Version, Manual: "Upright Parrot"}
	}
	if err := doc.GenManTree(root, header(), folder); err != nil {
		return err
	}
	help, _, err := root.Find([]string{"help"}) // for which the generator makes no page
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(folder, "uparrot-help.1"))
	if err != nil {
		return err
	}
	defer f.Close()
	return doc.GenMan(help, header(), f)
}

// eachPage does something with each command that people call.
func eachPage(c *cobra.Command, do func(*cobra.Command)) {
	do(c)
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() || sub.Name() == "help" && !c.HasParent() {
			eachPage(sub, do)
		}
	}
}

// marks has signs that Markdown takes for its own stand for themselves.
var marks = strings.NewReplacer(`\`, `\\`, "*", `\*`, "_", `\_`, "`", "\\`", "<", `\<`, "[", `\[`, "#", `\#`, "|", `\|`, "~", `\~`)

// inMarkdown is a text of paragraphs in Markdown. What is set in stays as it stands, line by line.
func inMarkdown(text string) string {
	var b strings.Builder
	set := false
	for line := range strings.SplitSeq(text, "\n") {
		in := strings.HasPrefix(line, " ")
		if in != set {
			b.WriteString("\n")
		}
		switch set = in; {
		case in:
			b.WriteString("    " + line + "\n")
		default:
			b.WriteString(marks.Replace(line) + "\n")
		}
	}
	return b.String()
}

// asInManual has the text of a flag stand for itself in a page.
func asInManual(f *pflag.Flag) { f.Usage = marks.Replace(f.Usage) }
