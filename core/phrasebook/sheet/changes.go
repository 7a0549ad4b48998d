package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Change is what is otherwise in a phrasebook than in another version of it.
type Change struct {
	Section string `json:"section"` // a table: setting, command, line; "" is the top of the file
	Name    string `json:"name"`    // of one of several tables: of a setting, what a command says
	What    string `json:"what"`    // the key; "" where all of the table is new or gone
	Before  string `json:"before,omitempty"`
	After   string `json:"after,omitempty"`
	New     bool   `json:"new,omitempty"`
	Gone    bool   `json:"gone,omitempty"`
}

// Changes are what is otherwise in a phrasebook than before: every key of every table, as the files have
// them. Tables of several are told apart by their names, or by what they say.
func Changes(before, after map[string]any) (all []Change) {
	for _, key := range both(before, after) {
		was, is := before[key], after[key]
		switch {
		case several(was) != nil || several(is) != nil:
			all = append(all, tables(key, several(was), several(is))...)
		case one(was) != nil || one(is) != nil:
			all = append(all, keys(key, "", one(was), one(is))...)
		default:
			all = append(all, keys("", "", map[string]any{key: was}, map[string]any{key: is})...)
		}
	}
	return all
}

// both are the keys of two tables: those without tables first.
func both(a, b map[string]any) []string {
	list := slices.Compact(slices.Sorted(slices.Values(slices.Concat(slices.Collect(maps.Keys(a)), slices.Collect(maps.Keys(b))))))
	deep := func(k string) int {
		switch {
		case several(a[k]) != nil || several(b[k]) != nil:
			return 2
		case one(a[k]) != nil || one(b[k]) != nil:
			return 1
		}
		return 0
	}
	slices.SortStableFunc(list, func(x, y string) int { return deep(x) - deep(y) })
	return list
}

func one(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

// several are the tables of a list of tables; nil if it is none.
func several(v any) (all []map[string]any) {
	list, ok := v.([]any)
	if !ok {
		return nil
	}
	for _, x := range list {
		m := one(x)
		if m == nil {
			return nil
		}
		all = append(all, m)
	}
	return all
}

// tables are what is otherwise in tables of one key.
func tables(key string, before, after []map[string]any) (all []Change) {
	was, is := named(before), named(after)
	for _, x := range is {
		if old, ok := find(was, x.name); ok {
			all = append(all, keys(key, x.name, old, x.table)...)
		} else {
			all = append(all, Change{Section: key, Name: x.name, New: true})
		}
	}
	for _, x := range was {
		if _, ok := find(is, x.name); !ok {
			all = append(all, Change{Section: key, Name: x.name, Gone: true})
		}
	}
	return all
}

type entry struct {
	name  string
	table map[string]any
}

// named are tables with what tells them apart; the second of a name has a number.
func named(list []map[string]any) (all []entry) {
	seen := map[string]int{}
	for _, t := range list {
		name := fmt.Sprint(t["name"])
		if t["name"] == nil {
			name = fmt.Sprint(t["say"])
		}
		if seen[name]++; seen[name] > 1 {
			name = fmt.Sprintf("%s (%d)", name, seen[name])
		}
		all = append(all, entry{name, t})
	}
	return all
}

func find(list []entry, name string) (map[string]any, bool) {
	for _, x := range list {
		if x.name == name {
			return x.table, true
		}
	}
	return nil, false
}

// keys are what is otherwise in one table.
func keys(section, name string, before, after map[string]any) (all []Change) {
	for _, k := range both(before, after) {
		was, is := before[k], after[k]
		if one(was) != nil || one(is) != nil { // a table within, such as the meanings of refusals
			for _, c := range keys(section, name, one(was), one(is)) {
				c.What = k + "." + c.What
				all = append(all, c)
			}
			continue
		}
		if b, a := shown(was), shown(is); b != a {
			all = append(all, Change{Section: section, Name: name, What: k, Before: b, After: a})
		}
	}
	return all
}

// shown is a value as the file has it; "" if there is none.
func shown(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return fmt.Sprintf("%q", v)
	case []any:
		var all []string
		for _, x := range v {
			all = append(all, shown(x))
		}
		return "[" + strings.Join(all, ", ") + "]"
	}
	return fmt.Sprint(v)
}
