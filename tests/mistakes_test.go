//go:build unix

package tests

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"unicode/utf8"
)

var rewrite = flag.Bool("rewrite", false, "write what is said now into testdata/mistakes.txt")

// wrong is one wrong file or call of the table, and what is said of it.
type wrong struct {
	title string
	files map[string]string
	head  []string // its lines as they stand in the table, before what is said
	call  string
	says  string
}

// wrongs reads the table, whose beginning says how it is written.
func wrongs(t *testing.T) (intro string, all []*wrong) {
	t.Helper()
	text, err := os.ReadFile("testdata/mistakes.txt")
	if err != nil {
		t.Fatal(err)
	}
	parts := strings.Split(string(text), "\n### ")
	for _, part := range parts[1:] {
		w := &wrong{files: map[string]string{}}
		var says []string
		file := ""
		for i, l := range strings.Split(strings.TrimRight(part, "\n"), "\n") {
			switch {
			case i == 0:
				w.title = l
				continue
			case w.call != "":
				says = append(says, l)
				continue
			case strings.HasPrefix(l, "$ "):
				w.call = l[2:]
			case strings.HasPrefix(l, "= "):
				file = l[2:]
			case l == ">" || strings.HasPrefix(l, "> "):
				w.files[file] += strings.TrimPrefix(l[1:], " ") + "\n"
			case strings.HasPrefix(l, "| "):
				w.files["x.parrot"] += "    " + l[2:] + "\n"
			default:
				t.Fatalf("%s: %q", w.title, l)
			}
			w.head = append(w.head, l)
		}
		if body := w.files["x.parrot"]; strings.Contains("\n"+strings.Join(w.head, "\n"), "\n| ") {
			w.files["x.parrot"] = "procedure \"Commission\"\nport radio: phrasebook \"dunlin.toml\"\ninput address: int 1..9 = 5\nstep \"it answers\"\n" + body + "end\n"
		}
		w.says = strings.Join(says, "\n")
		all = append(all, w)
	}
	return parts[0], all
}

// What is said of each wrong file and call stands in one table, word for word.
func TestMistakes(t *testing.T) {
	t.Parallel()
	intro, all := wrongs(t)
	out := intro
	for _, w := range all {
		b := newBench(t)
		for name, text := range w.files {
			b.write(name, text)
		}
		c := b.run(strings.Fields(w.call)...)
		said := strings.TrimRight(c.err, "\n")
		if w.says != said && !*rewrite {
			t.Errorf("%s: uparrot %s says\n%s\nwanted\n%s", w.title, w.call, said, w.says)
		}
		if c.status != 2 && c.status != 3 && c.status != 4 {
			t.Errorf("%s: uparrot %s: status %d: %s%s", w.title, w.call, c.status, c.out, c.err)
		}
		for _, l := range strings.Split(said, "\n") {
			if n := utf8.RuneCountInString(l); n > 100 {
				t.Errorf("%s: a line of %d columns: %s", w.title, n, l)
			}
		}
		out += fmt.Sprintf("\n### %s\n%s\n%s\n", w.title, strings.Join(w.head, "\n"), said)
	}
	if len(all) < 120 {
		t.Errorf("only %d cases", len(all))
	}
	if *rewrite {
		if err := os.WriteFile("testdata/mistakes.txt", []byte(out), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
