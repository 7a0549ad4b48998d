// Package source says where a mistake stands in a file that a person wrote.
//
// Every reader of such a file (procedure, phrasebook, bench) reports [Mistake]
// values: the file, the place, the line itself, what is wrong and how to mend
// it. A reader collects all of them before it gives up, so that a file is
// mended in one go.
package source

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"uparrot/core/text"
)

// Mistake is one finding in one file.
type Mistake struct {
	File   string // path as the person gave it
	Line   int    // 1-based; 0 if the mistake concerns the whole file
	Column int    // 1-based, counted in characters
	Width  int    // characters to mark, at least 1
	Text   string // the line, without its line end
	What   string // what is wrong
	Mend   string // how to mend it; may be empty
}

// Error is the place and the finding on one line.
func (m Mistake) Error() string {
	if m.Line == 0 {
		return fmt.Sprintf("%s: %s", m.File, m.What)
	}
	return fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.What)
}

// Long is the finding with the line itself, a marker under the place and the
// way to mend it, each on a line of its own.
func (m Mistake) Long() string {
	var b strings.Builder
	place := m.Error()
	if utf8.RuneCountInString(m.What) > longest { // else only its path is long, and what reads it wants one line
		place = text.Fold(place)
	}
	b.WriteString(place)
	b.WriteByte('\n')
	if m.Line > 0 {
		line, column := m.window()
		fmt.Fprintf(&b, "    %s\n    %s%s\n", line, indent(line, column-1), strings.Repeat("^", max(1, min(m.Width, widest))))
	}
	if m.Mend != "" {
		b.WriteString(text.Fold("    "+m.Mend) + "\n")
	}
	return b.String()
}

// longest is how many characters a finding has that is told in one line with its place.
const longest = text.Wide - 20

// widest is how many characters of a line are shown.
const widest = 240

// window is the part of the line round the place, safe to show, and where in it the
// place is.
func (m Mistake) window() (line string, column int) {
	runes := []rune(strings.Map(showControl, m.Text))
	if len(runes) <= widest {
		return string(runes), m.Column
	}
	from := min(max(0, m.Column-1-widest/2), len(runes)-widest)
	line = string(runes[from : from+widest])
	column = m.Column - from
	if from > 0 {
		line, column = "... "+line, column+4
	}
	if from+widest < len(runes) {
		line += " ..."
	}
	return line, column
}

// showControl keeps control bytes of a broken file from steering a terminal, one
// character for one, so that the marker below stays in its place.
func showControl(r rune) rune {
	if r == '\t' || text.Showable(r) {
		return r
	}
	return utf8.RuneError
}

// indent is as wide as the first n characters of a line; tabs stay tabs.
func indent(line string, n int) string {
	var b strings.Builder
	for _, r := range line {
		if n <= 0 {
			break
		}
		n--
		if r == '\t' {
			b.WriteByte('\t')
		} else {
			b.WriteByte(' ')
		}
	}
	return b.String() + strings.Repeat(" ", max(0, n))
}

// Mistakes is every finding of one reading, in the order of the file.
type Mistakes []Mistake

// Shown is how many findings are shown one by one.
const Shown = 100

// Error is the findings in their long form, the first of very many.
func (m Mistakes) Error() string {
	var b strings.Builder
	for i, one := range m {
		if i == Shown {
			fmt.Fprintf(&b, "\nand %d more\n", len(m)-Shown)
			break
		}
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(one.Long())
	}
	return strings.TrimRight(b.String(), "\n")
}

// Err is nil if there are no mistakes, else the mistakes file by file, the files in the order in which
// they were met, each from its first line on.
func (m Mistakes) Err() error {
	if len(m) == 0 {
		return nil
	}
	files := map[string]int{}
	for _, one := range m {
		if _, met := files[one.File]; !met {
			files[one.File] = len(files)
		}
	}
	sort.SliceStable(m, func(i, j int) bool {
		if m[i].File != m[j].File {
			return files[m[i].File] < files[m[j].File]
		}
		if m[i].Line != m[j].Line {
			return m[i].Line < m[j].Line
		}
		return m[i].Column < m[j].Column
	})
	return m
}

// Lines gives the lines of a file by number, for quoting them in mistakes.
type Lines []string

// SplitLines cuts the text of a file at LF or CRLF.
func SplitLines(file string) Lines {
	lines := strings.Split(file, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimSuffix(l, "\r")
	}
	return lines
}

// At is line n, 1-based, or "" if there is none.
func (l Lines) At(n int) string {
	if n < 1 || n > len(l) {
		return ""
	}
	return l[n-1]
}

// nearest is the known word most like the given one, or "" if none is near
// enough to be a likely typing mistake.
func nearest(word string, known []string) string {
	best, at := "", 1+(len(word)+2)/3
	for _, k := range known {
		if d := Distance(strings.ToLower(word), strings.ToLower(k)); d < at {
			best, at = k, d
		}
	}
	return best
}

// DidYouMean is a hint that names the nearest known word, or lists all of them.
func DidYouMean(word string, known []string) string {
	if near := nearest(word, known); near != "" {
		return fmt.Sprintf("Did you mean %q?", near)
	}
	sorted := append([]string(nil), known...)
	sort.Strings(sorted)
	return knownHere(sorted)
}

// DidYouMeanOr is a hint that names the nearest known word, or another hint if none is near.
func DidYouMeanOr(word string, known []string, otherwise string) string {
	if near := nearest(word, known); near != "" {
		return fmt.Sprintf("Did you mean %q?", near)
	}
	return otherwise
}

// Instead is what the hint of DidYouMean proposes in the place of what is marked; false if it proposes
// no one word.
func (m Mistake) Instead() (string, bool) {
	quoted, is := strings.CutPrefix(m.Mend, "Did you mean ")
	if !is {
		return "", false
	}
	word, err := strconv.Unquote(strings.TrimSuffix(quoted, "?"))
	return word, err == nil
}

// DidYouMeanOf is DidYouMean with a list in an order of its own, such as that of use.
func DidYouMeanOf(word string, known []string) string {
	if near := nearest(word, known); near != "" {
		return fmt.Sprintf("Did you mean %q?", near)
	}
	return knownHere(known)
}

// knownHere lists known words, the first of them if there are many.
func knownHere(known []string) string {
	if len(known) == 0 {
		return ""
	}
	if more := len(known) - showKnown; more > 1 {
		return fmt.Sprintf("Known here: %s and %d more.", strings.Join(known[:showKnown], ", "), more)
	}
	return "Known here: " + strings.Join(known, ", ") + "."
}

// Distance counts single-character edits, a swap of neighbours being one
// (optimal string alignment).
func Distance(a, b string) int {
	ra, rb := []rune(a), []rune(b)
	rows := make([][]int, len(ra)+1)
	for i := range rows {
		rows[i] = make([]int, len(rb)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(ra); i++ {
		for j := 1; j <= len(rb); j++ {
			cost := 1
			if ra[i-1] == rb[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && ra[i-1] == rb[j-2] && ra[i-2] == rb[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(ra)][len(rb)]
}

// showKnown bounds how many known words a hint lists.
const showKnown = 12
