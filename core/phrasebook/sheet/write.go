package sheet

import (
	"fmt"
	"html/template"
	"io"
	"strings"
	"unicode/utf8"
)

// wide is how many columns a line of the page as text has at most.
const wide = 100

// Text writes the page as text.
func (s *Sheet) Text(w io.Writer) error {
	var b strings.Builder
	b.WriteString(s.Title)
	if s.About != "" {
		b.WriteString(": " + s.About)
	}
	b.WriteString("\n")
	for _, x := range s.Sections {
		fmt.Fprintf(&b, "\n%s\n", x.Title)
		x.text(&b)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// text writes a table; where it would be too wide each row is a list of what it says.
func (x *Section) text(b *strings.Builder) {
	widths := make([]int, len(x.Head))
	for i, h := range x.Head {
		widths[i] = utf8.RuneCountInString(h)
		for _, r := range x.Rows {
			for _, line := range strings.Split(r[i], "\n") {
				widths[i] = max(widths[i], utf8.RuneCountInString(line))
			}
		}
	}
	total := 2
	for _, n := range widths {
		total += n + 2
	}
	if total > wide && len(x.Head) > 2 {
		for _, r := range x.Rows {
			fmt.Fprintf(b, "  %s\n", r[0])
			for i, cell := range r {
				if i > 0 && cell != "" {
					fmt.Fprintf(b, "      %-*s  %s\n", longestOf(x.Head), x.Head[i], strings.ReplaceAll(cell, "\n", "\n"+strings.Repeat(" ", 8+longestOf(x.Head))))
				}
			}
		}
		return
	}
	row := func(cells []string) {
		lines := 1
		for _, c := range cells {
			lines = max(lines, strings.Count(c, "\n")+1)
		}
		for n := range lines {
			out := "  "
			for i, c := range cells {
				part := ""
				if list := strings.Split(c, "\n"); n < len(list) {
					part = list[n]
				}
				out += part + strings.Repeat(" ", widths[i]-utf8.RuneCountInString(part)+2)
			}
			b.WriteString(strings.TrimRight(out, " ") + "\n")
		}
	}
	row(x.Head)
	for _, r := range x.Rows {
		row(r)
	}
}

func longestOf(list []string) (n int) {
	for _, s := range list[1:] {
		n = max(n, utf8.RuneCountInString(s))
	}
	return n
}

// Markdown writes the page as Markdown.
func (s *Sheet) Markdown(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", s.Title)
	if s.About != "" {
		fmt.Fprintf(&b, "\n%s\n", s.About)
	}
	for _, x := range s.Sections {
		fmt.Fprintf(&b, "\n## %s\n\n| %s |\n|%s\n", x.Title, strings.Join(x.Head, " | "), strings.Repeat(" --- |", len(x.Head)))
		for _, r := range x.Rows {
			b.WriteString("|")
			for i, c := range r {
				b.WriteString(" " + x.cell(i, c) + " |")
			}
			b.WriteString("\n")
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// cell is a cell as Markdown has it.
func (x *Section) cell(i int, text string) string {
	var parts []string
	for _, line := range strings.Split(text, "\n") {
		line = strings.ReplaceAll(line, "|", "\\|")
		if x.Code[i] && line != "" {
			fence := "`"
			for strings.Contains(line, fence) {
				fence += "`"
			}
			line = fence + line + fence
		}
		parts = append(parts, line)
	}
	return strings.Join(parts, "<br>")
}

// HTML writes the page as a page.
func (s *Sheet) HTML(w io.Writer) error { return page.Execute(w, s) }

var page = template.Must(template.New("sheet").Funcs(template.FuncMap{"lines": func(s string) []string { return strings.Split(s, "\n") }}).Parse(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Title}}</title>
<style>
body { font: 15px/1.45 system-ui, sans-serif; margin: 2rem auto; max-width: 76rem; padding: 0 1rem; color: #202020; background: #fff }
h1 { margin-bottom: .2rem } h2 { font-size: 1.1rem; margin: 1.6rem 0 .3rem }
table { border-collapse: collapse; width: 100% }
th, td { text-align: left; padding: .3rem .9rem .3rem 0; border-bottom: 1px solid #ddd; vertical-align: top }
th { font-weight: 600; color: #505050; white-space: nowrap }
td:first-child { white-space: nowrap }
code { font: 13px/1.5 ui-monospace, monospace; overflow-wrap: break-word }
@media print { body { margin: 0; max-width: none; font-size: 11px } code { font-size: 10px } h2 { break-after: avoid } tr { break-inside: avoid } }
</style></head><body>
<h1>{{.Title}}</h1>
<p>{{.About}}</p>
{{range $s := .Sections}}<h2>{{.Title}}</h2>
<table><tr>{{range .Head}}<th>{{.}}</th>{{end}}</tr>
{{range .Rows}}<tr>{{range $i, $c := .}}<td>{{range $n, $l := lines $c}}{{if $n}}<br>{{end}}{{if index $s.Code $i}}{{if $l}}<code>{{$l}}</code>{{end}}{{else}}{{$l}}{{end}}{{end}}</td>{{end}}</tr>
{{end}}</table>
{{end}}</body></html>
`))
