package record

import (
	"fmt"
	"strings"
	"testing"
)

// What must be equal or different is judged within a family, over what has a value, and those
// that stand apart from most are the ones that break it.
func TestPairFaults(t *testing.T) {
	for name, c := range map[string]struct {
		rule   string
		values string // of modules 1, 2 and so on; - is none, a letter before it another family
		want   string
	}{
		"equal":            {"equal", "7 7 7", ""},
		"one stands apart": {"equal", "7 7 9", "3: 7 at 1, 2; 9 at 3"},
		"nobody knows":     {"equal", "7 9", "1 2: 7 at 1; 9 at 2"},
		"many":             {"equal", "7 7 7 7 7 9", "6: 7 at 5 modules; 9 at 6"},
		"not many":         {"equal", "7 7 7 7 9", "5: 7 at 1, 2, 3, 4; 9 at 5"},
		"one alone":        {"equal", "7", ""},
		"none is known":    {"equal", "7 - 7", ""},
		"other families":   {"equal", "7 x9 7", ""},
		"different":        {"different", "1 2 3", ""},
		"twice":            {"different", "1 2 1", "1 3: 1 at 1, 3"},
		"twice not known":  {"different", "- - 1", ""},
		"no rule":          {"", "1 1 2", ""},
	} {
		var mods []*Settings
		for i, v := range strings.Fields(c.values) {
			s := SettingValue{Name: "group", Value: strings.TrimLeft(v, "x"), Pair: c.rule}
			if v == "-" {
				s.Value, s.Not = "", "was refused"
			}
			mods = append(mods, &Settings{Name: fmt.Sprint(i + 1), Family: "Dunlin" + map[bool]string{true: " 2"}[strings.HasPrefix(v, "x")], Settings: []SettingValue{s}})
		}
		got := ""
		for _, f := range PairFaults(mods) {
			var by []string
			for _, m := range f.Modules {
				by = append(by, m.Name)
			}
			got += strings.Join(by, " ") + ": " + f.Words()
		}
		if unknown := len(NotJudged(mods)); unknown != map[bool]int{true: strings.Count(c.values, "-")}[c.rule != ""] {
			t.Errorf("%s: %d are not judged", name, unknown)
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
