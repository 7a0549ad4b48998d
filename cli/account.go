package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/link"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// account tells a person what happens while a procedure runs.
func (a *app) account(proc *procedure.File, stations map[string]*bench.Station, values map[string]any) *account {
	s := a.err
	s.line("%s", s.bold(safe(proc.Title)))
	if proc.About != "" {
		s.line("%s", safe(proc.About))
	}
	for _, p := range proc.Ports {
		st := stations[p.Name]
		power := ""
		if st.Supply != nil {
			power = ", power by " + safe(st.Supply.Words())
		}
		s.line("  port %s is %s (%s)%s", p.Name, safe(st.Address.String()), st.Setup.Words(), power)
	}
	for _, in := range proc.Inputs {
		s.line("  %s is %s", in.Name, safe(procedure.Text(values[in.Name])))
	}
	return &account{app: a, stations: stations, many: len(proc.Ports) > 1}
}

// account is what a person is told of a performance while it goes on.
type account struct {
	*app
	stations  map[string]*bench.Station
	many      bool  // ports, so that each line names its own
	begun     bool  // the step
	tries     int   // of the step, at most
	explained error // why it failed, once that has been told
	fold      folding
	running   []*runningSeries // of the step
}

// at names the port of an event, where there are several, or it is none of the procedure's.
func (a *account) at(e record.Event) string {
	if a.many || e.Port != "" && a.stations[e.Port] == nil {
		return fmt.Sprintf("%-8s ", e.Port)
	}
	return ""
}

// mostHexed is how many bytes stand on a line of an account.
const mostHexed = 48

// words are what was said or heard: of a port that speaks in bytes in hexadecimal with text
// beside, unless it is all text.
func (a *account) words(e record.Event) string {
	st := a.stations[e.Port]
	if st == nil || st.Setup.Dialect != phrasebook.Bytes || strings.IndexFunc(e.Text, func(r rune) bool { return r < ' ' || r > '~' }) < 0 {
		return oneLine(e.Text)
	}
	return text.Hexed([]byte(e.Text), mostHexed)
}

// telling is how each kind of event is told.
var telling = map[record.Kind]func(*account, record.Event){
	record.Step:     (*account).step,
	record.Try:      (*account).try,
	record.Said:     (*account).said,
	record.Heard:    (*account).heard,
	record.Ended:    (*account).ended,
	record.Check:    (*account).check,
	record.Limit:    (*account).limit,
	record.Value:    (*account).limit,
	record.Measured: (*account).limit,
	record.Series:   (*account).seriesBegins,
	record.Sampled:  (*account).samples,
	record.Round:    (*account).round,
	record.Waiting:  (*account).waiting,
	record.Told:     (*account).told,
	record.Changed:  func(a *account, e record.Event) { a.line("   %sset    %s", a.at(e), oneLine(e.Text)) },
	record.Kept:     func(a *account, e record.Event) { a.line("   kept   %s", oneLine(e.Text)) },
	record.Note:     (*account).note,
	record.Link:     (*account).link,
}

func (a *account) event(e record.Event) {
	a.fold.before(a, e)
	if tell, ok := telling[e.Kind]; ok {
		tell(a, e)
	}
}

// step tells that a step begins or ends. One that was not begun is told at the end.
func (a *account) step(e record.Event) {
	if b, ok := e.Live.(perform.StepBegins); ok {
		a.begun, a.tries, a.running = true, b.Tries, nil
		a.line("")
		a.line("%s", a.err.bold(fmt.Sprintf("%d  %s", b.Number, safe(e.Step))))
		return
	}
	if !a.begun {
		return
	}
	a.begun = false
	a.line("   %s in %s", a.err.verdict(e.Verdict, 0), took(fromMS(e.TookMS)))
	if e.Err != nil && e.Err != a.explained {
		a.explain(e.Err, a.stations)
	}
}

// note tells what was found, or taken up from an earlier run.
func (a *account) note(e record.Event) {
	what := "found"
	if _, taken := e.Live.(perform.Earlier); taken {
		what = "taken"
	}
	a.line("   %s  %s", what, oneLine(e.Text))
}

func (a *account) try(e record.Event) {
	if further, ok := e.Value.(record.Further); ok && further.ByHand {
		a.line("   a further try, by hand")
		return
	}
	a.line("   try %d of %d failed: %s", e.Try, a.tries, safe(e.Why))
}

func (a *account) said(e record.Event) {
	text := a.words(e)
	if text == "" {
		text = a.err.faint("(the line ending alone)")
	}
	a.line("   %ssaid   %s", a.at(e), text)
}

// heard tells what was heard; of a packet, what it holds, too.
func (a *account) heard(e record.Event) {
	a.line("   %sheard  %s", a.at(e), a.words(e))
	if p, ok := e.Live.(perform.PacketSeen); ok {
		a.line("   %s       %s: %s", a.at(e), p.Name, a.err.faint(shownValues(p.Fields)))
	}
}

// shownValues are values by name, on one line.
func shownValues(values []perform.Value) string {
	var vs []string
	for _, v := range values {
		vs = append(vs, v.Name+" = "+clip(procedure.Text(v.Value))+v.InHex())
	}
	return oneLine(strings.Join(vs, ", "))
}

// ended tells what has ended an answer, and how long after the words.
func (a *account) ended(e record.Event) {
	after, _ := e.Live.(time.Duration)
	a.line("   %s%s", a.at(e), a.err.faint(fmt.Sprintf("ended  %s, after %s", oneLine(e.Text), took(after))))
}

