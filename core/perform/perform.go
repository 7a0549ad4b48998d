// Package perform performs a procedure on open ports and hands out what happens
// as events and, at the end, as a result.
package perform

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/secret"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Run is one performance of a procedure. It tells its stream of everything as it
// happens: the events of a record, and for those who watch what is said, heard and
// waited for.
type Run struct {
	Procedure *procedure.File
	Stations  map[string]*bench.Station // by the procedure's names of its ports
	Values    map[string]any            // inputs and secrets
	Events    *record.Stream            // nil tells nobody

	// Chosen are the steps to perform, by title; nil means all. Steps marked
	// needed or always are performed in any case.
	Chosen map[string]bool
	// Operator is asked where a step needs hands or eyes; without one such a
	// step is untested.
	Operator Operator
	// Keep keeps a file beside the record and returns where; without it keep
	// fails.
	Keep func(name string, data []byte) (path string, err error)
	// Sleep paces link tests; nil means pace.Precise.
	Sleep pace.Sleep
}

// StepBegins is what those who watch are told of a step that begins.
type StepBegins struct {
	Number int // from 1
	Tries  int // at most
}

// Wait is what those who watch are told of a wait, once a second.
type Wait struct {
	Took    time.Duration // so far
	Within  time.Duration // at most; 0 if that is not known
	Silence time.Duration // since the last byte at the port; below 0 if none has come
	Ended   string        // what has ended the answer to the line last said; "" if it goes on
}

// Answer is an operator's answer: the value of a Told event.
type Answer struct {
	Answer string `json:"answer,omitempty"`
}

// Value is a name and what it stands for.
type Value struct {
	Name  string `json:"name"`
	Value any    `json:"value"`
}

// StepResult is what came of one step.
type StepResult struct {
	Title   string          `json:"title"`
	Verdict verdict.Verdict `json:"verdict"`
	Tries   int             `json:"tries"`
	TookMS  float64         `json:"took_ms"`
	Why     string          `json:"why,omitempty"`
	Left    bool            `json:"-"` // it was not among the steps chosen
	Err     error           `json:"-"`
}

// Result is what came of a performance.
type Result struct {
	Procedure string               `json:"procedure"`
	Verdict   verdict.Verdict      `json:"verdict"`
	Steps     []StepResult         `json:"steps"`
	Limits    []record.Measurement `json:"limits"`
	TookMS    float64              `json:"took_ms"`
	Err       error                `json:"-"` // why it could not run, if Broken

	Run    string `json:"run,omitempty"`    // its name, for whoever keeps its evidence
	Record string `json:"record,omitempty"` // where that lies
}

