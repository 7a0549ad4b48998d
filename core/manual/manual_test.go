package manual

import (
	"strings"
	"testing"

	"uparrot/core/procedure"
	"uparrot/docs"
)

// The page of the language tells of each word that it has, and of each function, in lines that are not
// too wide.
func TestFind(t *testing.T) {
	pages := []string{"language.md"}
	for _, w := range append(procedure.Words(), "len", "crc16", "json", "elapsed") {
		entries, err := Find(docs.Files, pages, w)
		if err != nil {
			t.Fatal(err)
		}
		told := 0
		for _, e := range entries {
			if e.Text != "" && e.Heading != "" {
				told++
			}
			for _, l := range strings.Split(e.Show(), "\n") {
				if len([]rune(l)) > 100 && strings.Contains(strings.TrimSpace(l), " ") {
					t.Errorf("%s: a line of %d: %s", w, len(l), l)
				}
				if strings.ContainsAny(l, "`") || strings.Contains(l, "](") {
					t.Errorf("%s: marks are left in %s", w, l)
				}
			}
		}
		if told == 0 && !structural[w] {
			t.Errorf("nothing tells of %s", w)
		}
	}
	if got, err := Find(docs.Files, pages, "nothing_at_all"); err != nil || got != nil {
		t.Error(got, err)
	}
	if got, err := Find(docs.Files, pages, "notices"); err != nil || len(got) != 1 || !strings.HasPrefix(got[0].Text, "Lines that a module sends by itself") {
		t.Error(got, err)
	}
	if _, err := Find(docs.Files, []string{"none.md"}, "hear"); err == nil {
		t.Error("a page that there is not was read")
	}
	words, err := Words(docs.Files, pages)
	if err != nil || len(words) < 60 {
		t.Error(words, err)
	}
}

// structural are words that stand only within the rows of others.
var structural = map[string]bool{"end": true, "else": true, "case": true, "row": true}
