package sheet

import (
	"slices"
)

// Change is what is otherwise in a phrasebook than in another version of it.
type Change struct {
	Section string `json:"section"`
	Name    string `json:"name"` // of the row: a setting, a command
	What    string `json:"what"` // the column; "" where the whole row is new or gone
	Before  string `json:"before,omitempty"`
	After   string `json:"after,omitempty"`
	New     bool   `json:"new,omitempty"`
	Gone    bool   `json:"gone,omitempty"`
}

// Changes are what is otherwise in a page than before, section by section, in the order of the page.
func Changes(before, after *Sheet) (all []Change) {
	if before.Title != after.Title {
		all = append(all, Change{Section: "Family", Name: "family", What: "name", Before: before.Title, After: after.Title})
	}
	if before.About != after.About {
		all = append(all, Change{Section: "Family", Name: "family", What: "about", Before: before.About, After: after.About})
	}
	titles := []string{}
	for _, s := range slices.Concat(after.Sections, before.Sections) {
		if !slices.Contains(titles, s.Title) {
			titles = append(titles, s.Title)
		}
	}
	for _, title := range titles {
		all = append(all, changes(title, before.section(title), after.section(title))...)
	}
	return all
}

// section is a section by its title; an empty one if there is none.
func (s *Sheet) section(title string) *Section {
	for i := range s.Sections {
		if s.Sections[i].Title == title {
			return &s.Sections[i]
		}
	}
	return &Section{Title: title}
}

// cells are the cells of a row by the names of their columns; nil if there is no such row. Of several rows
// of one name the n-th is meant.
func (x *Section) cells(name string, n int) map[string]string {
	for _, r := range x.Rows {
		if r[0] != name {
			continue
		}
		if n--; n >= 0 {
			continue
		}
		cells := map[string]string{}
		for i, h := range x.Head {
			cells[h] = r[i]
		}
		return cells
	}
	return nil
}

func changes(title string, before, after *Section) (all []Change) {
	seen := map[string]int{}
	for _, r := range after.Rows {
		n := seen[r[0]]
		seen[r[0]]++
		was, is := before.cells(r[0], n), after.cells(r[0], n)
		if was == nil {
			all = append(all, Change{Section: title, Name: r[0], New: true})
			continue
		}
		for _, h := range slices.Concat(after.Head, before.Head) {
			if was[h] != is[h] && !slices.ContainsFunc(all, func(c Change) bool { return c.Name == r[0] && c.What == h }) {
				all = append(all, Change{Section: title, Name: r[0], What: h, Before: was[h], After: is[h]})
			}
		}
	}
	gone := map[string]int{}
	for _, r := range before.Rows {
		if gone[r[0]]++; gone[r[0]] > seen[r[0]] {
			all = append(all, Change{Section: title, Name: r[0], Gone: true})
		}
	}
	return all
}
