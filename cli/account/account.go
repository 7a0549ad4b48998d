package account

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/link"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/secret"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Account tells a person what happens while a procedure runs.
func Account(sh *shell.Streams, proc *procedure.File, stations map[string]*bench.Station, values map[string]any) *Run {
	s := sh.Err
	s.Line("%s", s.Bold(shell.Safe(proc.Title)))
	if proc.About != "" {
		s.Line("%s", shell.Safe(proc.About))
	}
	for _, p := range proc.Ports {
		st := stations[p.Name]
		power := ""
		if st.Supply != nil {
			power = ", power by " + shell.Safe(st.Supply.Words())
		}
		s.Line("  port %s is %s (%s)%s", p.Name, shell.Safe(st.Address.String()), st.Setup.Words(), power)
	}
	var hidden secret.Mask // an input may hold a secret, too
	for _, x := range proc.Secrets {
		hidden.Add(procedure.Text(values[x.Name]))
	}
	for _, in := range proc.Inputs {
		s.Line("  %s is %s", in.Name, shell.Safe(hidden.Hide(procedure.Text(values[in.Name]))))
	}
	return &Run{Streams: sh, stations: stations, many: len(proc.Ports) > 1}
}

// Run is what a person is told of a performance while it goes on.
type Run struct {
	*shell.Streams
	stations  map[string]*bench.Station
	many      bool  // ports, so that each line names its own
	begun     bool  // the step
	tries     int   // of the step, at most
	explained error // why it failed, once that has been told
	fold      folding
	running   []*runningSeries // of the step
}

// at names the port of an event, where there are several, or it is none of the procedure's.
func (a *Run) at(e record.Event) string {
	if a.many || e.Port != "" && a.stations[e.Port] == nil {
		return fmt.Sprintf("%-8s ", e.Port)
	}
	return ""
}

// mostHexed is how many bytes stand on a line of an account.
const mostHexed = 48

// words are what was said or heard: of a port that speaks in bytes in hexadecimal with text
// beside, unless it is all text.
func (a *Run) words(e record.Event) string {
	st := a.stations[e.Port]
	if st == nil || st.Setup.Dialect != phrasebook.Bytes || strings.IndexFunc(e.Text, func(r rune) bool { return r < ' ' || r > '~' }) < 0 {
		return shell.OneLine(e.Text)
	}
	return text.Hexed([]byte(e.Text), mostHexed)
}

// telling is how each kind of event is told.
var telling = map[record.Kind]func(*Run, record.Event){
	record.Step:     (*Run).step,
	record.Try:      (*Run).try,
	record.Said:     (*Run).said,
	record.Heard:    (*Run).heard,
	record.Ended:    (*Run).ended,
	record.Check:    (*Run).check,
	record.Limit:    (*Run).limit,
	record.Value:    (*Run).limit,
	record.Measured: (*Run).limit,
	record.Series:   (*Run).seriesBegins,
	record.Sampled:  (*Run).samples,
	record.Round:    (*Run).round,
	record.Waiting:  (*Run).waiting,
	record.Told:     (*Run).told,
	record.Changed:  func(a *Run, e record.Event) { a.line("   %sset    %s", a.at(e), shell.OneLine(e.Text)) },
	record.Kept:     func(a *Run, e record.Event) { a.line("   kept   %s", shell.OneLine(e.Text)) },
	record.Note:     (*Run).note,
	record.Link:     (*Run).link,
}

// Event tells of one thing that happens.
func (a *Run) Event(e record.Event) {
	a.fold.before(a, e)
	if tell, ok := telling[e.Kind]; ok {
		tell(a, e)
	}
}

// step tells that a step begins or ends. One that was not begun is told at the end.
func (a *Run) step(e record.Event) {
	if b, ok := e.Live.(perform.StepBegins); ok {
		a.begun, a.tries, a.running = true, b.Tries, nil
		a.line("")
		a.line("%s", a.Err.Bold(fmt.Sprintf("%d  %s", b.Number, shell.Safe(e.Step))))
		return
	}
	if !a.begun {
		return
	}
	a.begun = false
	a.line("   %s in %s", a.Err.Verdict(e.Verdict, 0), shell.Took(shell.FromMS(e.TookMS)))
	if e.Err != nil && e.Err != a.explained {
		explain(a.Streams, e.Err, a.stations)
	}
}

// note tells what was found, or taken up from an earlier run.
func (a *Run) note(e record.Event) {
	what := "found"
	if _, taken := e.Live.(perform.Earlier); taken {
		what = "taken"
	}
	a.line("   %s  %s", what, shell.OneLine(e.Text))
}

func (a *Run) try(e record.Event) {
	if further, ok := e.Value.(record.Further); ok && further.ByHand {
		a.line("   a further try, by hand")
		return
	}
	a.line("   try %d of %d failed: %s", e.Try, a.tries, shell.Safe(e.Why))
}