// Do opens the ports, performs the procedure and closes them again. The error
// in the result says why a performance is Broken; ctx being done makes it so.
func (r *Run) Do(ctx context.Context) (res Result) {
	began := time.Now()
	res = Result{Procedure: r.Procedure.Title, Steps: []StepResult{}, Limits: []record.Measurement{}}
	p := &performer{run: r, res: &res, values: map[string]any{}, dialogs: map[string]*dialog.Dialog{}, said: map[string]procedure.Pos{}, saidIn: map[string]*procedure.Step{}, before: map[string]uart.Line{}, signals: map[string][]uart.Signal{}}
	for k, v := range r.Values {
		p.values[k] = v
	}
	for _, s := range r.Procedure.Secrets {
		text, _ := p.values[s.Name].(string)
		p.mask.Add(text)
	}
	defer func() {
		// A fault of the program itself must not print values on its way out.
		if fault := recover(); fault != nil {
			r.Events = record.Only(r.Events) // whoever watches may be at fault
			_ = p.close()                    // the fault is what matters
			res.Verdict = verdict.Broken
			res.Err = fmt.Errorf("the program itself failed; please report this: %s\n%s", p.mask.Hide(fmt.Sprint(fault)), p.mask.Hide(string(debug.Stack())))
		}
	}()
	p.emit(record.Event{Kind: record.Begin, Text: r.Procedure.Title, Value: map[string]any{"file": r.Procedure.Path, "inputs": p.shown()}})
	if err := p.open(); err != nil {
		res.Verdict, res.Err = verdict.Broken, err
	} else {
		p.steps(ctx)
	}
	if err := p.close(); err != nil && res.Err == nil {
		res.Verdict, res.Err = verdict.Broken, err
	}
	for _, s := range r.Procedure.Steps[len(res.Steps):] {
		p.passOver(s, verdict.Untested, "")
	}
	res.TookMS = ms(time.Since(began))
	why := ""
	if res.Err != nil {
		why = res.Err.Error()
	}
	p.emit(record.Event{Kind: record.Verdict, Verdict: res.Verdict, Why: why, TookMS: res.TookMS})
	return res
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

type performer struct {
	run      *Run
	res      *Result
	values   map[string]any
	dialogs  map[string]*dialog.Dialog
	step     *procedure.Step
	number   int
	try      int
	said     map[string]procedure.Pos   // the latest say, by port
	saidIn   map[string]*procedure.Step // ... and its step
	asked    string                     // the port last said to, while nothing else has happened that could be answered
	question string                     // the port at which bytes were heard last in this step, which may ask something
	last     *procedure.Step            // the one after which nothing may be owed
	mask     secret.Mask
	calls    []*call                  // routines being done, the innermost last
	before   map[string]uart.Line     // line settings that were changed, by port
	signals  map[string][]uart.Signal // that were set, by port
}

// emit tells of an event, with secrets hidden from those who watch; the record hides
// them by itself.
func (p *performer) emit(e record.Event) {
	if p.step != nil && p.try > 0 && e.Kind != record.Verdict {
		if e.Step == "" && inStep[e.Kind] {
			e.Step = p.step.Title
		}
	}
	e.Text, e.Why = p.mask.Hide(e.Text), p.mask.Hide(e.Why)
	p.run.Events.Emit(e)
}

// inStep are the kinds of event that tell in which step they happened.
var inStep = map[record.Kind]bool{record.Check: true, record.Limit: true, record.Kept: true, record.Told: true, record.Note: true}

// waiting tells once a second that something is waited for, until the returned
// function is called.
func (p *performer) waiting(port, what string, within time.Duration) (over func()) {
	if !p.run.Events.Watched() {
		return func() {}
	}
	began, d := time.Now(), p.dialogs[port]
	what = p.mask.Hide(what)
	var mu sync.Mutex
	ended := false
	var timer *time.Timer
	mu.Lock()
	defer mu.Unlock()
	timer = time.AfterFunc(time.Second, func() {
		mu.Lock()
		defer mu.Unlock()
		if ended {
			return
		}
		w := Wait{Took: time.Since(began), Within: within, Silence: -1}
		if d != nil {
			if last := d.LastCame(); !last.IsZero() {
				w.Silence = time.Since(last)
			}
			w.Ended = d.Ended()
		}
		p.run.Events.Emit(record.Event{Kind: record.Waiting, Port: port, Text: what, Live: w})
		timer.Reset(time.Second)
	})
	return func() {
		mu.Lock()
		defer mu.Unlock()
		ended = true
		timer.Stop()
	}
}

// shown are the values that may be seen: inputs, not secrets.
func (p *performer) shown() map[string]any {
	m := map[string]any{}
	for _, in := range p.run.Procedure.Inputs {
		m[in.Name] = p.values[in.Name]
	}
	return m
}

func (p *performer) open() error {
	for _, decl := range p.run.Procedure.Ports {
		s := p.run.Stations[decl.Name]
		if s == nil {
			return fmt.Errorf("the procedure's port %s has no address", decl.Name)
		}
		if s.Address == (port.Address{}) && s.Dial == nil {
			continue // it is opened when it is first spoken at
		}
		d, err := s.Open(p.run.Events, nil)
		if err != nil {
			return err
		}
		p.dialogs[decl.Name] = d
	}
	return nil
}

// openFor opens the ports of a statement that are known only now.
func (p *performer) openFor(n procedure.Node) error {
	for _, name := range procedure.PortsOf(n) {
		if name = p.port(name); p.dialogs[name] != nil {
			continue
		}
		for _, decl := range p.run.Procedure.Ports {
			if decl.Name != name {
				continue
			}
			if !decl.AtKnown(p.values) {
				return fmt.Errorf("the port %s is at %q, of which a step before must give the values", name, decl.At.Said)
			}
			text, err := p.fill(decl.At)
			if err != nil {
				return err
			}
			st := p.run.Stations[name]
			if st.Address, err = port.ParseAddress(decl.Address(text)); err != nil {
				return err
			}
			if p.dialogs[name], err = st.Open(p.run.Events, nil); err != nil {
				delete(p.dialogs, name)
				return err
			}
		}
	}
	return nil
}

func (p *performer) close() error {
	var first error
	for _, decl := range p.run.Procedure.Ports {
		if d := p.dialogs[decl.Name]; d != nil {
			err := p.putBack(decl.Name, d)
			err = errors.Join(err, p.run.Stations[decl.Name].Close(p.run.Events, d))
			if first == nil {
				first = err
			}
		}
	}
	return first
}

func (p *performer) steps(ctx context.Context) {
	if err := p.lets(); err != nil {
		p.res.Verdict, p.res.Err = verdict.Broken, err
		return
	}
	for _, s := range p.run.Procedure.Steps {
		if p.chosen(s) {
			p.last = s
		}
	}
	stopped := false // by failure or from outside: only steps marked always run
	var grace context.Context
	for i, s := range p.run.Procedure.Steps {
		p.step, p.number = s, i+1
		if !p.chosen(s) {
			p.passOver(s, verdict.Skipped, leftOut)
			continue
		}
		if stopped && !s.Always {
			p.passOver(s, verdict.Untested, "")
			continue
		}
		use := ctx
		if ctx.Err() != nil {
			if grace == nil { // they have their own limits: a module must not be left half put back
				grace = context.WithoutCancel(ctx)
				p.emit(record.Event{Kind: record.Told, Text: "Interrupted. The steps marked always are performed now; another Ctrl-C ends the program at once."})
			}
			use = grace
		}
		if text := needsPerson(s.Body); text != "" && p.run.Operator == nil {
			p.untested(s, "it needs a person: "+text)
			continue
		}
		sr := p.doStep(use)
		p.res.Steps = append(p.res.Steps, sr)
		if sr.Verdict != verdict.Skipped {
			p.res.Verdict = verdict.Worse(p.res.Verdict, sr.Verdict)
		}
		if sr.Verdict == verdict.Broken && p.res.Err == nil {
			p.res.Err = sr.Err
		}
		stopped = stopped || ctx.Err() != nil || sr.Verdict == verdict.Broken || sr.Verdict == verdict.Failed && !p.run.Procedure.KeepGoing
	}
	if p.res.Verdict == "" {
		p.res.Verdict = verdict.Skipped
	}
	if err := context.Cause(ctx); err != nil && ctx.Err() != nil {
		p.res.Verdict, p.res.Err = verdict.Broken, err
	}
}

// chosen reports whether a step is among those to perform.
func (p *performer) chosen(s *procedure.Step) bool {
	return p.run.Chosen == nil || p.run.Chosen[s.Title] || s.Needed || s.Always
}

// leftOut is why a step was skipped that was not among those chosen.
const leftOut = "left out"

// passOver files a step that is not performed.
func (p *performer) passOver(s *procedure.Step, v verdict.Verdict, why string) {
	p.res.Steps = append(p.res.Steps, StepResult{Title: s.Title, Verdict: v, Why: why, Left: why == leftOut})
	e := record.Event{Kind: record.Step, Step: s.Title, Verdict: v, Why: why}
	if why == leftOut {
		e.Value = passedOver{true}
	}
	p.emit(e)
}

// passedOver is the value of a Step event of a step that was not performed.
type passedOver struct {
	LeftOut bool `json:"left_out"` // it was not among the steps chosen
}

// WasLeftOut reports whether a Step event of a record tells of a step that was not
// among those chosen. Records of before told it in words alone.
func WasLeftOut(e record.Event) bool {
	if e.Data == nil {
		return e.Verdict == verdict.Skipped && e.Why == leftOut
	}
	over, err := record.Decode[passedOver](e)
	return err == nil && over.LeftOut
}

// untested files a step that cannot be performed as it is, before anything of it
// has been.
func (p *performer) untested(s *procedure.Step, why string) {
	err := &Left{verdict.Untested, why}
	p.res.Verdict = verdict.Worse(p.res.Verdict, verdict.Untested)
	p.begins()
	p.res.Steps = append(p.res.Steps, StepResult{Title: s.Title, Verdict: verdict.Untested, Why: why, Err: err})
	p.emit(record.Event{Kind: record.Step, Step: s.Title, Verdict: verdict.Untested, Why: why, Err: err})
}

// begins tells that the step begins.
func (p *performer) begins() {
	p.emit(record.Event{Kind: record.Step, Step: p.step.Title, Live: StepBegins{p.number, p.step.Tries}})
}

// needsPerson is the first thing that statements want of an operator, "" if
// there is none.
func needsPerson(list []procedure.Node) string {
	for _, n := range list {
		switch n := n.(type) {
		case *procedure.Tell:
			return n.Text.Said.String()
		case *procedure.Ask:
			return n.Text.Said.String()
		}
		for _, b := range procedure.Bodies(n) {
			if text := needsPerson(b.Body); text != "" {
				return text
			}
		}
	}
	return ""
}

func (p *performer) lets() error {
	for _, l := range p.run.Procedure.Lets {
		v, err := l.Expr.Run(p.values)
		if err != nil {
			return fmt.Errorf("%s:%d: let %s: %w", l.File, l.Line, l.Name, err)
		}
		p.values[l.Name] = v
	}
	return nil
}

func (p *performer) doStep(ctx context.Context) StepResult {
	s, outside := p.step, ctx
	began := time.Now()
	p.try = 1
	p.begins()
	if s.Within > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, s.Within, &stepTimeout{s.Within})
		defer cancel()
	}
	var err error
	for ; ; p.try++ {
		tryBegan := time.Now()
		limits := len(p.res.Limits)
		if err = p.body(ctx); err == nil || p.try == s.Tries || isBroken(err) || isLeft(err) || ctx.Err() != nil {
			break
		}
		p.res.Limits = p.res.Limits[:limits] // they are measured again
		p.emit(record.Event{Kind: record.Try, Step: s.Title, Try: p.try, Verdict: verdict.Failed, Why: err.Error(), TookMS: ms(time.Since(tryBegan)), Err: err})
		if stop := sleep(ctx, time.Until(tryBegan.Add(s.Every))); stop != nil {
			err = stop
			break
		}
		p.tidyUp(ctx)
	}
	if err != nil && !isBroken(err) {
		p.tidyUp(ctx)
	}
	sr := StepResult{Title: s.Title, Verdict: verdict.Passed, Tries: p.try, TookMS: ms(time.Since(began)), Err: err}
	if err != nil {
		sr.Verdict, sr.Why = outcome(err), p.mask.Hide(err.Error())
		if outside.Err() != nil { // whatever it has found, it did not come to its end
			sr.Verdict = verdict.Broken
		}
	}
	p.emit(record.Event{Kind: record.Step, Step: s.Title, Try: p.try, Verdict: sr.Verdict, Why: sr.Why, TookMS: sr.TookMS, Err: err})
	return sr
}

