// Package manual finds in the pages of the project what tells of a word: of a statement, of a word of the
// header, of a function, of a heading.
package manual

import (
	"io/fs"
	"slices"
	"strings"

	"uparrot/core/text"
)

// Entry is something that a page tells.
type Entry struct {
	Page    string // its file
	Heading string // under which it stands
	Form    string // how it is written; "" of a whole section
	Text    string
}

var (
	heading = text.Regexp(`^#+ (.*)$`)
	first   = text.Regexp("^[A-Za-z_][A-Za-z0-9_]*|^[0-9]+$")
	coded   = text.Regexp("`([^`]*)`")
	linked  = text.Regexp(`\[([^\]]*)\]\([^)]*\)`)
)

// Find is what the pages tell of a word: rows of tables whose first cell begins with it, and sections that
// it heads. Pages are those to look in, in their order.
func Find(files fs.FS, pages []string, word string) (all []Entry, err error) {
	if word == "" {
		return nil, nil
	}
	for _, page := range pages {
		content, err := fs.ReadFile(files, page)
		if err != nil {
			return nil, err
		}
		under := ""
		lines := strings.Split(string(content), "\n")
		for i, l := range lines {
			if m := heading().FindStringSubmatch(l); m != nil {
				if under = m[1]; strings.EqualFold(under, word) {
					all = append(all, Entry{page, under, "", section(lines[i+1:])})
				}
				continue
			}
			if bold := "**" + strings.ToUpper(word[:1]) + word[1:] + ".**"; strings.HasPrefix(l, bold) {
				all = append(all, Entry{page, under, "", plain(strings.TrimPrefix(paragraph(lines[i:]), bold))})
			}
			if form, about, is := row(l, word, under == glossary); is {
				all = append(all, Entry{page, under, form, about})
			}
		}
	}
	return all, nil
}

// Words are all words of which rows tell.
func Words(files fs.FS, pages []string) (words []string, err error) {
	for _, page := range pages {
		content, err := fs.ReadFile(files, page)
		if err != nil {
			return nil, err
		}
		for _, l := range strings.Split(string(content), "\n") {
			for _, c := range coded().FindAllStringSubmatch(cell(l, 0), -1) {
				if w := first().FindString(c[1]); w != "" && !slices.Contains(words, w) {
					words = append(words, w)
				}
			}
		}
	}
	return words, nil
}

// glossary heads the page whose rows begin with words of the trade as they are.
const glossary = "Glossary"

// row is a row of a table that tells of a word: how it is written, and what it does.
func row(line, word string, bare bool) (form, about string, is bool) {
	head := cell(line, 0)
	if name, _, _ := strings.Cut(head, ","); bare && strings.EqualFold(name, word) {
		is = true
	}
	for _, c := range coded().FindAllStringSubmatch(head, -1) {
		is = is || first().FindString(c[1]) == word
	}
	if !is {
		return "", "", false
	}
	return plain(head), plain(cell(line, 1)), true
}

// cell is a cell of a row of a table; "" if the line is none.
func cell(line string, n int) string {
	if !strings.HasPrefix(line, "| ") {
		return ""
	}
	cells := strings.Split(strings.Trim(strings.ReplaceAll(line, `\|`, "\x00"), "| "), " | ")
	if n >= len(cells) {
		return ""
	}
	return strings.ReplaceAll(strings.TrimSpace(cells[n]), "\x00", "|")
}

// paragraph is lines up to the next empty one.
func paragraph(lines []string) string {
	var all []string
	for _, l := range lines {
		if strings.TrimSpace(l) == "" {
			break
		}
		all = append(all, l)
	}
	return strings.Join(all, " ")
}

// section is the first paragraph of a section.
func section(lines []string) string {
	for i, l := range lines {
		if strings.TrimSpace(l) != "" {
			return plain(paragraph(lines[i:]))
		}
	}
	return ""
}

// plain is text without the marks of Markdown.
func plain(s string) string {
	s = linked().ReplaceAllString(s, "$1")
	return strings.TrimSpace(strings.NewReplacer("`", "", "**", "", "*", "").Replace(s))
}

// Show is an entry as a person reads it.
func (e Entry) Show() string {
	out := ""
	if e.Form != "" {
		out = text.Fold("  "+e.Form) + "\n"
	}
	return out + text.Fold("      "+e.Text) + "\n"
}