func (a *Run) said(e record.Event) {
	text := a.words(e)
	if text == "" {
		text = a.Err.Faint("(the line ending alone)")
	}
	a.line("   %ssaid   %s", a.at(e), text)
}

// heard tells what was heard; of a packet, what it holds, too.
func (a *Run) heard(e record.Event) {
	a.fold.shown++
	a.line("   %sheard  %s", a.at(e), a.words(e))
	if p, ok := e.Live.(perform.PacketSeen); ok {
		a.line("   %s       %s: %s", a.at(e), p.Name, a.Err.Faint(shownValues(p.Fields)))
	}
}

// shownValues are values by name, on one line.
func shownValues(values []perform.Value) string {
	var vs []string
	for _, v := range values {
		vs = append(vs, v.Name+" = "+shell.Clip(procedure.Text(v.Value))+v.InHex())
	}
	return shell.OneLine(strings.Join(vs, ", "))
}

// ended tells what has ended an answer, and how long after the words.
func (a *Run) ended(e record.Event) {
	after, _ := e.Live.(time.Duration)
	a.line("   %s%s", a.at(e), a.Err.Faint(fmt.Sprintf("ended  %s, after %s", shell.OneLine(e.Text), shell.Took(after))))
}

func (a *Run) check(e record.Event) {
	values, _ := e.Value.([]perform.Value)
	a.line("   check  %s  %s", shell.OneLine(e.Text), a.Err.Faint(shownValues(values)))
}

func (a *Run) told(e record.Event) {
	if answer, ok := e.Value.(perform.Answer); !ok {
		a.line("%s", shell.OneLine(e.Text)) // what no operator was there to be told
	} else if answer.Answer != "" {
		a.line("   answer %s", shell.OneLine(answer.Answer))
	}
}

func (a *Run) link(e record.Event) {
	sum, ok := e.Value.(link.Summary)
	if !ok {
		return
	}
	for _, d := range sum.Directions {
		a.line("   found  %s", shell.OneLine(fmt.Sprintf("%s to %s: %d sent, %d received, %d lost", d.From, d.To, d.Sent, d.Received, d.Lost)))
	}
}

// waiting shows that a wait goes on: a line drawn anew each second, or where that
// cannot be drawn a line after ten seconds and then every half minute.
func (a *Run) waiting(e record.Event) {
	w, ok := e.Live.(perform.Wait)
	if !ok {
		return
	}
	text := "waiting for " + shell.OneLine(e.Text)
	if e.Port != "" {
		text += " at " + e.Port
	}
	seconds := w.Took.Round(time.Second)
	if text += ": " + shell.Took(seconds); w.Within > 0 {
		text += " of at most " + w.Within.String()
	}
	if e.Port != "" && w.Silence >= 0 {
		text += ", last byte " + shell.Took(w.Silence.Round(time.Second)) + " ago"
	} else if e.Port != "" {
		text += ", no byte yet"
	}
	if w.Ended != "" {
		text += ", " + w.Ended
	}
	a.Err.Draw("   %s", text)
	if n := int(seconds / time.Second); !a.Err.Terminal && (n == 10 || n > 0 && n%30 == 0) {
		a.line("   %s", text)
	}
}

// explain says all that is known of a failure.
func explain(sh *shell.Streams, err error, stations map[string]*bench.Station) {
	f, _ := errors.AsType[*perform.Failure](err)
	if f != nil {
		fact(sh, fmt.Sprintf("line %d", f.Line), strings.TrimSpace(f.Text))
		for _, from := range f.From {
			fact(sh, "in", from)
		}
	}
	ending := phrasebook.CRLF
	plain := true
	if r, ok := errors.AsType[*dialog.Refused](err); ok && f != nil {
		plain = false
		fact(sh, "said", r.Said)
		fact(sh, "heard", r.Heard)
		if r.Restarted {
			fact(sh, "means", "the module restarted, and nothing had told it to")
		}
		if f.Meaning != "" {
			fact(sh, "means", f.Meaning)
		}
	}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		plain = false
		missed(sh, m)
		for _, s := range stations {
			if s.Address.String() == m.Port {
				ending = max(s.Setup.Ending, phrasebook.CRLF)
			}
		}
	}
	if r, ok := errors.AsType[*perform.RowsFailed](err); ok {
		plain = false
		for _, bad := range r.Bad {
			fact(sh, "row", bad.Row)
			fact(sh, "", bad.Err.Error())
		}
	}
	if u, ok := errors.AsType[*dialog.Unwanted](err); ok {
		plain = false
		fact(sh, "heard", u.Heard)
		fact(sh, "unwanted", u.Pattern)
		if u.After > 0 {
			fact(sh, "after", shell.Took(u.After))
		}
	}
	if f != nil && f.Counted != "" {
		fact(sh, "counted", f.Counted+", which point to the speed, the frame or the wires")
	}
	var inner interface{ Unwrap() error }
	if plain && errors.As(err, &inner) {
		fact(sh, "why", inner.Unwrap().Error())
	}
	if advice := perform.Advice(err, ending); advice != "" {
		fact(sh, "try", advice)
	}
}

