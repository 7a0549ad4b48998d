package session

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Ports stand where a chosen step begins as the steps before it have set them, or the choice is refused,
// because the module is not as they have left it, or nobody knows.
func TestLinesOfStepsLeftOut(t *testing.T) {
	fast := "line radio speed 57600"
	for name, c := range map[string]struct {
		steps  []string          // title, options and a colon, and statements
		chosen string            // titles with commas
		passed string            // in the earlier run, with what it set there, such as "fast=57600,work=-"; none if empty
		inputs map[string]string //
		lines  string            // what is brought back, by step
		why    string
	}{
		"nothing is set":          {steps: []string{"fast: say radio: up", "work: say radio: who"}, chosen: "work"},
		"a speed":                 {steps: []string{"fast: " + fast, "work: say radio: who"}, chosen: "work", lines: "fast 57600 8N1"},
		"a speed and a frame":     {steps: []string{"fast: " + fast, "odd: line radio frame 7O1", "work: say radio: who"}, chosen: "work", lines: "fast 57600 8N1|odd 57600 7O1"},
		"an ending and a dialect": {steps: []string{"fast: line radio ending lf dialect lines", "work: say radio: who"}, chosen: "work", lines: "fast lf lines"},
		"a signal":                {steps: []string{"fast: line radio dtr off", "work: say radio: who"}, chosen: "work", lines: "fast map[DTR:false]"},
		"power":                   {steps: []string{"fast: power radio off", "work: say radio: who"}, chosen: "work", lines: "fast off"},
		"power, and again":        {steps: []string{"fast: power radio cycle", "work: say radio: who"}, chosen: "work", lines: "fast on"},
		"a break":                 {steps: []string{"fast: if 1 == 1 / line radio break 1s / end", "work: say radio: who"}, chosen: "work"},
		"an input":                {steps: []string{"fast: line radio speed {rate}", "work: say radio: who"}, chosen: "work", lines: "fast 19200 8N1"},
		"a let of the header":     {steps: []string{"fast: line radio speed {double}", "work: say radio: who"}, chosen: "work", lines: "fast 38400 8N1"},
		"a value of the step":     {steps: []string{"fast: hear radio: at {now:int} / line radio speed {now}", "work: say radio: who"}, chosen: "work", why: `step "fast", which is left out, sets radio in a way that only a run tells`},
		"a value in the record":   {steps: []string{"fast: hear radio: at {now:int} / line radio speed {now}", "work: say radio: who"}, chosen: "work", passed: "fast=57600", lines: "fast 57600 8N1"},
		"perhaps":                 {steps: []string{"fast: if 1 == 1 / " + fast + " / end", "work: say radio: who"}, chosen: "work", why: "only a run tells"},
		"perhaps, and not":        {steps: []string{"fast: if 1 == 2 / " + fast + " / end", "work: say radio: who"}, chosen: "work", passed: "fast=-,work=-"},
		"in a routine":            {steps: []string{"fast: do quick(radio)", "work: say radio: who"}, chosen: "work", lines: "fast 115200 8N1"},
		"of another port":         {steps: []string{"fast: line other speed 57600", "work: say radio: who"}, chosen: "work"},
		"behind it":               {steps: []string{"work: say radio: who", "fast: " + fast}, chosen: "work"},
		"and back, left out":      {steps: []string{"fast: " + fast, "slow: line radio speed 9600", "work: say radio: who"}, chosen: "work", lines: "fast 57600 8N1|slow 9600 8N1"},
		"and back, always":        {steps: []string{"fast: " + fast, "work: say radio: who", "back always: line radio speed 9600"}, chosen: "work", why: `step "work" speaks at radio at 57600 8N1, dialect at (since step "fast"), and with the steps before and those always performed it is 9600 8N1, dialect at (since step "back"): choose step "fast" too, or mark it needed`},
		"... needed":              {steps: []string{"fast needed: " + fast, "work: say radio: who", "back always: line radio speed 9600"}, chosen: "work"},
		"... chosen":              {steps: []string{"fast: " + fast, "work: say radio: who", "back always: line radio speed 9600"}, chosen: "fast,work"},
		"... which went wrong":    {steps: []string{"fast: " + fast, "work: say radio: who", "back always: line radio speed 9600"}, chosen: "work", passed: "fast=57600,work=-,back=-", lines: "fast 57600 8N1"},
		"... as a record tells":   {steps: []string{"fast: " + fast, "work: say radio: who", "back always: line radio speed 9600"}, chosen: "work", passed: "fast=57600,work=-,back=9600", why: `in it.record it was left at 9600 8N1, dialect at (since step "back")`},
		"chosen in between":       {steps: []string{"work: say radio: who", "fast: " + fast, "more: say radio: who"}, chosen: "work,more", why: `step "more" speaks at radio at 57600 8N1`},
		"first again, after all":  {steps: []string{"work: say radio: who", "fast: " + fast}, chosen: "work", passed: "work=-,fast=57600", why: `step "work" speaks at radio at 9600 8N1, dialect at (at the beginning), and in it.record it was left at 57600 8N1, dialect at (since step "fast"): choose step "fast" too`},
		"itself, half done":       {steps: []string{"fast: " + fast + " / say radio: who"}, chosen: "fast", passed: "fast=57600"},
		"cut short":               {steps: []string{"fast: " + fast, "work: say radio: who"}, chosen: "fast,work", passed: "+57600"},
		"cut short, left out":     {steps: []string{"slow: line radio speed 1200", "fast: " + fast, "work: say radio: who"}, chosen: "fast,work", passed: "slow=1200,+57600", why: `step "fast" speaks at radio at 1200 8N1, dialect at (since step "slow"), and in it.record it was left at 57600 8N1`},
		"a step that has none":    {steps: []string{"fast: " + fast, "work: check 1 == 1"}, chosen: "work"},
		"always, in the middle":   {steps: []string{"fast: " + fast, "tell always: say radio: hi", "work: say radio: who"}, chosen: "work", lines: "fast 57600 8N1"},
	} {
		text := "procedure \"L\"\nport radio: speed 9600, dialect at\nport other: speed 9600, dialect at\ninput rate: int\nlet double = 2 * rate\nroutine quick(p)\nline p speed 115200\nend\n"
		for _, s := range c.steps {
			front, body, _ := strings.Cut(s, ": ")
			title, options, _ := strings.Cut(front, " ")
			text += fmt.Sprintf("step %q %s\n%s\nend\n", title, options, strings.ReplaceAll(body, " / ", "\n"))
		}
		file, err := procedure.Parse("l.parrot", text)
		if err != nil {
			t.Fatal(name, err)
		}
		p := &Procedure{File: file, Chosen: map[string]bool{}, Values: map[string]any{"rate": 19200}}
		for title := range strings.SplitSeq(c.chosen, ",") {
			p.Chosen[title] = true
		}
		stations := map[string]*bench.Station{}
		for _, decl := range file.Ports {
			stations[decl.Name] = &bench.Station{Name: decl.Name, Setup: decl.Whole()}
		}
		if c.passed != "" {
			p.Earlier = earlierOf(c.passed)
		}
		before := map[string]perform.Earlier{}
		if err := p.linesBefore(stations, before); (err == nil) != (c.why == "") || err != nil && !strings.Contains(err.Error(), c.why) {
			t.Errorf("%s: %v, want %q", name, err, c.why)
		} else if got := broughtBack(file, before); err == nil && got != c.lines {
			t.Errorf("%s: %q, want %q", name, got, c.lines)
		}
	}
}

