// Package writing helps while a procedure, a phrasebook or a bench is written: it tells mistakes, what
// could stand at a place and what stands there, and changes names in all their places. It knows no
// editor; places count lines and characters from 1, as mistakes do.
package writing

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/sim/families"
	"uparrot/core/source"
	"uparrot/core/text"
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

	file  *procedure.File        // of a procedure, as far as it could be read
	book  *phrasebook.Phrasebook // of a phrasebook without mistakes
	ports int                    // of a bench
	read  Files
}

// Read reads a file as what it is. Path tells procedures by their ending, .parrot or none.
func Read(path, content string, read Files) *Doc {
	d := &Doc{Path: path, Lines: source.SplitLines(strings.TrimPrefix(content, "\ufeff")), read: read}
	if filepath.Ext(path) != ".toml" {
		d.Kind = Procedure
		d.file, d.Mistakes = procedure.Study(path, content, nil, read)
		d.Warnings = d.file.Warnings
		return d
	}
	var err error
	if d.Kind = Phrasebook; source.KindOf(content) == source.Bench {
		d.Kind = Bench
	}
	if d.Kind == Bench {
		var b *bench.Bench
		if b, err = bench.Parse(path, content, families.All.Names(), read); err == nil {
			d.ports = len(b.Ports)
		}
	} else if d.book, err = phrasebook.Parse(path, content); err == nil {
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

// Foreign reports whether a table shows nothing of a phrasebook or a bench, and so may be of another
// program.
func (d *Doc) Foreign() bool {
	k := source.KindOf(strings.Join(d.Lines, "\n"))
	return d.Kind != Procedure && k != source.Bench && k != source.Phrasebook
}

// Words are what the file is, in a few words.
func (d *Doc) Words() string {
	switch {
	case d.Kind == Bench:
		return "bench, " + text.Count(d.ports, "port")
	case d.Kind == Phrasebook && d.book != nil:
		return fmt.Sprintf("phrasebook of %s, %s", d.book.Family, text.Count(len(d.book.Settings), "setting"))
	case d.Kind == Phrasebook:
		return "phrasebook"
	case len(d.file.Steps) == 0:
		return "parts to include, " + text.Count(len(d.file.Routines), "routine")
	}
	return fmt.Sprintf("procedure %q, %s", d.file.Title, text.Count(len(d.file.Steps), "step"))
}

// Lacks are the tables that a phrasebook does not have and for what they are needed; nil if it has all
// of them, or has mistakes.
func (d *Doc) Lacks() (all []string) {
	pb := d.book
	if pb == nil || len(d.Mistakes) > 0 {
		return nil
	}
	readable, writable := 0, 0
	for _, s := range pb.Settings {
		if s.Way().Readable() {
			readable++
		}
		if s.Writable() {
			writable++
		}
	}
	add := func(what, without string) { all = append(all, fmt.Sprintf("%s (%s)", what, without)) }
	switch {
	case readable == 0:
		add("[[setting]] with read and answer", "settings, rehearse")
	case writable == 0:
		add("write in a [[setting]]", "settings apply")
	}
	if len(pb.Identity) == 0 {
		add("[[identity]]", "telling modules apart")
	}
	if pb.Banner == nil && len(pb.Round.Restart) == 0 {
		add("[banner]", "what a restart loses")
	}
	if len(pb.Refusals()) == 0 && pb.Dialect != phrasebook.AT {
		add("[refusal]", "rehearse")
	}
	if len(pb.Readings) == 0 {
		add("[[reading]]", "watch")
	}
	if pb.Carrier == nil {
		add("[carrier]", "link")
	}
	return all
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
