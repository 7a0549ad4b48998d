package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/verdict"
)

// account tells a person what happens while a procedure runs.
func (a *app) account(proc *procedure.File, stations map[string]*station.Station, values map[string]any) func(perform.Event) {
	s := a.err
	s.line("%s", s.bold(safe(proc.Title)))
	if proc.About != "" {
		s.line("%s", safe(proc.About))
	}
	for _, p := range proc.Ports {
		st := stations[p.Name]
		s.line("  port %s is %s (%s)", p.Name, st.Address, st.Setup.Words())
	}
	for _, in := range proc.Inputs {
		s.line("  %s is %s", in.Name, safe(procedure.Text(values[in.Name])))
	}
	many := len(proc.Ports) > 1
	at := func(e perform.Event) string {
		if many {
			return fmt.Sprintf("%-8s ", e.Port)
		}
		return ""
	}
	return func(e perform.Event) {
		switch e.Kind {
		case perform.StepBegan:
			s.line("")
			s.line("%s", s.bold(fmt.Sprintf("%d  %s", e.Number, safe(e.Step.Title))))
		case perform.Said:
			text := oneLine(e.Text)
			if text == "" {
				text = s.faint("(the line ending alone)")
			}
			s.line("   %ssaid   %s", at(e), text)
		case perform.Heard:
			s.line("   %sheard  %s", at(e), oneLine(e.Text))
		case perform.Checked:
			var vs []string
			for _, v := range e.Values {
				vs = append(vs, v.Name+" = "+clip(procedure.Text(v.Value)))
			}
			s.line("   check  %s  %s", oneLine(e.Text), s.faint(oneLine(strings.Join(vs, ", "))))
		case perform.Judged:
			r := e.Limit
			text := fmt.Sprintf("   limit  %s: %s, wanted %s", safe(r.What), record.WithUnit(procedure.Text(r.Value), r.Unit), record.WithUnit(r.Range(), r.Unit))
			if r.Verdict != verdict.Passed {
				text += "  " + s.verdict(r.Verdict, 0)
			}
			s.line("%s", text)
		case perform.Waiting:
			a.waiting(e)
		case perform.Told:
			if answer := e.Values[0].Value; answer != "" {
				s.line("   answer %s", oneLine(fmt.Sprint(answer)))
			}
		case perform.Changed:
			s.line("   %sset    %s", at(e), oneLine(e.Text))
		case perform.Kept:
			s.line("   kept   %s", oneLine(e.Text))
		case perform.Linked:
			s.line("   found  %s", oneLine(e.Text))
		case perform.TryEnded:
			s.line("   try %d of %d failed: %s", e.Try, e.Step.Tries, safe(e.Err.Error()))
		case perform.StepEnded:
			s.line("   %s in %s", s.verdict(e.Verdict, 0), took(e.Took))
			if e.Err != nil {
				a.explain(e.Err, stations)
			}
		}
	}
}

// clip keeps a long value from filling the screen; the record has it whole.
func clip(text string) string {
	if r := []rune(text); len(r) > 60 {
		return string(r[:56]) + " ..."
	}
	return text
}

// waiting shows that a wait goes on: a line drawn anew each second, or where that
// cannot be drawn a line after ten seconds and then every half minute.
func (a *app) waiting(e perform.Event) {
	text := "waiting for " + oneLine(e.Text)
	if e.Port != "" {
		text += " at " + e.Port
	}
	seconds := e.Took.Round(time.Second)
	if text += ": " + took(seconds); e.Within > 0 {
		text += " of at most " + e.Within.String()
	}
	if e.Port != "" && e.Silence >= 0 {
		text += ", last byte " + took(e.Silence.Round(time.Second)) + " ago"
	} else if e.Port != "" {
		text += ", no byte yet"
	}
	a.err.draw("   %s", text)
	if n := int(seconds / time.Second); !a.err.terminal && (n == 10 || n > 0 && n%30 == 0) {
		a.err.line("   %s", text)
	}
}

