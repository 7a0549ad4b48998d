package session

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// told are modules in short: NAME/FAMILY setting=value; behind a value = is that all must be equal, # that all must
// differ; a value of ! could not be read, of ? is a secret. A name with ~ has no phrasebook.
func told(text string) (mods []*Module) {
	for _, one := range strings.Split(text, ";") {
		fields := strings.Fields(one)
		name, family, _ := strings.Cut(fields[0], "/")
		m := &Module{Settings: record.Settings{Name: strings.TrimSuffix(name, "~"), Family: family}, Book: &phrasebook.Phrasebook{}}
		if strings.HasSuffix(name, "~") {
			m.Book = nil
		}
		for _, f := range fields[1:] {
			of, value, _ := strings.Cut(f, "=")
			v := record.SettingValue{Name: of, Value: strings.TrimRight(value, "=#")}
			v.Pair = map[bool]string{true: "equal"}[strings.HasSuffix(value, "=")] + map[bool]string{true: "different"}[strings.HasSuffix(value, "#")]
			switch v.Value {
			case "!":
				v.Value, v.Not, v.Bad = "", "it was refused", true
			case "?":
				v.Value, v.Not = "", record.Secret
			}
			m.Settings.Settings = append(m.Settings.Settings, v)
		}
		mods = append(mods, m)
	}
	return mods
}

// What settings that were read, or are compared, come to: a rule that nothing could be held against passes nothing, and
// what was compared with nothing is not the same.
func TestSettingsByHand(t *testing.T) {
	for text, want := range map[string][3]string{
		"a/D x=1=;b/D x=1=":          {"passed", "passed", "they are the same"},
		"a/D x=1=;b/D x=2=":          {"failed", "failed", "they differ"},
		"a/D x=1#;b/D x=2#":          {"passed", "passed", "they are the same"},
		"a/D x=1#;b/D x=1#":          {"failed", "failed", "they differ"},
		"a/D x=1;b/D x=1":            {"measured", "passed", "they are the same"},
		"a/D x=1;b/D x=2":            {"measured", "failed", "they differ"},
		"a/D x=1=;b/E x=1=":          {"measured", "failed", "they differ"}, // a rule holds within a family
		"a/D x=1=;b/E x=2=;c/D x=1=": {"passed", "failed", "they differ"},
		"a/D x=1=":                   {"measured", "undecided", "no two of them tell the same setting: nothing could be compared"},
		"a/D x=1=;b/D y=1=":          {"measured", "undecided", "no two of them tell the same setting: nothing could be compared"},
		"a/D x=?=;b/D x=?=":          {"measured", "undecided", "no two of them tell the same setting: nothing could be compared"},
		"a/D x=1=;b/D x=?=":          {"measured", "undecided", "no two of them tell the same setting: nothing could be compared"},
		"a/D x=1 y=2;b/D x=1":        {"measured", "passed", "they are the same in what all of them tell"},
		"a/D x=1 y=?;b/D x=1 y=2":    {"measured", "passed", "they are the same in what all of them tell"},
		"a/D x=!;b/D x=1":            {"failed", "failed", "they differ"},
		"a/D x=1;b/D x=!":            {"failed", "failed", "they differ"},
		"a~/ x=1;b/D x=1":            {"measured", "passed", "they are the same"}, // a file of bare values
		"a/D x=1#;a/D x=2#":          {"passed", "failed", "they differ"},         // one module at two times
	} {
		mods := told(text)
		same := JudgeSame(mods)
		if got := [3]string{string(JudgeRead(mods)), string(same), Likeness(mods, same)}; got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
	mods := told("a/D x=1= z=3;b/D y=2 x=1=")
	mods[1].Identity = []record.SettingValue{{Name: "serial"}}
	if names, rule, none := NamesOf(mods), RuleOf(mods, "x"), RuleOf(mods, "z"); !reflect.DeepEqual(names, []string{"serial", "x", "z", "y"}) || rule != "equal" || none != "" {
		t.Error(names, rule, none)
	}
	for _, c := range []struct {
		left string
		took []bool
		want verdict.Verdict
	}{{"a/D x=1", []bool{true, true}, "passed"}, {"a/D x=1", nil, "passed"}, {"a/D x=1", []bool{true, false}, "failed"}, {"a/D x=1=;b/D x=2=", []bool{true}, "failed"}} {
		var changes []Change
		for _, took := range c.took {
			changes = append(changes, Change{Took: took})
		}
		if got := JudgeChanges(changes, told(c.left)); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
	book := &phrasebook.Phrasebook{Settings: []phrasebook.Setting{{Name: "x", Default: "1", Write: "AT~X={value}"}, {Name: "y", Write: "AT~Y={value}"}, {Name: "z", Default: "3"}}}
	m := &Module{Settings: record.Settings{Name: "a"}, Book: book}
	for given, want := range map[string]string{"": "map[a:map[x:1]]", "x=5 y=6 z=7 w=8": "map[a:map[x:5 y:6]]"} {
		var w Wanted
		if given != "" {
			w = Wanted{"a": {}}
			for _, f := range strings.Fields(given) {
				name, value, _ := strings.Cut(f, "=")
				w["a"][name] = value
			}
		}
		if got := fmt.Sprint(map[string]map[string]string(Restored([]*Module{m}, w))); got != want {
			t.Errorf("%s: %s, want %s", given, got, want)
		}
	}
}
