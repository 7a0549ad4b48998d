package report

import (
	"fmt"
	"io"
	"strings"

	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// harmless is text that Markdown takes as it is.
var harmless = text.Regexp(`^[\pL\pN][\pL\pN ,.;:%()'/-]*$`)

// marked is text within Markdown, in a table too: what could be more than text
// stands as code, where neither markup nor names of people are looked for.
func marked(value string) string {
	plain := text.Line(value)
	if plain == "" || harmless().MatchString(plain) && !strings.Contains(plain, "://") && !strings.Contains(plain, "www.") {
		return plain
	}
	fence := "`"
	for strings.Contains(plain, fence) {
		fence += "`"
	}
	pad := ""
	if strings.HasPrefix(plain, "`") || strings.HasSuffix(plain, "`") {
		pad = " "
	}
	return fence + pad + strings.ReplaceAll(plain, "|", `\|`) + pad + fence
}

// mostRows is how many rows a table in a ticket has; the table of measurements
// has all.
const mostRows = 200

// asMarkdown writes a summary for a ticket: what came of it, and of what failed
// the words said and heard.
func asMarkdown(w io.Writer, d *Digest, r io.ReadSeeker, _ string) error {
	fmt.Fprintf(w, "# %s\n\n**%s**", marked(d.Name()), d.Outcome())
	if s := d.Sentence(); s != "" {
		fmt.Fprintf(w, ": %s", marked(s))
	}
	fmt.Fprint(w, "\n\n|   |   |\n| --- | --- |\n")
	for _, row := range d.about() {
		fmt.Fprintf(w, "| %s | %s |\n", marked(row[0]), marked(row[1]))
	}
	markdownSteps(w, d)
	if d.Limits > 0 {
		if err := markdownLimits(w, r); err != nil {
			return err
		}
	}
	if len(d.tests()) > 0 {
		markdownLinks(w, d)
	}
	for _, r := range d.Results {
		fmt.Fprintf(w, "\n## %s: %s\n\n|   |   |\n| --- | --- |\n", marked(upperFirst(r.What)), r.Verdict)
		for _, row := range r.Rows {
			fmt.Fprintf(w, "| %s | %s |\n", marked(row[0]), marked(row[1]))
		}
	}
	if len(d.Kept) > 0 {
		fmt.Fprint(w, "\n## Files\n\n")
		for _, k := range d.Kept {
			cut := ""
			if k.CutShort {
				cut = ", cut short"
			}
			fmt.Fprintf(w, "- %s, %d bytes%s, SHA-256 %s\n", marked(k.Path), k.Bytes, cut, k.SHA256)
		}
	}
	return nil
}

func markdownSteps(w io.Writer, d *Digest) {
	if len(d.Steps) > 0 {
		fmt.Fprint(w, "\n## Steps\n\n| | step | verdict | tries | time |\n| ---: | --- | --- | ---: | ---: |\n")
	}
	var failed []StepSeen
	for i, s := range d.Steps {
		if s.Verdict == "" {
			s.Verdict = "not ended"
		}
		fmt.Fprintf(w, "| %d | %s | %s | %s | %s |\n", i+1, marked(s.Title), s.Verdict, s.tries(), text.Took(text.FromMS(s.TookMS)))
		if s.Why != "" && s.Verdict != verdict.Skipped {
			failed = append(failed, s)
		}
	}
	for _, s := range failed {
		fmt.Fprintf(w, "\n%s %s: %s\n", marked(s.Title), s.Verdict, marked(s.Why))
	}
}

func markdownLimits(w io.Writer, r io.ReadSeeker) error {
	fmt.Fprint(w, "\n## Measurements\n\n| measurement | value | limits | verdict |\n| --- | ---: | ---: | --- |\n")
	n := 0
	if err := events(r, func(e record.Event) error {
		if !e.IsMeasurement() {
			return nil
		}
		if n++; n > mostRows {
			return nil
		}
		m, err := measurement(e)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(w, "| %s | %s | %s | %s |\n", marked(m.What), marked(m.Shown()), marked(m.Wanted()), m.Verdict)
		return err
	}); err != nil {
		return err
	}
	if n > mostRows {
		fmt.Fprintf(w, "\n%d more are left out here.\n", n-mostRows)
	}
	return nil
}

func markdownLinks(w io.Writer, d *Digest) {
	for _, sum := range d.Links {
		for _, way := range sum.Directions {
			fmt.Fprintf(w, "\n## Link: %s to %s: %s\n\n|   |   |\n| --- | --- |\n", marked(way.From), marked(way.To), way.Verdict)
			for _, row := range LinkRows(sum, way) {
				fmt.Fprintf(w, "| %s | %s |\n", row[0], marked(row[1]))
			}
		}
		if len(sum.Stretches) > 0 {
			fmt.Fprintf(w, "\n## Stretches of the walk\n\n| %s |\n|%s\n", strings.Join(StretchHead, " | "), strings.Repeat(" --- |", len(StretchHead)))
			for _, row := range StretchRows(sum.Stretches) {
				for i := range row {
					row[i] = marked(row[i])
				}
				fmt.Fprintf(w, "| %s |\n", strings.Join(row, " | "))
			}
		}
	}
}
