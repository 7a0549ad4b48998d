package source

import (
	"strings"
	"testing"
)

func TestNearest(t *testing.T) {
	known := []string{"say", "hear", "check", "limit", "phrasebook"}
	for word, want := range map[string]string{
		"sya": "say", "haer": "hear", "chekc": "check", "HEAR": "hear", "limits": "limit", "phrasbook": "phrasebook",
		"x": "", "transmit": "", "": "",
	} {
		if got := nearest(word, known); got != want {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
	if got := DidYouMean("transmit", []string{"b", "a"}); got != "Known here: a, b." {
		t.Error(got)
	}
	if got := DidYouMean("x", nil); got != "" {
		t.Error(got)
	}
}

func TestLong(t *testing.T) {
	for _, c := range []struct {
		m    Mistake
		want string
	}{
		{Mistake{File: "f", What: "it is empty"}, "f: it is empty\n"},
		{Mistake{File: "f", Line: 2, Column: 3, Width: 2, Text: "abcd", What: "no", Mend: "Do."}, "f:2:3: no\n    abcd\n      ^^\n    Do.\n"},
		{Mistake{File: "f", Line: 1, Column: 2, Width: 1, Text: "\tx", What: "no"}, "f:1:2: no\n    \tx\n    \t^\n"},
		{Mistake{File: "f", Line: 1, Column: 3, Width: 1, Text: "äöx", What: "no"}, "f:1:3: no\n    äöx\n      ^\n"},
		{Mistake{File: "f", Line: 1, Column: 9, Width: 0, Text: "a\x1b[2J", What: "no"}, "f:1:9: no\n    a\ufffd[2J\n            ^\n"},
	} {
		if got := c.m.Long(); got != c.want {
			t.Errorf("got\n%swant\n%s", got, c.want)
		}
	}
	all := Mistakes{{File: "f", Line: 3, What: "third"}, {File: "f", Line: 1, Column: 5, What: "second"}, {File: "f", Line: 1, Column: 2, What: "first"}}
	text := all.Err().Error()
	if a, b, c := strings.Index(text, "first"), strings.Index(text, "second"), strings.Index(text, "third"); a < 0 || a > b || b > c {
		t.Errorf("not in the order of the file:\n%s", text)
	}
	if Mistakes(nil).Err() != nil {
		t.Error("no mistakes are an error")
	}
}

// Mistakes of several files stand file by file, each from its first line on.
func TestMistakesOfFiles(t *testing.T) {
	m := Mistakes{{File: "b.toml", Line: 9, What: "1"}, {File: "a.toml", Line: 2, Column: 4, What: "3"}, {File: "b.toml", Line: 12, What: "2"}, {File: "a.toml", Line: 2, Column: 1, What: "4"}, {File: "b.toml", Line: 1, What: "0"}}
	got := ""
	for _, one := range m.Err().(Mistakes) {
		got += one.File[:1] + one.What + " "
	}
	if got != "b0 b1 b2 a4 a3 " {
		t.Error(got)
	}
}
