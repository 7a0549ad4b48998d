package cli

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/pflag"

	"uparrot/cli/shell"
	"uparrot/docs"
)

// shellWords cuts a call as a shell does: quotes keep words together, # begins a comment.
func shellWords(line string) (words []string, ok bool) {
	var word strings.Builder
	quote, open := rune(0), false
	for _, c := range line {
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(c)
		case c == '"' || c == '\'':
			quote, open = c, true
		case c == '#' && word.Len() == 0 && !open, c == '|' || c == '<' || c == '>':
			return words, quote == 0
		case c == ' ':
			if open || word.Len() > 0 {
				words = append(words, word.String())
				word.Reset()
			}
			open = false
		default:
			word.WriteRune(c)
		}
	}
	if open || word.Len() > 0 {
		words = append(words, word.String())
	}
	return words, quote == 0
}

var (
	ownLine = regexp.MustCompile(`(?m)^    (?:\$ )?uparrot (.*)$`)
	inText  = regexp.MustCompile("`uparrot ([^`]*)`")
	holder  = regexp.MustCompile(`^[A-Z][A-Z0-9_]*(\.\.\.)?$|\[|\.\.\.$`)
)

// Each call that a page shows is one that there is: its command, its flags and how many arguments it takes.
func TestCallsInDocs(t *testing.T) {
	pages := map[string]string{}
	err := fs.WalkDir(docs.Files, ".", func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			text, err := docs.Files.ReadFile(path)
			pages[path] = string(text)
			return err
		}
		return err
	})
	readme, err2 := os.ReadFile("../README.md")
	if err != nil || err2 != nil {
		t.Fatal(err, err2)
	}
	pages["README.md"] = string(readme)
	calls := 0
	for page, text := range pages {
		type call struct {
			line  string
			whole bool // it stands on a line of its own, and can be typed as it is
		}
		var all []call
		for _, m := range ownLine.FindAllStringSubmatch(text, -1) {
			all = append(all, call{m[1], true})
		}
		for _, m := range inText.FindAllStringSubmatch(text, -1) {
			all = append(all, call{m[1], false})
		}
		for _, c := range all {
			args, ok := shellWords(c.line)
			if !ok || len(args) == 0 {
				t.Errorf("%s: %q cannot be typed", page, c.line)
				continue
			}
			calls++
			root := root((&shell.Streams{In: strings.NewReader(""), Out: &bytes.Buffer{}, Err: shell.NewScreen(&bytes.Buffer{})}))
			root.InitDefaultHelpCmd()
			root.InitDefaultCompletionCmd()
			cmd, rest, err := root.Find(args)
			if err != nil || cmd == root && !strings.HasPrefix(args[0], "-") && !holder.MatchString(args[0]) {
				t.Errorf("%s: uparrot %s: there is no such command", page, c.line)
				continue
			}
			if strings.Contains(c.line, "--flag") {
				continue
			}
			if err := cmd.ParseFlags(rest); errors.Is(err, pflag.ErrHelp) {
				continue
			} else if err != nil {
				value := regexp.MustCompile(`needs? an argument|invalid argument "[A-Z]`)
				if c.whole || !value.MatchString(err.Error()) { // in running text a flag may stand alone, or with NAME for its value
					t.Errorf("%s: uparrot %s: %v", page, c.line, err)
				}
				continue
			}
			if c.whole && cmd.Args != nil {
				if err := cmd.ValidateArgs(cmd.Flags().Args()); err != nil {
					t.Errorf("%s: uparrot %s: %v", page, c.line, err)
				}
			}
		}
	}
	if calls < 150 {
		t.Errorf("only %d calls", calls)
	}
}