// explain says all that is known of a failure.
func (a *app) explain(err error, stations map[string]*station.Station) {
	row := func(head, text string) { a.err.line("     %-9s %s", head, oneLine(text)) }
	if f, ok := errors.AsType[*perform.Failure](err); ok {
		row(fmt.Sprintf("line %d", f.Line), strings.TrimSpace(f.Text))
		for _, from := range f.From {
			row("in", from)
		}
		if r, ok := errors.AsType[*dialog.Refused](err); ok {
			row("said", r.Said)
			row("heard", r.Heard)
			if f.Meaning != "" {
				row("means", f.Meaning)
			}
		}
	}
	ending := "crlf"
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		if m.Said != "" {
			row("said", m.Said)
		}
		for i, h := range m.Heard {
			row("heard", h)
			if i == m.Near {
				a.err.line("     %-9s %s^ parts here", "", strings.Repeat(" ", len([]rune(oneLine(h[:min(m.NearAt, len(h))])))))
			}
		}
		if m.Rest != "" {
			row("heard", m.Rest+"  (no line end)")
		}
		switch {
		case m.Echo:
			row("heard", "only the echo of what was said")
		case m.Silent:
			row("heard", "nothing")
		}
		row("wanted", m.Wanted)
		if m.Within > 0 && !m.Next {
			row("waited", m.Within.String())
		}
		for _, s := range stations {
			if s.Address == m.Port && s.Setup.Ending != "" {
				ending = s.Setup.Ending
			}
		}
	}
	if u, ok := errors.AsType[*dialog.Unwanted](err); ok {
		row("heard", u.Heard)
		row("unwanted", u.Pattern)
		if u.After > 0 {
			row("after", took(u.After))
		}
	}
	if f, ok := errors.AsType[*perform.Failure](err); ok && f.Counted != "" {
		row("counted", f.Counted+", which point to the speed, the frame or the wires")
	}
	var plain interface{ Unwrap() error }
	if errors.As(err, &plain) && isPlain(err) {
		row("why", plain.Unwrap().Error())
	}
	if advice := perform.Advice(err, ending); advice != "" {
		row("try", advice)
	}
}

// isPlain reports whether an error has no rows of its own in explain.
func isPlain(err error) bool {
	_, missed := errors.AsType[*dialog.Missed](err)
	_, refused := errors.AsType[*dialog.Refused](err)
	_, unwanted := errors.AsType[*dialog.Unwanted](err)
	return !missed && !refused && !unwanted
}

// result prints what came of a run: on stdout, as tables or JSON.
func (a *app) result(res perform.Result, proc *procedure.File) error {
	if a.json {
		return a.printJSON(res)
	}
	if res.Steps[0].Verdict == verdict.Untested && res.Err != nil {
		return nil // it did not begin: the error says why
	}
	s := newScreen(a.out)
	fmt.Fprintln(a.out)
	rows := [][]string{{"step", "verdict", "tries", "time"}}
	passed := 0
	for i, st := range res.Steps {
		tries, t := "", ""
		if st.Tries > 0 {
			tries, t = fmt.Sprint(st.Tries), took(fromMS(st.TookMS))
		}
		if st.Verdict == verdict.Passed {
			passed++
		}
		rows = append(rows, []string{fmt.Sprintf("%d  %s", i+1, safe(st.Title)), s.verdict(st.Verdict, 0), tries, t})
	}
	table(a.out, rows)
	if len(res.Limits) > 0 {
		fmt.Fprintln(a.out)
		rows = [][]string{{"measurement", "value", "limits", "verdict"}}
		for _, l := range res.Limits {
			rows = append(rows, []string{safe(l.What), record.WithUnit(procedure.Text(l.Value), l.Unit), record.WithUnit(l.Range(), l.Unit), s.verdict(l.Verdict, 0)})
		}
		table(a.out, rows)
	}
	left := 0
	for _, st := range res.Steps {
		if st.Verdict == verdict.Skipped && st.Err == nil {
			left++
		}
	}
	many := fmt.Sprintf("%d of %s passed", passed, count(len(res.Steps)-left, "step"))
	if passed == len(res.Steps) {
		many = "all " + count(passed, "step")
	}
	if left > 0 {
		many += fmt.Sprintf(", %d left out", left)
	}
	fmt.Fprintf(a.out, "\n%s: %s, in %s\n", s.verdict(res.Verdict, 0), many, took(fromMS(res.TookMS)))
	for _, st := range res.Steps {
		if st.Err != nil {
			fmt.Fprintf(a.out, "%s: %s\n", safe(st.Title), safe(st.Why))
		}
	}
	return nil
}
