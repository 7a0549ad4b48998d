package procedure

import (
	"flag"
	"os"
	"slices"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write what is made of the words of the language")

// written holds a file against what it must be, or writes it.
func written(t *testing.T, path, was, must string) {
	t.Helper()
	switch {
	case was == must:
	case *update:
		if err := os.WriteFile(path, []byte(must), 0o644); err != nil {
			t.Fatal(err)
		}
	default:
		t.Errorf("%s is not as the words of the language are: go test ./core/procedure -update writes it", path)
	}
}

// The tables of the page tell each word, in the words that the language itself has for it.
func TestLanguagePage(t *testing.T) {
	const path = "../../docs/language.md"
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	was := string(b)
	page := strings.Split(was, "\n")
	for _, c := range []struct {
		under, head string // the table's head, the first below a line
		words       []Word
	}{
		{"# Header", "| line | means |", header},
		{"**Saying and hearing**", "| statement | does |", of(statements)},
		{"**Blocks**", "| block | does |", of(choosing)},
		{"**Watching.**", "| line | does |", of(watching)},
	} {
		at := slices.IndexFunc(page, func(l string) bool { return strings.HasPrefix(l, c.under) })
		if at < 0 {
			t.Fatalf("the page has no %s", c.under)
		}
		from := slices.Index(page[at:], c.head)
		if from < 0 {
			t.Fatalf("no table %s below %s", c.head, c.under)
		}
		from += at + 2 // behind the line below the head
		to := from
		for strings.HasPrefix(page[to], "| ") {
			to++
		}
		var rows []string
		for _, w := range c.words {
			for _, f := range w.Forms {
				rows = append(rows, "| "+strings.ReplaceAll(f.Line, "|", `\|`)+" | "+strings.ReplaceAll(f.Does, "|", `\|`)+" |")
			}
		}
		page = slices.Replace(page, from, to, rows...)
	}
	written(t, path, was, strings.Join(page, "\n"))
}

func of(in table) (words []Word) {
	for _, w := range inBlock {
		if w.table == in {
			words = append(words, w)
		}
	}
	return words
}

// The grammar for editors colours every word that a line begins with.
func TestGrammarWords(t *testing.T) {
	const path, begin = "../../docs/editor/parrot.tmLanguage.json", `"name": "keyword.control.parrot",
      "match": "^\\s*(`
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, found := strings.Cut(string(b), begin)
	_, after, ended := strings.Cut(rest, ")")
	if !found || !ended {
		t.Fatal("the grammar has no rule of leading words")
	}
	written(t, path, string(b), before+begin+strings.Join(Words(), "|")+")"+after)
}
