package procedure

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/dlclark/regexp2"
)

// grammarRule is a rule of a TextMate grammar.
type grammarRule struct {
	Match, Begin, Name, Include string
	Captures, BeginCaptures     map[string]grammarRule
	Patterns                    []grammarRule
}

// In hear as in say a port is a port, and what stands in an expression is a name, whatever it is called.
func TestGrammarScopes(t *testing.T) {
	text, err := os.ReadFile("../../docs/editor/parrot.tmLanguage.json")
	if err != nil {
		t.Fatal(err)
	}
	var g struct {
		Patterns   []grammarRule
		Repository map[string]grammarRule
	}
	if err := json.Unmarshal(text, &g); err != nil {
		t.Fatal(err)
	}
	// flat are the rules that rules lead to, in their order.
	var flat func(list []grammarRule) []grammarRule
	flat = func(list []grammarRule) (all []grammarRule) {
		for _, r := range list {
			switch {
			case r.Include != "":
				to, ok := g.Repository[strings.TrimPrefix(r.Include, "#")]
				if !ok {
					t.Fatalf("%s leads nowhere", r.Include)
				}
				all = append(all, flat([]grammarRule{to})...)
			case r.Match != "" || r.Begin != "":
				all = append(all, r)
			default:
				all = append(all, flat(r.Patterns)...)
			}
		}
		return all
	}
	// scopes are the scopes of each word of a line, as far as one rule gives them.
	scopes := func(line string) map[string]string {
		got := map[string]string{}
		for _, r := range flat(g.Patterns) {
			re := regexp2.MustCompile(r.Match+r.Begin, regexp2.None)
			m, err := re.FindStringMatch(line)
			if err != nil {
				t.Fatal(err)
			}
			if m == nil {
				continue
			}
			caps := r.Captures
			if r.Begin != "" {
				caps = r.BeginCaptures
			}
			for n, c := range caps {
				part := strings.TrimSpace(m.GroupByName(n).String())
				if part == "" {
					continue
				}
				if got[part] = c.Name; len(c.Patterns) == 0 {
					continue
				}
				for _, inner := range flat(c.Patterns) {
					re := regexp2.MustCompile(inner.Match+inner.Begin, regexp2.None)
					for found, err := re.FindStringMatch(part); found != nil && err == nil; found, err = re.FindNextMatch(found) {
						if got[found.String()] == "" {
							got[found.String()] = inner.Name
						}
					}
				}
			}
			return got
		}
		return got
	}
	const port, keyword = "variable.other.port.parrot", "keyword.other.parrot"
	for line, want := range map[string]map[string]string{
		"    say radio: AT":                        {"radio": port},
		"    hear radio within 5s: OK":             {"radio": port, "within": keyword},
		"    hear radio within 5s took boot: OK":   {"radio": port, "within": keyword},
		"    hear within 5s: OK":                   {"within": keyword},
		"    hear later radio: OK":                 {"radio": port, "later": keyword},
		"    not hear radio for 2s: OK":            {"radio": port, "for": keyword},
		"    case hear radio: OK":                  {"radio": port},
		"    reading mast within 2s: wind {v}":     {"mast": port},
		"    poll mast every 1s: wind":             {"mast": port, "every": keyword},
		"    limit from in 0..359 deg \"towards\"": {"from": "", "in": keyword},
		"    check from == until && at > 1":        {"from": "", "until": "", "at": ""},
		"    let from = on + 1":                    {"from": "variable.other.parrot", "on": ""},
		"    set radio channel = from":             {"radio": port, "channel": "variable.other.setting.parrot", "from": ""},
		"    get radio \"serial number\" as from":  {"radio": port, "from": ""},
		"    if from > 1":                          {"from": ""},
		"    for at in [1, 2]":                     {"at": "variable.other.parrot", "in": keyword},
		"    do greet(from, at)":                   {"greet": "entity.name.function.parrot", "from": "", "at": ""},
	} {
		got := scopes(line)
		for word, scope := range want {
			if got[word] != scope {
				t.Errorf("%q: %s is %q, wanted %q", line, word, got[word], scope)
			}
		}
	}
}
