// Package toml reads TOML files strictly: every key and value keeps its place, a
// key that is not known and a value of the wrong sort are mistakes with a mend, and
// all mistakes of a file come together.
package toml

import (
	"strings"
	"unicode/utf8"

	"uparrot/core/source"
)

// Doc is a file that was read, with its mistakes and the place of each key.
type Doc struct {
	File     string
	Mistakes source.Mistakes

	text  string
	lines source.Lines
	root  *node

	unread bool // some line could not be read
}

// Read reads a file into a struct or a map. What is wrong in it is among the
// Mistakes; an error is returned only if the file cannot be read at all.
func Read(file string, into any) (*Doc, error) {
	text, err := source.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return Parse(file, string(text), into), nil
}

// Parse is Read on text that has been read already.
func Parse(file, text string, into any) *Doc {
	d := &Doc{File: file, text: text, lines: source.SplitLines(text), root: &node{kind: table}}
	d.parse()
	d.decode(into)
	return d
}

// Has reports whether a top-level key is there.
func (d *Doc) Has(key string) bool { return d.root.keys[key] != nil }

// Named reports whether a key is there, such as "port.north.at".
func (d *Doc) Named(path string) bool { return d.find(path) != nil }

// span is a stretch of the file, in bytes.
type span struct{ from, to int }

// mistake reports a mistake at a stretch of the file; an empty one at its
// beginning concerns the whole file.
func (d *Doc) mistake(s span, what, mend string) {
	m := source.Mistake{File: d.File, What: what, Mend: mend}
	if s.to > s.from {
		before := d.text[:s.from]
		m.Line = strings.Count(before, "\n") + 1
		m.Column = utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:]) + 1
		marked, _, _ := strings.Cut(d.text[s.from:s.to], "\n")
		m.Width = max(1, utf8.RuneCountInString(strings.TrimSuffix(marked, "\r")))
		m.Text = d.lines.At(m.Line)
		m.Column = min(m.Column, utf8.RuneCountInString(m.Text)+1) // a carriage return is no part of it
	}
	d.Mistakes = append(d.Mistakes, m)
}

// Add reports a mistake at a key, such as "port.north.speed" or
// "notice[2].heard". A key that is not there stands for the table around it.
func (d *Doc) Add(path, what, mend string) {
	for p := path; ; {
		if n := d.find(p); n != nil {
			if !d.wrong(n) {
				d.mistake(n.key, what, mend)
			}
			return
		}
		i := strings.LastIndexByte(p, '.')
		if i < 0 {
			d.mistake(span{}, what, mend)
			return
		}
		p = p[:i]
	}
}

// Slipped reports whether a key that is not known stands for one that is missing, as far as can be told,
// or whether something could not be read at all.
func (d *Doc) Slipped(key string) bool {
	for _, m := range d.Mistakes {
		if near, is := m.Instead(); m.File == d.File && is && near == key {
			return true
		}
	}
	return d.unread
}

// wrong reports whether the value of a key is told to be wrong already, so that
// what is not there because of that need not be told.
func (d *Doc) wrong(n *node) bool {
	if n.kind == table || n.kind == list {
		return false
	}
	for _, m := range d.Mistakes {
		at := strings.Count(d.text[:n.value.from], "\n") + 1
		if m.File == d.File && m.Line == at {
			return true
		}
	}
	return false
}

// AddInValue reports a mistake inside a key's text value, offset bytes from its
// beginning.
func (d *Doc) AddInValue(path, value string, offset, width int, what, mend string) {
	n := d.find(path)
	if n == nil {
		d.Add(path, what, mend)
		return
	}
	s := n.value
	if n.kind == list || n.kind == table { // of these only the beginning is known
		s.to = s.from + len(d.lines.At(strings.Count(d.text[:s.from], "\n")+1))
		s.to = min(s.to, len(d.text))
	}
	// A value with escapes is not found as it is: then all of it is marked.
	if i := strings.Index(d.text[s.from:s.to], value); i >= 0 && value != "" {
		s.from += i + offset
		s.to = max(s.from+1, min(s.from+width, s.to))
	}
	d.mistake(s, what, mend)
}

// Place is the place of a key's text value, as a mistake that says nothing yet.
func (d *Doc) Place(path, value string) source.Mistake {
	before := len(d.Mistakes)
	d.AddInValue(path, value, 0, len(value), "", "")
	at := d.Mistakes[before]
	d.Mistakes = d.Mistakes[:before]
	return at
}

// find is the node at a path, or nil.
func (d *Doc) find(path string) *node {
	n := d.root
	for rest := path; rest != ""; {
		if n.kind == list {
			return nil
		}
		// A name may hold dots itself: the longest that is there counts.
		var next *node
		used := ""
		for name, child := range n.keys {
			if after, ok := strings.CutPrefix(rest, name); ok && len(name) >= len(used) && (after == "" || after[0] == '.' || after[0] == '[') {
				next, used = child, name
			}
		}
		if next == nil {
			return nil
		}
		n, rest = next, rest[len(used):]
		for strings.HasPrefix(rest, "[") {
			index, after, ok := strings.Cut(rest[1:], "]")
			if n, rest = n.at(index), after; !ok || n == nil {
				return nil
			}
		}
		rest = strings.TrimPrefix(rest, ".")
	}
	return n
}
