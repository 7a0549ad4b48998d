// Package rehearsal writes what came of a rehearsal: as data, as a page, as test cases, as findings.
package rehearsal

import (
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"uparrot/core/procedure"
	"uparrot/core/rehearse"
	"uparrot/core/report"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Forms are the forms of a rehearsal as a file.
var Forms = []string{"json", "html", "junit", "sarif"}

// Data is a rehearsal as data, with its score and counts.
func Data(r *rehearse.Report) any {
	counts := map[rehearse.Class]int{}
	for _, c := range rehearse.Classes {
		counts[c] = r.Count(c)
	}
	var score *float64
	if s, any := r.Score(); any {
		score = &s
	}
	return struct {
		*rehearse.Report
		Score  *float64               `json:"score"`
		Counts map[rehearse.Class]int `json:"counts"`
		Alarms int                    `json:"false_alarms"`
	}{r, score, counts, r.Alarms()}
}

// Write writes a rehearsal of a procedure in one of Forms, JSON if that is none of the others. Version is
// that of the program, for SARIF.
func Write(w io.Writer, form, version string, file *procedure.File, r *rehearse.Report) error {
	switch form {
	case "html":
		return page.Execute(w, map[string]any{"R": r, "Steps": Steps(r), "JSON": Data(r), "Summary": Summary(r)})
	case "junit":
		return writeJUnit(w, r)
	case "sarif":
		return writeSARIF(w, version, file, r)
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(Data(r))
}

// Steps is a row for each step: how many bad modules it caught of those that it could have, by
// what is wrong with them, and how many good ones it refused. The weakest come first.
func Steps(r *rehearse.Report) [][]string {
	head := []string{"", "step"}
	var kinds []rehearse.Kind
	for _, k := range rehearse.Kinds {
		if slices.ContainsFunc(r.Bad, func(b rehearse.Bad) bool { return b.Kind == k && b.Scored() }) {
			kinds, head = append(kinds, k), append(head, string(k))
		}
	}
	type row struct {
		weak  int
		cells []string
	}
	var rows []row
	for i, step := range append(slices.Clone(r.Steps), "") {
		x := row{cells: []string{fmt.Sprint(i + 1), text.Line(step)}}
		if step == "" {
			x.cells = []string{"", "no step in particular"}
		}
		some := step != ""
		for _, k := range kinds {
			caught, of := 0, 0
			for _, b := range r.Bad {
				if b.Kind == k && b.Scored() && b.At() == step {
					of++
					if b.Class == rehearse.Caught {
						caught++
					}
				}
			}
			x.weak += of - caught
			some = some || of > 0
			x.cells = append(x.cells, ofDash(caught, of))
		}
		alarms := 0
		for _, g := range r.Good {
			if g.Alarm && g.Step == step {
				alarms++
			}
		}
		x.weak += alarms
		x.cells = append(x.cells, orDash(alarms))
		if some {
			rows = append(rows, x)
		}
	}
	slices.SortStableFunc(rows, func(a, b row) int { return b.weak - a.weak })
	all := [][]string{append(head, "false alarms")}
	for _, x := range rows {
		all = append(all, x.cells)
	}
	return all
}

func ofDash(n, of int) string {
	if of == 0 {
		return "-"
	}
	return fmt.Sprintf("%d of %d", n, of)
}

func orDash(n int) string {
	if n == 0 {
		return "-"
	}
	return fmt.Sprint(n)
}

// Summary is the score of a rehearsal with its counts, in words.
func Summary(r *rehearse.Report) string {
	words := "nothing could be caught"
	if score, any := r.Score(); any {
		words = fmt.Sprintf("caught %.1f %%", 100*score)
	} else if r.Cut != "" {
		words = "undecided, without a score, since it was cut"
	}
	for i, c := range rehearse.Classes {
		words += fmt.Sprintf("%s%d %s", []string{": ", ", "}[min(i, 1)], r.Count(c), c)
	}
	return words
}

// writeJUnit is a case for each module: bad ones fail that were missed, good ones that were refused.
func writeJUnit(w io.Writer, r *rehearse.Report) error {
	host, err := os.Hostname()
	if err != nil {
		host = "" // the form has a word for that
	}
	s := report.NewJUnit(r.Procedure, host, time.Now(), 1000*r.MadeUpS)
	for _, b := range r.Bad {
		v, why := verdict.Passed, ""
		switch b.Class {
		case rehearse.Missed:
			v, why = verdict.Failed, "missed"
			if b.Mend != nil {
				why += fmt.Sprintf(": add at the end of step %q: %s", b.Mend.Step, strings.Join(b.Mend.Lines, "; "))
			}
		case rehearse.NotTested, rehearse.NotObservable:
			v = verdict.Skipped
		}
		s.Add("bad modules", fmt.Sprintf("%s: %s at %s", b.Name, b.About, b.Port), v, why, 0)
	}
	for _, g := range r.Good {
		v, why := verdict.Passed, ""
		if g.Alarm {
			v, why = verdict.Failed, "false alarm at "+g.Step+": "+g.Why
		}
		s.Add("good modules", g.Name+" at "+g.Port, v, why, 0)
	}
	if r.Cut != "" {
		s.Add("the rehearsal", "to its end", verdict.Undecided, "cut: "+r.Cut, 0)
	}
	return s.Write(w)
}

// writeSARIF is a result for each step that lets a bad module through or refuses a good one
// (SARIF 2.1.0).
func writeSARIF(w io.Writer, version string, file *procedure.File, r *rehearse.Report) error {
	lines := map[string]int{}
	for _, s := range file.Steps {
		lines[s.Title] = s.Line
	}
	var results []report.SarifResult
	add := func(rule, step, text string) {
		results = append(results, report.SarifResult{Rule: rule, Level: "warning", Text: text, File: file.Path, Line: lines[step]})
	}
	for _, b := range r.Bad {
		if b.Class == rehearse.Missed {
			step, text := "", fmt.Sprintf("a bad module would pass: %s, %s at %s", b.Name, b.About, b.Port)
			if b.Mend != nil {
				step, text = b.Mend.Step, text+fmt.Sprintf(". Add: %v", b.Mend.Lines)
			}
			add("missed", step, text)
		}
	}
	for _, g := range r.Good {
		if g.Alarm {
			add("false-alarm", g.Step, fmt.Sprintf("a good module would be refused: %s at %s: %s", g.Name, g.Port, g.Why))
		}
	}
	if r.Cut != "" {
		add("cut", "", "the rehearsal was cut, since "+r.Cut+": what it had not come to is not known")
	}
	return report.WriteSARIF(w, version, map[string]string{"missed": "a bad module would pass", "false-alarm": "a good module would be refused", "cut": "the rehearsal did not come to its end"}, results)
}

var page = template.Must(template.New("rehearsal").Parse(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>Rehearsal of {{.R.Procedure}}</title>
<style>
body { font: 15px/1.45 system-ui, sans-serif; margin: 2rem auto; max-width: 62rem; padding: 0 1rem; color: #202020; background: #fff }
table { border-collapse: collapse; margin: 1rem 0; width: 100% }
th, td { text-align: left; padding: .3rem .7rem .3rem 0; border-bottom: 1px solid #ddd; vertical-align: top }
pre { background: #f3f3f3; padding: .5rem .8rem; margin: .3rem 0; overflow-x: auto }
.caught, .accepted { color: #006a20 } .missed, .alarm { color: #b00020; font-weight: 600 }
@media print { body { margin: 0 } }
</style></head><body>
<h1>{{.R.Procedure}}</h1>
<p>Rehearsed {{.R.Runs}} times, seed {{.R.Seed}}. Bad modules: {{.Summary}}. Good modules: {{len .R.Good}}, false alarms: {{.R.Alarms}}.</p>
{{with .R.Cut}}<p class="missed">The rehearsal was cut: {{.}}. What it had not come to by then is not known.</p>
{{end}}<p>Caught of the bad modules that each step could have caught, by what was wrong with them, and good ones refused:</p>
<table>
{{range $i, $row := .Steps}}<tr>{{range $row}}{{if $i}}<td>{{.}}</td>{{else}}<th>{{.}}</th>{{end}}{{end}}</tr>
{{end}}</table>
<h2>Bad modules</h2>
<table><tr><th>module</th><th>port</th><th>of</th><th>came</th><th>at</th></tr>
{{range .R.Bad}}<tr><td>{{.Name}}</td><td>{{.Port}}</td><td>{{.About}}</td><td class="{{.Class}}">{{.Class}}</td><td>{{.Step}}{{with .Mend}}{{if .After}}after line {{.After}}{{else}}at the end of step “{{.Step}}”{{end}}:<pre>{{range .Lines}}{{.}}
{{end}}</pre>{{end}}</td></tr>
{{end}}</table>
<h2>Good modules</h2>
<table><tr><th>module</th><th>port</th><th>came</th><th>at</th></tr>
{{range .R.Good}}<tr><td>{{.Name}}</td><td>{{.Port}}</td><td>{{if .Alarm}}<span class="alarm">false alarm</span>{{else}}<span class="accepted">accepted</span>{{end}}</td><td>{{.Step}} {{.Why}} {{.Accept}}</td></tr>
{{end}}</table>
</body></html>
`))
