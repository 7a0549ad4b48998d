package session

import (
	"slices"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// JudgeRead is the verdict on modules that were read: failed where a rule of pairs is broken, or something
// could not be read; passed where a rule could be judged and none is broken; else measured.
func JudgeRead(mods []*Module) verdict.Verdict {
	if len(Pairs(mods)) > 0 {
		return verdict.Failed
	}
	judged := false
	told := map[[2]string]int{} // by family and name, where there is a rule
	for _, m := range mods {
		for _, v := range slices.Concat(m.Identity, m.Settings.Settings) {
			if v.Bad {
				return verdict.Failed
			}
			if v.Pair != "" && v.Not == "" && m.Book != nil {
				told[[2]string{m.Family, v.Name}]++
				judged = judged || told[[2]string{m.Family, v.Name}] > 1
			}
		}
	}
	if judged {
		return verdict.Passed
	}
	return verdict.Measured
}

// JudgeSame is passed where all modules of a family have the same settings, and break no rule; undecided where no two
// of them tell the same setting, so that nothing was compared.
func JudgeSame(mods []*Module) verdict.Verdict {
	if len(Pairs(mods)) > 0 {
		return verdict.Failed
	}
	compared := false
	for i, m := range mods {
		for k, o := range mods {
			if o.Family != m.Family && o.Family != "" && m.Family != "" {
				return verdict.Failed
			}
			for _, v := range m.Settings.Settings {
				w, ok := o.Setting(v.Name)
				both := ok && v.Not == "" && w.Not == ""
				compared = compared || both && i != k
				if both && v.Value != w.Value && (m.Name == o.Name || RuleOf(mods, v.Name) != "different") {
					return verdict.Failed
				}
				if v.Bad {
					return verdict.Failed
				}
			}
		}
	}
	if !compared {
		return verdict.Undecided
	}
	return verdict.Passed
}

// JudgeChanges is the verdict on changes that were written: failed where one did not take, or where the modules
// that are left break a rule of pairs.
func JudgeChanges(changes []Change, left []*Module) verdict.Verdict {
	if len(Pairs(left)) > 0 || slices.ContainsFunc(changes, func(c Change) bool { return !c.Took }) {
		return verdict.Failed
	}
	return verdict.Passed
}

// Restored is what is wanted to have modules be as given, or, where given is nil, as delivered: of each
// the settings that can be written and of which that is known.
func Restored(found []*Module, given Wanted) Wanted {
	w := Wanted{}
	for _, m := range found {
		w[m.Name] = map[string]string{}
		for _, s := range m.Book.Settings {
			v, is := given.Of(m.Name)[s.Name]
			if given == nil {
				v, is = s.Default, s.Default != ""
			}
			if is && s.Writable() {
				w[m.Name][s.Name] = v
			}
		}
	}
	return w
}

// Likeness is how modules stand to each other, in words, where v is what JudgeSame says. That of which one tells nothing is no likeness.
func Likeness(mods []*Module, v verdict.Verdict) string {
	switch v {
	case verdict.Undecided:
		return "no two of them tell the same setting: nothing could be compared"
	case verdict.Passed:
	default:
		return "they differ"
	}
	for _, name := range NamesOf(mods) {
		for _, m := range mods {
			if got, ok := m.Setting(name); !ok || got.Not != "" {
				return "they are the same in what all of them tell"
			}
		}
	}
	return "they are the same"
}

// RuleOf is what modules of one system need of a setting, as a phrasebook tells.
func RuleOf(mods []*Module, name string) string {
	for _, m := range mods {
		if v, ok := m.Setting(name); ok && v.Pair != "" {
			return v.Pair
		}
	}
	return ""
}

// NamesOf are the names of what modules are and of their settings, each once.
func NamesOf(mods []*Module) (names []string) {
	add := func(list []record.SettingValue) {
		for _, v := range list {
			if !slices.Contains(names, v.Name) {
				names = append(names, v.Name)
			}
		}
	}
	for _, m := range mods {
		add(m.Identity)
	}
	for _, m := range mods {
		add(m.Settings.Settings)
	}
	return names
}