// earlierOf is a run in which steps have set radio to speeds, or to none; the last may have no end.
func earlierOf(text string) *Earlier {
	e := &Earlier{path: "it.record", verdicts: map[string]verdict.Verdict{}, lines: map[string]lines{}, since: lines{}}
	for one := range strings.SplitSeq(text, ",") {
		title, speed, ended := strings.Cut(one, "=")
		if !ended {
			speed = strings.TrimPrefix(one, "+")
		}
		set := lines{}
		if n := 0; speed != "-" {
			fmt.Sscan(speed, &n)
			set.set("radio", perform.Line{ChangedLine: record.ChangedLine{Speed: n, Frame: (uart.Frame{}).Filled()}}, "")
		}
		if !ended {
			e.since = set
			continue
		}
		e.verdicts[title], e.lines[title] = verdict.Passed, set
	}
	return e
}

// broughtBack is what is set again at radio, in the order of the steps.
func broughtBack(file *procedure.File, before map[string]perform.Earlier) string {
	var all []string
	for _, s := range file.Steps {
		l, has := before[s.Title].Lines["radio"]
		if !has {
			continue
		}
		words := []string{s.Title}
		for _, w := range []struct {
			is   bool
			text string
		}{{l.Speed != 0, fmt.Sprint(l.Speed, " ", l.Frame)}, {l.Ending != phrasebook.EndingNotSaid, l.Ending.String()}, {l.Dialect != phrasebook.DialectNotSaid, fmt.Sprint(l.Dialect)}, {l.Signals != nil, fmt.Sprint(l.Signals)}, {l.Power != "", l.Power}} {
			if w.is {
				words = append(words, w.text)
			}
		}
		all = append(all, strings.Join(words, " "))
	}
	return strings.Join(slices.Clip(all), "|")
}
