package pattern

import (
	"strings"
	"testing"
)

// Blanks between words, numbers, hex, word and ipv4 may be more, and tabs; others are exact.
func TestSpaced(t *testing.T) {
	for _, c := range []struct {
		text, line string
		matches    bool
		alike      bool // it would but for blanks
	}{
		{"addr {x:ipv4}", "addr    10.9.8.7", true, false},
		{"addr {x:ipv4}", "addr\t10.9.8.7", true, false},
		{"addr {x:ipv4}", "addr10.9.8.7", false, false},
		{"link is up", "link   is \tup", true, false},
		{"{n:int} of {m:int}", "3   of  12", true, false},
		{"{a:word} {b:word}", "one    two", true, false},
		{"{a:word} {b:hex} end", "one  7F   end", true, false},
		{"a  b", "a b", true, false},
		{"name {who}", "name   tower", true, false}, // an open text takes blanks as before
		{"{who} is up", "tower  is up", true, false},
		{"{who} is {how}", "tower is  up", true, false},
		{"name {=who}", "name   tower", false, true},
		{"name \ttower", "name  tower", false, true},
		{"/a b/", "a  b", false, false},
		{"node: on", "node:  off", false, false},
		{"node={n:int}", "node= 1", false, false},
	} {
		p, err := Must(c.text).Spaced().Bind(func(string) (string, error) { return "tower", nil })
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := p.Match([]byte(c.line)); ok != c.matches {
			t.Errorf("%s: %q matches: %v", c.text, c.line, ok)
		}
		if alike := p.ButForBlanks([]byte(c.line)); alike != c.alike {
			t.Errorf("%s: %q but for blanks: %v", c.text, c.line, alike)
		}
		if got := p.String(); got != strings.Replace(c.text, "{=who}", "tower", 1) {
			t.Errorf("%s is shown as %s", c.text, got)
		}
	}
	if lit, ok := Must("show  all").Spaced().Literal(); lit != "show  all" || !ok {
		t.Errorf("%q %v", lit, ok)
	}
	p := Must("{a:word} {n:int} {b:word}").Spaced()
	if caps, ok := p.Match([]byte("x   -3\ty")); !ok || caps[0].Text != "x" || caps[1].Value != -3 || caps[2].Text != "y" {
		t.Errorf("%v %v", caps, ok)
	}
}
