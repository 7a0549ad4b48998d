package phrasebook

import (
	"fmt"
	"strings"

	"uparrot/core/source/toml"
)

// byName finds what has a name in a list.
func byName[T any](list []T, name string, of func(*T) string) (*T, bool) {
	for i := range list {
		if of(&list[i]) == name {
			return &list[i], true
		}
	}
	return nil, false
}

// once finds that a name is given twice; seen are those before.
func once(d *toml.Doc, path, many, name string, seen map[string]bool) {
	if name != "" && seen[name] {
		d.Add(path+".name", fmt.Sprintf("there are two %s named %q", many, name), "Give each its own name.")
	}
	seen[name] = true
}

// expressions are the places of expressions, by the names of what is made of them.
func expressions(d *toml.Doc, path string, made map[string]string) map[string]Place {
	places := map[string]Place{}
	for name, text := range made {
		if places[name] = d.Place(path+name, text); strings.TrimSpace(text) == "" {
			d.Add(path+name, "there is no expression", "Write what it is made of, such as sum8(before) or raw / 10.")
		}
	}
	return places
}
