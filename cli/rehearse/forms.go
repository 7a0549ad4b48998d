package rehearse

import (
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"os"
	"strings"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/procedure"
	"uparrot/core/rehearse"
	"uparrot/core/report"
	"uparrot/core/verdict"
)

// RehearsalForms are the forms of a rehearsal as a file.
var RehearsalForms = []string{"json", "html", "junit", "sarif"}

// rehearsalJSON is a rehearsal as data, with its score and counts.
func rehearsalJSON(r *rehearse.Report) any {
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

// writeRehearsal writes a rehearsal in a form.
func writeRehearsal(w io.Writer, form string, file *procedure.File, r *rehearse.Report) error {
	switch form {
	case "html":
		return rehearsalPage.Execute(w, map[string]any{"R": r, "Steps": stepRowsOf(r), "JSON": rehearsalJSON(r), "Counts": countsOf(r), "Score": scoreWords(r)})
	case "junit":
		return rehearsalJUnit(w, r)
	case "sarif":
		return rehearsalSARIF(w, file, r)
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(rehearsalJSON(r))
}

// scoreWords is the score of a rehearsal in words.
func scoreWords(r *rehearse.Report) string {
	score, any := r.Score()
	if !any {
		return "nothing could be caught"
	}
	return fmt.Sprintf("caught %.1f %%", 100*score)
}

func countsOf(r *rehearse.Report) string {
	text := ""
	for i, c := range rehearse.Classes {
		if i > 0 {
			text += ", "
		}
		text += fmt.Sprintf("%d %s", r.Count(c), c)
	}
	return text
}

// rehearsalJUnit is a case for each module: bad ones fail that survived, good ones that were refused.
func rehearsalJUnit(w io.Writer, r *rehearse.Report) error {
	host, err := os.Hostname()
	if err != nil {
		host = "" // the form has a word for that
	}
	s := report.NewJUnit(r.Procedure, host, time.Now(), 1000*r.MadeUpS)
	for _, b := range r.Bad {
		v, why := verdict.Passed, ""
		switch b.Class {
		case rehearse.Survived:
			v, why = verdict.Failed, "survived"
			if b.Mend != nil {
				why += fmt.Sprintf(": add at the end of step %q: %s", b.Mend.Step, strings.Join(b.Mend.Lines, "; "))
			}
		case rehearse.NotTested, rehearse.Invisible:
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
	return s.Write(w)
}

// rehearsalSARIF is a result for each step that lets a bad module through or refuses a good one
// (SARIF 2.1.0).
func rehearsalSARIF(w io.Writer, file *procedure.File, r *rehearse.Report) error {
	lines := map[string]int{}
	for _, s := range file.Steps {
		lines[s.Title] = s.Line
	}
	var results []shell.SarifResult
	add := func(rule, step, text string) {
		results = append(results, shell.SarifResult{Rule: rule, Level: "warning", Text: text, File: file.Path, Line: lines[step]})
	}
	for _, b := range r.Bad {
		if b.Class == rehearse.Survived {
			step, text := "", fmt.Sprintf("a bad module would pass: %s, %s at %s", b.Name, b.About, b.Port)
			if b.Mend != nil {
				step, text = b.Mend.Step, text+fmt.Sprintf(". Add: %v", b.Mend.Lines)
			}
			add("survived", step, text)
		}
	}
	for _, g := range r.Good {
		if g.Alarm {
			add("false-alarm", g.Step, fmt.Sprintf("a good module would be refused: %s at %s: %s", g.Name, g.Port, g.Why))
		}
	}
	return shell.WriteSARIF(w, map[string]string{"survived": "a bad module would pass", "false-alarm": "a good module would be refused"}, results)
}

var rehearsalPage = template.Must(template.New("rehearsal").Parse(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>Rehearsal of {{.R.Procedure}}</title>
<style>
body { font: 15px/1.45 system-ui, sans-serif; margin: 2rem auto; max-width: 62rem; padding: 0 1rem; color: #202020; background: #fff }
table { border-collapse: collapse; margin: 1rem 0; width: 100% }
th, td { text-align: left; padding: .3rem .7rem .3rem 0; border-bottom: 1px solid #ddd; vertical-align: top }
pre { background: #f3f3f3; padding: .5rem .8rem; margin: .3rem 0; overflow-x: auto }
.caught, .spared { color: #006a20 } .survived, .alarm { color: #b00020; font-weight: 600 }
@media print { body { margin: 0 } }
</style></head><body>
<h1>{{.R.Procedure}}</h1>
<p>Rehearsed {{.R.Runs}} times, seed {{.R.Seed}}. Bad modules: {{.Score}}: {{.Counts}}. Good modules: {{len .R.Good}}, false alarms: {{.R.Alarms}}.</p>
<p>Caught of the bad modules that each step could have caught, by what was wrong with them, and good ones refused:</p>
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
{{range .R.Good}}<tr><td>{{.Name}}</td><td>{{.Port}}</td><td>{{if .Alarm}}<span class="alarm">false alarm</span>{{else}}<span class="spared">spared</span>{{end}}</td><td>{{.Step}} {{.Why}} {{.Spare}}</td></tr>
{{end}}</table>
</body></html>
`))
