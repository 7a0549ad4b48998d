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
		if got := Nearest(word, known); got != want {
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

type inner struct {
	Size int               `toml:"size"`
	Map  map[string]string `toml:"map"`
}

type outer struct {
	Name  string           `toml:"name"`
	Inner inner            `toml:"inner"`
	List  []inner          `toml:"list"`
	Named map[string]inner `toml:"named"`
	Shared
}

// Shared stands in outer without a name of its own.
type Shared struct {
	Common int `toml:"common"`
}

func TestTOMLPlaces(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"name = \"a\"\ncommon = 1\n[inner]\nsize = 2\n[inner.map]\nany = \"x\"\n[[list]]\nsize = 1\n[named.b]\nsize = 3\n", ""},
		{"nmae = \"a\"\n", `t:1:1: unknown key "nmae"|Did you mean "name"?`},
		{"comon = 1\n", `t:1:1: unknown key "comon"|Did you mean "common"?`},
		{"[inner]\n  sise = 1\n", `t:2:3: unknown key "sise"|Did you mean "size"?`},
		{"[[list]]\nsize = 1\n[[list]]\nsiez = 1\n", `t:4:1: unknown key "siez"|Did you mean "size"?`},
		{"[named.b]\nszie = 1\n", `t:2:1: unknown key "szie"`},
		{"inner = { sizes = 1 }\n", `t:1:11: unknown key "inner.sizes"`},
		{"[iner]\nsize = 1\n", `t:1:2: unknown key "iner"|Did you mean "inner"?`},
		{"name = 5\n", "t:1:1: name is a whole number|Wanted here: a text in quotes."},
		{"name = \"a\n", "t:1:"},
		{"name = \"a\"\nname = \"b\"\n", "t:2:"},
	} {
		var o outer
		d := ParseTOML("t", c.text, &o)
		got := ""
		if err := d.Mistakes.Err(); err != nil {
			got = err.Error()
		}
		for _, want := range strings.Split(c.want, "|") {
			if !strings.Contains(got, want) || c.want == "" && got != "" {
				t.Errorf("%q: missing %q in\n%s", c.text, want, got)
			}
		}
	}
	var o outer
	d := ParseTOML("t", "[[list]]\nsize = 1\n\n[[list]]\nmap = { a = \"x{y\" }\n", &o)
	d.Add("list[0].size", "first", "")
	d.Add("list[1].size", "table", "") // not there: the table stands for it
	d.Add("nothing.at.all", "file", "")
	d.AddInValue("list[1].map", "x{y", 1, 1, "inside", "")
	want := "t:2:1: first,t:4:3: table,t: file,t:5:15: inside"
	var got []string
	for _, m := range d.Mistakes {
		got = append(got, m.Error())
	}
	if s := strings.Join(got, ","); s != want {
		t.Errorf("got  %s\nwant %s", s, want)
	}
}
