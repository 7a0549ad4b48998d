package writing

import (
	"fmt"
	"slices"
	"strings"

	"uparrot/core/rehearse"
	"uparrot/core/source"
	"uparrot/core/text"
)

// Fix is a change that mends something.
type Fix struct {
	Title string
	Why   string // what it mends, where that is no mistake
	At    int    // the line where that is told
	Edits []Edit
}

// Fixes are the changes that mend a mistake, as far as they can be told.
func (d *Doc) Fixes(m source.Mistake) (all []Fix) {
	if m.File != d.Path || m.Line == 0 {
		return nil
	}
	if word, is := m.Instead(); is {
		marked := string([]rune(m.Text)[max(0, m.Column-1):min(len([]rune(m.Text)), m.Column-1+m.Width)])
		if strings.HasPrefix(marked, `"`) && strings.HasSuffix(marked, `"`) && len(marked) > 1 || d.Kind == Procedure && strings.Contains(word, " ") && strings.Contains(m.What, "setting") {
			word = `"` + word + `"`
		}
		all = append(all, Fix{Title: fmt.Sprintf("Write %s", word), At: m.Line, Edits: []Edit{{d.Path, Range{m.Line, m.Column, m.Column + m.Width}, word}}})
	}
	return all
}

// Mends are the changes that a rehearsal asks for: lines that would catch bad modules that were missed, at
// the end of their steps, and what would have good ones accepted that were refused.
func Mends(d *Doc, r *rehearse.Report) (all []Fix) {
	var told []string
	for _, b := range r.Bad {
		if b.Class != rehearse.Missed || b.Mend == nil {
			continue
		}
		at := b.Mend.After + 1
		if b.Mend.After == 0 {
			at = d.stepEnd(b.Mend.Step)
		}
		text := ""
		for _, l := range b.Mend.Lines {
			text += "    " + l + "\n"
		}
		if key := fmt.Sprint(at, text); at > 0 && !slices.Contains(told, key) {
			told = append(told, key)
			all = append(all, Fix{
				Title: fmt.Sprintf("Catch it: %s", strings.Join(b.Mend.Lines, "; ")), Why: fmt.Sprintf("a bad module would pass: %s at %s: %s", b.About, b.Port, b.Name), At: d.stepOf(b.Mend.Step),
				Edits: []Edit{{d.Path, Range{at, 1, 1}, text}},
			})
		}
	}
	for _, g := range r.Good {
		if f, ok := d.accepted(g); ok && !slices.ContainsFunc(all, func(o Fix) bool { return o.At == f.At && o.Title == f.Title }) {
			all = append(all, f)
		}
	}
	return all
}

var stepTitle = text.Regexp(`^\s*step\s+"(?:\\.|[^"\\])*"`)

// accepted is the change with which a step would accept a good module that it refuses; false if none is known.
func (d *Doc) accepted(g rehearse.Good) (Fix, bool) {
	at := d.stepOf(g.Step)
	head := stepTitle().FindString(d.Lines.At(at))
	if !g.Alarm || g.Tries == "" || head == "" || strings.Contains(d.Lines.At(at), " tries ") {
		return Fix{}, false
	}
	end := len([]rune(head)) + 1
	return Fix{Title: "Accept it: " + g.Tries, Why: "a good module would be refused: " + g.Name, At: at, Edits: []Edit{{d.Path, Range{at, end, end}, " " + g.Tries}}}, true
}

// stepOf is the line of a step; 1 if it is not in this file.
func (d *Doc) stepOf(title string) int {
	for _, s := range d.file.Steps {
		if s.Title == title && s.File == d.Path {
			return s.Line
		}
	}
	return 1
}

// stepEnd is the line of the end of a step; 0 if it is not in this file.
func (d *Doc) stepEnd(title string) int {
	for _, s := range d.file.Steps {
		if s.Title != title || s.File != d.Path {
			continue
		}
		for i := s.Line + 1; i <= len(d.Lines); i++ {
			if strings.TrimRight(d.Lines.At(i), " \t\r") == "end" {
				return i
			}
		}
	}
	return 0
}
