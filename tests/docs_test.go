package tests

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"testing"
)

var block = regexp.MustCompile("(?ms)^```(parrot|toml)\n(.*?)^```")

// Every procedure, phrasebook and bench in the docs is without mistakes.
func TestDocs(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil || len(pages) < 5 {
		t.Fatal(pages, err)
	}
	checked := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range block.FindAllSubmatch(text, -1) {
			checked++
			name := fmt.Sprintf("block%d.%s", checked, m[1])
			b.write(name, string(m[2]))
			b.run("check", name).wants(t, 0, "no mistakes")
		}
	}
	if checked < 3 {
		t.Errorf("only %d blocks were found", checked)
	}
}