// tidyUp clears away what a failed try has left: it lets an open exchange end,
// unless that has been waited for already, and passes over what nobody has taken.
// Where the end is still owed, the next line that is said waits for it.
func (p *performer) tidyUp(ctx context.Context) {
	for _, d := range p.dialogs {
		if !d.Late() && !d.OwesLater() {
			_ = d.Settle(ctx, p.run.Procedure.Answers) // the failure itself has been told
		}
		d.PassAll()
	}
}

// isBroken tells what kept a step from running at all from what it found.
func isBroken(err error) bool {
	pe, lost := errors.AsType[*port.Error](err)
	return lost && pe.Kind != port.Unconfirmed || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}

// isLeft tells whether a step was left by a statement of its own, so that
// another try would do the same.
func isLeft(err error) bool {
	_, left := errors.AsType[*Left](err)
	return left
}

// outcome is the verdict that an error stands for.
func outcome(err error) verdict.Verdict {
	if left, ok := errors.AsType[*Left](err); ok {
		return left.Verdict
	}
	if isBroken(err) {
		return verdict.Broken
	}
	return verdict.Failed
}

// sleep waits, at least for nothing, unless ctx is done first.
func sleep(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return context.Cause(ctx)
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// body performs the statements of the step once.
func (p *performer) body(ctx context.Context) error {
	p.calls, p.asked, p.question = nil, "", ""
	if err := p.statements(ctx, p.step.Body); err != nil {
		return err
	}
	for _, decl := range p.run.Procedure.Ports {
		if d := p.dialogs[decl.Name]; d == nil || d.OwesLater() && p.step != p.last {
			continue
		}
		if err := p.settle(ctx, decl.Name); err != nil {
			return p.locate(p.said[decl.Name], err)
		}
	}
	return nil
}

// settle waits for the open exchange at a port to end.
func (p *performer) settle(ctx context.Context, port string) error {
	defer p.waiting(port, "the end of the answer", p.run.Procedure.Answers)()
	return p.dialogs[port].Settle(ctx, p.run.Procedure.Answers)
}

// statements performs statements one after the other.
func (p *performer) statements(ctx context.Context, list []procedure.Node) error {
	for _, n := range list {
		if err := ctx.Err(); err != nil {
			return p.locate(n.At(), context.Cause(ctx))
		}
		if err := p.statement(ctx, n); err != nil {
			return p.locate(n.At(), err)
		}
	}
	return nil
}

// locate says at which line of the procedure an error arose.
func (p *performer) locate(at procedure.Pos, err error) error {
	if f, ok := errors.AsType[*Failure](err); ok {
		return f // told already, nearer to where it arose
	}
	err = p.scrub(err)
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		for name, d := range p.dialogs { // what was refused is what was said
			if d.Port().Name() == r.Port && p.said[name].Line > 0 {
				at = p.said[name]
			}
		}
	}
	f := &Failure{File: at.File, Line: at.Line, Text: p.run.Procedure.Text(at), Err: err}
	for _, c := range p.calls {
		f.From = append(f.From, fmt.Sprintf("%s, from line %d", c.routine, c.at.Line))
	}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		for _, d := range p.dialogs {
			if c, err := port.CountersOf(d.Port()); err == nil && c.Any() && d.Port().Name() == m.Port {
				f.Counted = c.String()
			}
		}
	}
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		for name, d := range p.dialogs {
			if d.Port().Name() == r.Port {
				if f.Meaning = p.run.Stations[name].Phrasebook.Explain(r.Heard); f.Meaning == "" && p.run.Stations[name].Setup.Dialect == phrasebook.AT {
					f.Meaning, _ = phrasebook.V250Number(r.Heard)
				}
			}
		}
	}
	return f
}