func (a *account) check(e record.Event) {
	values, _ := e.Value.([]perform.Value)
	a.line("   check  %s  %s", oneLine(e.Text), a.err.faint(shownValues(values)))
}

func (a *account) told(e record.Event) {
	if answer, ok := e.Value.(perform.Answer); !ok {
		a.line("%s", oneLine(e.Text)) // what no operator was there to be told
	} else if answer.Answer != "" {
		a.line("   answer %s", oneLine(answer.Answer))
	}
}

func (a *account) link(e record.Event) {
	sum, ok := e.Value.(link.Summary)
	if !ok {
		return
	}
	for _, d := range sum.Directions {
		a.line("   found  %s", oneLine(fmt.Sprintf("%s to %s: %d sent, %d received, %d lost", d.From, d.To, d.Sent, d.Received, d.Lost)))
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
func (a *account) waiting(e record.Event) {
	w, ok := e.Live.(perform.Wait)
	if !ok {
		return
	}
	text := "waiting for " + oneLine(e.Text)
	if e.Port != "" {
		text += " at " + e.Port
	}
	seconds := w.Took.Round(time.Second)
	if text += ": " + took(seconds); w.Within > 0 {
		text += " of at most " + w.Within.String()
	}
	if e.Port != "" && w.Silence >= 0 {
		text += ", last byte " + took(w.Silence.Round(time.Second)) + " ago"
	} else if e.Port != "" {
		text += ", no byte yet"
	}
	if w.Ended != "" {
		text += ", " + w.Ended
	}
	a.err.draw("   %s", text)
	if n := int(seconds / time.Second); !a.err.terminal && (n == 10 || n > 0 && n%30 == 0) {
		a.line("   %s", text)
	}
}

// explain says all that is known of a failure.
func (a *app) explain(err error, stations map[string]*bench.Station) {
	f, _ := errors.AsType[*perform.Failure](err)
	if f != nil {
		a.fact(fmt.Sprintf("line %d", f.Line), strings.TrimSpace(f.Text))
		for _, from := range f.From {
			a.fact("in", from)
		}
	}
	ending := phrasebook.CRLF
	plain := true
	if r, ok := errors.AsType[*dialog.Refused](err); ok && f != nil {
		plain = false
		a.fact("said", r.Said)
		a.fact("heard", r.Heard)
		if r.Restarted {
			a.fact("means", "the module restarted, and nothing had told it to")
		}
		if f.Meaning != "" {
			a.fact("means", f.Meaning)
		}
	}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		plain = false
		a.missed(m)
		for _, s := range stations {
			if s.Address.String() == m.Port {
				ending = max(s.Setup.Ending, phrasebook.CRLF)
			}
		}
	}
	if r, ok := errors.AsType[*perform.RowsFailed](err); ok {
		plain = false
		for _, bad := range r.Bad {
			a.fact("row", bad.Row)
			a.fact("", bad.Err.Error())
		}
	}
	if u, ok := errors.AsType[*dialog.Unwanted](err); ok {
		plain = false
		a.fact("heard", u.Heard)
		a.fact("unwanted", u.Pattern)
		if u.After > 0 {
			a.fact("after", took(u.After))
		}
	}
	if f != nil && f.Counted != "" {
		a.fact("counted", f.Counted+", which point to the speed, the frame or the wires")
	}
	var inner interface{ Unwrap() error }
	if plain && errors.As(err, &inner) {
		a.fact("why", inner.Unwrap().Error())
	}
	if advice := perform.Advice(err, ending); advice != "" {
		a.fact("try", advice)
	}
}

// fact is one row of what is known of a failure.
func (a *app) fact(head, text string) { a.err.line("     %-9s %s", head, oneLine(text)) }

// missed says what came in place of what was wanted.
func (a *app) missed(m *dialog.Missed) {
	if m.Said != "" {
		a.fact("said", m.Said)
	}
	for i, h := range m.Heard {
		a.fact("heard", h)
		if i == m.Near {
			a.err.line("     %-9s %s^ parts here", "", strings.Repeat(" ", len([]rune(oneLine(h[:min(m.NearAt, len(h))])))))
		}
	}
	for _, packet := range m.Packets {
		a.fact("heard", text.Hexed([]byte(packet), mostHexed))
	}
	switch {
	case len(m.Packets) > 0:
	case m.Hidden != "":
		a.fact("came", m.Hidden)
	case strings.TrimSpace(m.Rest) != "":
		a.fact("heard", m.Rest+"  (no line end)")
	}
	switch {
	case m.Echo:
		a.fact("heard", "only the echo of what was said")
	case m.Silent && (len(m.Heard) > 0 || m.Rest != ""):
		a.fact("heard", "nothing since then")
	case m.Silent:
		a.fact("heard", "nothing")
	}
	a.fact("wanted", m.Wanted)
	switch {
	case m.Ended != "":
		a.fact("ended", m.Ended+": nothing more belongs to that answer")
	case m.Within > 0 && !m.Next:
		a.fact("waited", m.Within.String())
	}
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
			rows = append(rows, []string{safe(l.What), shownMeasured(l), l.Wanted(), s.verdict(l.Verdict, 0)})
		}
		table(a.out, rows)
	}
	left := 0
	for _, st := range res.Steps {
		if st.Left {
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
