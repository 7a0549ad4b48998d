package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/cli/write"
	"uparrot/core/manual"
	"uparrot/core/source"
	"uparrot/docs"
)

// manualPages are the pages in which help looks for a word, in this order.
var manualPages = []string{"language.md", "phrasebook.md", "bench.md", "settings.md", "units.md", "watch.md", "link.md", "record.md", "ledger.md", "rehearse.md", "status.md", "glossary.md"}

// statusWords ask for all exit statuses.
var statusWords = []string{"exit", "status", "statuses", "exit status"}

// help tells of a command, or of a word of the language or the formats.
func help(sh *shell.Streams) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND | WORD]",
		Short: "Show help for a command, or a word of the language such as hear",
		Long: `Tells of a command; and of a word of the procedure language, of phrasebooks and benches, of the
glossary, or of an exit status ("uparrot help status" tells of all): what the pages of the project
tell of it, which are in the program.`,
		Example: "uparrot help hear",
		RunE: func(cmd *cobra.Command, words []string) error {
			root := cmd.Root()
			if len(words) == 0 {
				return root.Help()
			}
			if word := strings.ToLower(strings.Join(words, " ")); slices.Contains(statusWords, word) {
				return tellStatuses(sh)
			}
			var entries []manual.Entry
			if len(words) == 1 {
				var err error
				if entries, err = tells(words[0]); err != nil {
					return err
				}
			}
			c, rest, err := root.Find(words)
			told := err == nil && c != root && len(rest) == 0
			if told {
				if len(entries) > 0 {
					fmt.Fprintf(sh.Out, "The command %s\n\n", c.CommandPath())
				}
				if err := c.Help(); err != nil {
					return err
				}
			}
			showEntries(sh, entries, told)
			if told || len(entries) > 0 {
				return nil
			}
			known, err := manual.Words(docs.Files, manualPages[:1])
			if err != nil {
				return err
			}
			for _, c := range root.Commands() {
				known = append(known, c.Name())
			}
			word := strings.Join(words, " ")
			return shell.Usage(cmd, "no help for %q. %s", word, source.DidYouMeanOr(word, known, "uparrot help lists the commands; docs/language.md has the words of procedures."))
		},
	}
}

// tellStatuses tells of all exit statuses.
func tellStatuses(sh *shell.Streams) error {
	page := []string{"status.md"}
	statuses, err := manual.Words(docs.Files, page)
	if err != nil {
		return err
	}
	var all []manual.Entry
	for _, s := range statuses {
		found, err := manual.Find(docs.Files, page, s)
		if err != nil {
			return err
		}
		for _, e := range found {
			if _, err := strconv.Atoi(e.Form); err == nil {
				all = append(all, e)
			}
		}
	}
	showEntries(sh, all, false)
	return nil
}

// tells is what the pages and the keys of the formats tell of a word.
func tells(word string) ([]manual.Entry, error) {
	entries, err := manual.Find(docs.Files, manualPages, word)
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"phrasebook", "bench"} {
		for _, k := range write.SchemaOf(name).Find(word) {
			entries = append(entries, manual.Entry{Page: name + ".md", Heading: "A " + name, Form: k.Path + ": " + k.Wanted(), Text: k.About})
		}
	}
	return entries, nil
}

// showEntries prints what was found, each page and heading once.
func showEntries(sh *shell.Streams, entries []manual.Entry, after bool) {
	where := ""
	for _, e := range entries {
		if at := e.Page + ": " + e.Heading; at != where {
			if where != "" || after {
				fmt.Fprintln(sh.Out)
			}
			where = at
			fmt.Fprintf(sh.Out, "%s (docs/%s)\n\n", e.Heading, e.Page)
		}
		fmt.Fprint(sh.Out, e.Show())
	}
}
