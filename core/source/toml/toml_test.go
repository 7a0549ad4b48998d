package toml

import (
	"strings"
	"testing"

	"uparrot/core/source"
)

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
		{"inner = { sizes = 1 }\n", `t:1:11: unknown key "sizes"`},
		{"[iner]\nsize = 1\n", `t:1:2: unknown key "iner"|Did you mean "inner"?`},
		{"name = 5\n", "t:1:1: name is a whole number|Wanted here: a text in quotes."},
		{"name = \"a\n", "t:1:"},
		{"name = \"a\"\nname = \"b\"\n", "t:2:"},
	} {
		var o outer
		d := Parse("t", c.text, &o)
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
	// All mistakes of a file come together: of syntax, of sort and of names.
	d := Parse("t", "name = 5\ncommon = = 1\nextra = 1\n[inner]\nsize = \"x\"\nsize = 2\n[inner]\n[[list]]\nsize = 0.5\n[named]\nb = 3\n", &o)
	var all []string
	for _, m := range d.Mistakes.Err().(source.Mistakes) {
		all = append(all, m.Error())
	}
	if got := strings.Join(all, "\n"); got != `t:1:1: name is a whole number
t:2:10: a value cannot begin so
t:3:1: unknown key "extra"
t:5:1: size is a text in quotes
t:6:1: size stands here a second time
t:7:2: the table inner stands here a second time
t:9:1: size is a number
t:11:1: b is a whole number` {
		t.Errorf("got\n%s", got)
	}
	o = outer{}
	d = Parse("t", "[[list]]\nsize = 1\n\n[[list]]\nmap = { a = \"x{y\" }\n", &o)
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

func FuzzParse(f *testing.F) {
	f.Add("name = \"a\"\n[inner]\nsize = 0x1f\n[[list]]\nmap = { a = \"b\" }\n")
	f.Add("0=[\n\r\n") // ends in the middle of a line end
	f.Fuzz(func(t *testing.T, text string) {
		var o outer
		for _, m := range Parse("t", text, &o).Mistakes {
			if m.Line > 0 && m.Text == "" && m.Column > 1 || m.Column < 0 {
				t.Errorf("%+v", m)
			}
		}
		var any map[string]any
		Parse("t", text, &any)
	})
}
