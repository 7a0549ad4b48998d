package cli

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/docs"
)

// plainer are words that have a plainer one, which is to be written in their place.
var plainer = map[string]string{
	"abort": "stop", "accomplish": "do", "additional": "more", "additionally": "and", "aforementioned": "this", "approximately": "about", "assist": "help", "attempt": "try",
	"commence": "begin", "currently": "now", "determine": "find", "display": "show", "ensure": "see to it", "execute": "run", "facilitate": "help", "fatal": "say what happened",
	"functionality": "what it does", "hence": "so", "illegal": "wrong", "indicate": "show", "initiate": "begin", "in order to": "to", "instantiate": "make",
	"invoke": "call", "leverage": "use", "modify": "change", "multiple": "several", "numerous": "many", "obtain": "get", "oops": "say what happened", "please": "leave it out",
	"powerful": "say what it does", "prior to": "before", "purchase": "buy", "regarding": "of", "require": "need", "retrieve": "get", "robust": "say what it does",
	"seamless": "say what it does", "shall": "must", "simply": "leave it out", "sorry": "leave it out", "specify": "say", "subsequently": "then", "sufficient": "enough",
	"terminate": "end", "therefore": "so", "thus": "so", "upon": "on", "utilize": "use", "utilise": "use", "via": "through", "whereby": "by which", "whilst": "while",
	"e.g.": "such as", "i.e.": "that is", "dummy": "made up", "sanity": "sense", "whitelist": "list of what is allowed", "blacklist": "list of what is not allowed",
}

// pages are everything that a person reads besides messages: README, the pages, the help of each
// command, and the exact words of messages for wrong files and calls.
func pages(t *testing.T) map[string]string {
	all := map[string]string{}
	err := fs.WalkDir(docs.Files, ".", func(path string, e fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".md") {
			var b []byte
			b, err = docs.Files.ReadFile(path)
			all["docs/"+path] = string(b)
		}
		return err
	})
	for _, path := range []string{"../README.md", "../docs/editor/README.md", "../tests/testdata/mistakes.txt"} {
		b, rerr := os.ReadFile(path)
		if rerr != nil {
			err = rerr
		}
		all[path] = string(b)
	}
	if err != nil || len(all) < 20 {
		t.Fatal(len(all), err)
	}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		all[c.CommandPath()+" --help"] = c.Short + "\n" + c.Long + "\n" + c.UsageString()
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root((&shell.Streams{Out: io.Discard, Err: shell.NewScreen(io.Discard)})))
	return all
}

// Nothing that a person reads has a word in it that has a plainer one, or an exclamation mark at the
// end of a sentence; and what is written to be read is at most 100 columns wide.
func TestPlainWords(t *testing.T) {
	var words []string
	for w := range plainer {
		words = append(words, regexp.QuoteMeta(w))
	}
	heavy := regexp.MustCompile(`(?i)\b(` + strings.Join(words, "|") + `)(s|d|ed|es|ing)?(\W|$)`)
	loud := regexp.MustCompile(`[a-z]!(\s|$)`)
	code := regexp.MustCompile("`[^`]*`|\"[^\"\n]*\"|~[A-Z]+[^ ]*|Invoke-Expression")
	for name, text := range pages(t) {
		inCode := false
		for i, line := range strings.Split(text, "\n") {
			if strings.HasPrefix(line, "```") {
				inCode = !inCode
			}
			shown := inCode || strings.HasPrefix(line, "    ") || strings.HasPrefix(line, "| ") || strings.HasPrefix(line, "$ ") // what a file or a call is, not what is told
			plain := code.ReplaceAllString(line, "")
			if m := heavy.FindStringSubmatch(plain); m != nil && !(shown && strings.HasPrefix(name, "../tests")) {
				t.Errorf("%s:%d: %q: better %q", name, i+1, m[0], plainer[strings.ToLower(m[1])])
			}
			if loud.MatchString(plain) && !shown {
				t.Errorf("%s:%d: an exclamation mark: %s", name, i+1, line)
			}
			table := strings.HasPrefix(line, "|") || strings.HasPrefix(line, "![")
			if n := utf8.RuneCountInString(line); n > 100 && !table && !(shown && strings.HasSuffix(name, ".md")) {
				t.Errorf("%s:%d: %d columns: %s", name, i+1, n, line)
			}
		}
	}
}

// What the page of troubles says that the program says, it says.
func TestTroublesQuote(t *testing.T) {
	page, err := docs.Files.ReadFile("troubles.md")
	if err != nil {
		t.Fatal(err)
	}
	var source strings.Builder
	for _, root := range []string{"..", "../core"} {
		err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err == nil && strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "_test.go") {
				b, rerr := os.ReadFile(path)
				source.Write(b)
				return rerr
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	quotes := 0
	for _, row := range regexp.MustCompile(`(?m)^\| ([^|]+) \|`).FindAllStringSubmatch(string(page), -1) {
		for _, quote := range regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(row[1], -1) {
			for part := range strings.SplitSeq(quote[1], "...") {
				part = regexp.MustCompile(`\b[0-9]+\b`).ReplaceAllString(strings.TrimSpace(part), "%d")
				if part = strings.TrimPrefix(part, "--"); part == "" {
					continue
				}
				quotes++
				if !strings.Contains(source.String(), part) {
					t.Errorf("%q is nowhere said", part)
				}
			}
		}
	}
	if quotes < 15 {
		t.Errorf("only %d quotes", quotes)
	}
}
