// Package writing helps while a procedure, a phrasebook or a bench is written: it tells mistakes, what
// could stand at a place and what stands there, and changes names in all their places. It knows no
// editor; places count lines and characters from 1, as mistakes do.
package writing

import (
	"errors"
	"path/filepath"
	"strings"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/sim/families"
	"uparrot/core/source"
	"uparrot/core/source/toml"
)

// Kind is what a file is.
type Kind string

// The kinds of files.
const (
	Procedure  Kind = "procedure"
	Phrasebook Kind = "phrasebook"
	Bench      Kind = "bench"
)

// Files reads a file, as it is in an editor or on disk.
type Files func(path string) ([]byte, error)

// Doc is a file as it stands, and what was found in it.
type Doc struct {
	Path     string
	Kind     Kind
	Lines    source.Lines
	Mistakes source.Mistakes // also in files that it names
	Warnings source.Mistakes

	file *procedure.File        // of a procedure, as far as it could be read
	book *phrasebook.Phrasebook // of a phrasebook without mistakes
	read Files
}

// Read reads a file as what it is. Path tells procedures by their ending, .parrot or none.
func Read(path, text string, read Files) *Doc {
	d := &Doc{Path: path, Lines: source.SplitLines(strings.TrimPrefix(text, "\ufeff")), read: read}
	if filepath.Ext(path) != ".toml" {
		d.Kind = Procedure
		d.file, d.Mistakes = procedure.Study(path, text, nil, read)
		d.Warnings = d.file.Warnings
		return d
	}
	var err error
	if d.Kind = kindOf(text); d.Kind == Bench {
		_, err = bench.Parse(path, text, families.All.Names(), read)
	} else if d.book, err = phrasebook.Parse(path, text); err == nil {
		d.Mistakes, d.Warnings = procedure.CheckBook(d.book)
	}
	if m, ok := errors.AsType[source.Mistakes](err); ok {
		d.Mistakes = m
	} else if err != nil {
		d.Mistakes = source.Mistakes{{File: path, What: err.Error()}}
	}
	return d
}

// With is the file with another text, of which only the lines are read: what it names and where is as
// it was. What could stand at a place can be told so at once while somebody types.
func (d *Doc) With(text string) *Doc {
	changed := *d
	changed.Lines = source.SplitLines(strings.TrimPrefix(text, "\ufeff"))
	return &changed
}

// Procedure is a procedure as far as it could be read; nil of another file.
func (d *Doc) Procedure() *procedure.File { return d.file }

// kindOf tells a phrasebook from a bench, as far as the text can be read.
func kindOf(text string) Kind {
	var top map[string]any
	if t := toml.Parse("", text, &top); t.Has("port") || t.Has("air") || t.Has("slot") || t.Has("shared") {
		return Bench
	}
	return Phrasebook
}

// Place is a place in a text.
type Place struct {
	Line   int // from 1
	Column int // from 1, in characters; one more than there are is behind the last
}

// Range is a stretch of a line.
type Range struct {
	Line     int
	From, To int // columns; To is behind the last character
}

// Edit puts a text in the place of a stretch. A text that ends with a line end in a stretch without
// characters at column 1 is a line put in before that line.
type Edit struct {
	File string
	Range
	Text string
}

// before is the text of a line up to a place.
func (d *Doc) before(at Place) string {
	line := []rune(d.Lines.At(at.Line))
	return string(line[:max(0, min(at.Column-1, len(line)))])
}

// Apply makes edits of one file in its text. They may not overlap.
func Apply(text string, edits []Edit) string {
	lines := strings.Split(text, "\n")
	for i := len(lines) - 1; i >= 0; i-- {
		for j := len(edits) - 1; j >= 0; j-- { // from the end on: what is before keeps its place
			e := edits[j]
			if e.Line != i+1 {
				continue
			}
			line := []rune(lines[i])
			from, to := min(max(0, e.From-1), len(line)), min(max(0, e.To-1), len(line))
			lines[i] = string(line[:from]) + e.Text + string(line[to:])
		}
	}
	return strings.Join(lines, "\n")
}
