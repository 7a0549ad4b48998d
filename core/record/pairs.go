package record

import (
	"maps"
	"slices"
	"strconv"
	"strings"
)

// PairFault is a rule for modules of one family that some of them break.
type PairFault struct {
	Family  string      `json:"family"`
	Name    string      `json:"name"`
	Rule    string      `json:"rule"` // equal or different
	Values  []Held      `json:"values"`
	Modules []*Settings `json:"-"` // that break it
}

// Held is a value, and which modules have it.
type Held struct {
	Value string   `json:"value"`
	By    []string `json:"modules"`
}

// PairFaults are the rules that modules break: of what must be equal those that have not what
// most have, of what must differ those that have what another has. What a module has no value
// of is not judged.
func PairFaults(mods []*Settings) []PairFault {
	list := []PairFault{}
	eachRule(mods, func(family, name, rule string) {
		if f, broken := pairFault(mods, family, name, rule); broken {
			list = append(list, f)
		}
	})
	return list
}

// NotJudged are the settings under a rule of which a module tells no value, each with its module, in
// words: nothing is known of whether they break it. Secrets never tell one, and are left out.
func NotJudged(mods []*Settings) []string {
	list := []string{}
	eachRule(mods, func(family, name, _ string) {
		for _, m := range mods {
			if v, ok := m.Setting(name); m.Family == family && (!ok || v.Not != "" && v.Not != Secret) {
				list = append(list, name+" of "+m.Name)
			}
		}
	})
	return list
}

// eachRule hands out the rules for modules of each family, once each.
func eachRule(mods []*Settings, do func(family, name, rule string)) {
	seen := map[[2]string]bool{}
	for _, m := range mods {
		for _, v := range m.Settings {
			if key := [2]string{m.Family, v.Name}; v.Pair != "" && !seen[key] {
				seen[key] = true
				do(m.Family, v.Name, v.Pair)
			}
		}
	}
}

func pairFault(mods []*Settings, family, name, rule string) (f PairFault, broken bool) {
	f = PairFault{Family: family, Name: name, Rule: rule}
	by := map[string][]*Settings{}
	most := ""
	for _, m := range mods {
		v, ok := m.Setting(name)
		if !ok || m.Family != family || v.Not != "" {
			continue
		}
		by[v.Value] = append(by[v.Value], m)
		if len(by[v.Value]) > len(by[most]) {
			most = v.Value
		}
	}
	if rule == "equal" && len(by) < 2 {
		return f, false
	}
	for _, value := range slices.Sorted(maps.Keys(by)) {
		have := by[value]
		if rule == "different" && len(have) < 2 {
			continue
		}
		held := Held{Value: value}
		for _, m := range have {
			held.By = append(held.By, m.Name)
		}
		f.Values = append(f.Values, held)
		if rule == "different" || value != most || tied(by, len(have)) {
			f.Modules = append(f.Modules, have...)
		}
	}
	return f, len(f.Values) > 0
}

// tied reports whether several values are as frequent: then nothing tells which of them is meant.
func tied(by map[string][]*Settings, n int) bool {
	times := 0
	for _, have := range by {
		if len(have) == n {
			times++
		}
	}
	return times > 1
}

// Words are the values with the modules that have them; where more than four have one, how many.
func (f PairFault) Words() string {
	var all []string
	for _, h := range f.Values {
		at := strings.Join(h.By, ", ")
		if f.Rule == "equal" && len(h.By) > 4 {
			at = strconv.Itoa(len(h.By)) + " modules"
		}
		all = append(all, h.Value+" at "+at)
	}
	return strings.Join(all, "; ")
}
