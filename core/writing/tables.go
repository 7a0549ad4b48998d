package writing

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/schema"
	"uparrot/core/text"
)

var (
	tableHead = text.Regexp(`^\s*\[+([^\]]*)\]*`)
	keyLine   = text.Regexp(`^\s*([A-Za-z0-9_-]+)\s*=\s*(.*)$`)
	keyPart   = text.Regexp(`^\s*([A-Za-z0-9_-]*)$`)
	headPart  = text.Regexp(`^\s*(\[\[?)([A-Za-z0-9_."-]*)$`)
)

// top is what the file may hold.
func (d *Doc) top() *schema.Table {
	if d.Kind == Bench {
		return bench.Schema()
	}
	return phrasebook.Schema()
}

// tableAt is the table in which a line stands, with its path; nil if none of that name is known.
func (d *Doc) tableAt(line int) (*schema.Table, string) {
	for i := line; i > 0; i-- {
		if text := d.Lines.At(i); strings.HasPrefix(strings.TrimSpace(text), "[") && (i < line || !keyLine().MatchString(text)) {
			if m := tableHead().FindStringSubmatch(text); m != nil {
				return d.table(m[1]), m[1]
			}
		}
	}
	return d.top(), ""
}

// table is what a table of a path may hold.
func (d *Doc) table(path string) *schema.Table {
	t := d.top()
	parts := strings.Split(path, ".")
	for i := 0; i < len(parts) && t != nil; i++ {
		k := t.Key(strings.TrimSpace(parts[i]))
		if k == nil {
			return nil
		}
		if k.Form == schema.Named {
			i++ // the name that the person chose
		}
		t = k.Of
	}
	return t
}

// completeTable is what could stand at a place of a phrasebook or a bench.
func (d *Doc) completeTable(at Place) (items []Item) {
	text := d.before(at)
	add := func(label, put, detail, about string, part string) {
		items = append(items, Item{Label: label, Text: put, Detail: detail, About: about, Kind: KeyItem, Put: Range{at.Line, at.Column - len([]rune(part)), at.Column}})
	}
	if m := headPart().FindStringSubmatch(text); m != nil {
		for _, k := range d.top().Keys {
			switch {
			case k.Form == schema.One && m[1] == "[", k.Form == schema.Many && m[1] == "[[":
				add(k.Name, k.Name, k.About, "", m[2])
			case k.Form == schema.Named && m[1] == "[":
				add(k.Name+".NAME", k.Name+".", k.About, "", m[2])
			}
		}
		return items
	}
	t, path := d.tableAt(at.Line)
	if t == nil {
		return nil
	}
	if m := keyPart().FindStringSubmatch(text); m != nil {
		there := d.keysAround(at.Line)
		for _, k := range t.Keys {
			if there[k.Name] {
				continue
			}
			switch k.Form {
			case schema.One, schema.Many, schema.Named:
				if path == "" && k.Form != schema.Named {
					head := "[" + k.Name + "]"
					if k.Form == schema.Many {
						head = "[" + head + "]"
					}
					add(head, head, k.About, "", m[1])
				}
			case schema.TextBy, schema.NumBy, schema.AnyBy:
				add(k.Name, k.Name+" = { }", k.About, k.Wanted(), m[1])
			default:
				add(k.Name, k.Name+" = ", k.About, k.Wanted(), m[1])
			}
		}
		return items
	}
	m := keyLine().FindStringSubmatch(text)
	if m == nil {
		return nil
	}
	k := t.Key(m[1])
	if k == nil {
		return nil
	}
	part := m[2]
	switch {
	case k.Words != nil:
		for _, w := range k.Words {
			add(w, `"`+w+`"`, k.About, "", part)
		}
	case k.Form == schema.Truth:
		add("true", "true", k.About, "", part)
		add("false", "false", k.About, "", part)
	case k.Name == "phrasebook":
		entries, err := os.ReadDir(filepath.Dir(d.Path))
		if err != nil {
			return nil // there is nothing to name
		}
		for _, e := range entries {
			if filepath.Ext(e.Name()) == ".toml" && e.Name() != filepath.Base(d.Path) {
				add(e.Name(), `"`+e.Name()+`"`, "", "", part)
			}
		}
	}
	return items
}

// keysAround are the keys that the table of a line has already, but for the line itself.
func (d *Doc) keysAround(line int) map[string]bool {
	there := map[string]bool{}
	see := func(i int) bool {
		text := d.Lines.At(i)
		if strings.HasPrefix(strings.TrimSpace(text), "[") && !keyLine().MatchString(text) {
			return false
		}
		if m := keyLine().FindStringSubmatch(text); m != nil {
			there[m[1]] = true
		}
		return true
	}
	for i := line - 1; i > 0 && see(i); i-- {
	}
	for i := line + 1; i <= len(d.Lines) && see(i); i++ {
	}
	return there
}

// hoverTable is what a key or a table of a phrasebook or a bench means.
func (d *Doc) hoverTable(at Place) (string, Range) {
	line := d.Lines.At(at.Line)
	whole := Range{at.Line, 1, len([]rune(line)) + 1}
	if m := tableHead().FindStringSubmatch(line); m != nil && !keyLine().MatchString(line) {
		k := d.top().Key(strings.Split(m[1], ".")[0])
		if k == nil {
			return "", Range{}
		}
		return fmt.Sprintf("**%s**: %s", m[1], k.About), whole
	}
	t, _ := d.tableAt(at.Line)
	m := keyLine().FindStringSubmatchIndex(line)
	if t == nil || m == nil {
		return "", Range{}
	}
	name := line[m[2]:m[3]]
	from, to := len([]rune(line[:m[2]]))+1, len([]rune(line[:m[3]]))+1
	if k := t.Key(name); k != nil && at.Column >= from && at.Column <= to {
		return fmt.Sprintf("**%s**: %s\n\n%s", name, k.About, k.Wanted()), Range{at.Line, from, to}
	}
	return "", Range{}
}

// outlineTable is the tables of a phrasebook or a bench, each with its name.
func (d *Doc) outlineTable() (all []Symbol) {
	for i := 1; i <= len(d.Lines); i++ {
		text := d.Lines.At(i)
		if !strings.HasPrefix(strings.TrimSpace(text), "[") || keyLine().MatchString(text) {
			continue
		}
		m := tableHead().FindStringSubmatch(text)
		if n := len(all); n > 0 {
			all[n-1].Last = i - 1
		}
		all = append(all, Symbol{Name: m[1], Kind: KeyItem, Range: Range{i, 1, len([]rune(text)) + 1}, Last: len(d.Lines)})
		for j := i + 1; j <= len(d.Lines) && !strings.HasPrefix(d.Lines.At(j), "["); j++ {
			if k := keyLine().FindStringSubmatch(d.Lines.At(j)); k != nil && (k[1] == "name" || k[1] == "say") {
				all[len(all)-1].Name += " " + strings.Trim(k[2], `"`)
				break
			}
		}
	}
	return all
}