// fact is one row of what is known of a failure.
func fact(sh *shell.Streams, head, text string) {
	sh.Err.Line("     %-9s %s", head, shell.OneLine(text))
}

// missed says what came in place of what was wanted.
func missed(sh *shell.Streams, m *dialog.Missed) {
	if m.Said != "" {
		fact(sh, "said", m.Said)
	}
	for i, h := range m.Heard {
		fact(sh, "heard", h)
		if i == m.Near {
			sh.Err.Line("     %-9s %s^ parts here", "", strings.Repeat(" ", len([]rune(shell.OneLine(h[:min(m.NearAt, len(h))])))))
		}
	}
	for _, packet := range m.Packets {
		fact(sh, "heard", text.Hexed([]byte(packet), mostHexed))
	}
	switch {
	case len(m.Packets) > 0:
	case m.Hidden != "":
		fact(sh, "came", m.Hidden)
	case strings.TrimSpace(m.Rest) != "":
		fact(sh, "heard", m.Rest+"  (no line end)")
	}
	switch {
	case m.Echo:
		fact(sh, "heard", "only the echo of what was said")
	case m.Silent && (len(m.Heard) > 0 || m.Rest != ""):
		fact(sh, "heard", "nothing since then")
	case m.Silent:
		fact(sh, "heard", "nothing")
	}
	fact(sh, "wanted", m.Wanted)
	switch {
	case m.Ended != "":
		fact(sh, "ended", m.Ended+": nothing more belongs to that answer")
	case m.Within > 0 && !m.Next:
		fact(sh, "waited", m.Within.String())
	}
}

// Result prints what came of a run: on stdout, as tables or JSON.
func Result(sh *shell.Streams, res perform.Result, proc *procedure.File) error {
	if sh.JSON {
		return sh.PrintJSON(res)
	}
	if res.Steps[0].Verdict == verdict.Untested && res.Err != nil {
		return nil // it did not begin: the error says why
	}
	s := shell.NewScreen(sh.Out)
	fmt.Fprintln(sh.Out)
	rows := [][]string{{"step", "verdict", "tries", "time"}}
	passed := 0
	for i, st := range res.Steps {
		tries, t := "", ""
		if st.Tries > 0 {
			tries, t = fmt.Sprint(st.Tries), shell.Took(shell.FromMS(st.TookMS))
		}
		if st.Verdict == verdict.Passed {
			passed++
		}
		rows = append(rows, []string{fmt.Sprintf("%d  %s", i+1, shell.Safe(st.Title)), s.Verdict(st.Verdict, 0), tries, t})
	}
	shell.Table(sh.Out, rows)
	if len(res.Limits) > 0 {
		fmt.Fprintln(sh.Out)
		rows = [][]string{{"measurement", "value", "limits", "verdict"}}
		for _, l := range res.Limits {
			rows = append(rows, []string{shell.Safe(l.What), ShownMeasured(l), l.Wanted(), s.Verdict(l.Verdict, 0)})
		}
		shell.Table(sh.Out, rows)
	}
	left := 0
	for _, st := range res.Steps {
		if st.Left {
			left++
		}
	}
	many := fmt.Sprintf("%d of %s passed", passed, shell.Count(len(res.Steps)-left, "step"))
	if passed == len(res.Steps) {
		many = "all " + shell.Count(passed, "step")
	}
	if left > 0 {
		many += fmt.Sprintf(", %d left out", left)
	}
	fmt.Fprintf(sh.Out, "\n%s: %s, in %s\n", s.Verdict(res.Verdict, 0), many, shell.Took(shell.FromMS(res.TookMS)))
	for _, st := range res.Steps {
		if st.Err != nil {
			fmt.Fprintf(sh.Out, "%s: %s\n", shell.Safe(st.Title), shell.Safe(st.Why))
		}
	}
	return nil
}

// ShownMeasured is a measurement of this run on one line, with all its digits.
func ShownMeasured(m record.Measurement) string {
	if m.Series != nil {
		return shell.OneLine(m.Shown())
	}
	return shell.OneLine(shell.Clip(m.Shown()))
}

// Each1 tells an event to several.
func Each1(sinks []func(record.Event)) func(record.Event) {
	return func(e record.Event) {
		for _, f := range sinks {
			f(e)
		}
	}
}
