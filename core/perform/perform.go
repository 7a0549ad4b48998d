// Package perform performs a procedure on open ports and hands out what happens
// as events and, at the end, as a result.
package perform

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/verdict"
)

// Run is one performance of a procedure.
type Run struct {
	Procedure *procedure.File
	Stations  map[string]*station.Station // by the procedure's names of its ports
	Values    map[string]any              // inputs and secrets
	Record    *record.Writer              // nil keeps none
	Observe   func(Event)                 // told of everything as it happens; may be nil
}

// Event is something that happened while a procedure was performed.
type Event struct {
	Kind    EventKind
	Step    *procedure.Step
	Number  int // of the step, from 1
	Try     int // from 1
	Port    string
	Text    string          // Said, Heard: the words; Checked: the expression
	Values  []Value         // Checked: what the expression read
	Limit   *LimitResult    // Judged
	Verdict verdict.Verdict // StepEnded, TryEnded
	Err     error           // StepEnded, TryEnded: why it did not pass
	Took    time.Duration
}

// EventKind says what happened.
type EventKind int

// What can happen.
const (
	StepBegan EventKind = iota
	TryEnded            // a try failed and another follows
	StepEnded
	Said
	Heard
	Checked
	Judged // a value was held against limits
)

// Value is a name and what it stands for.
type Value struct {
	Name  string `json:"name"`
	Value any    `json:"value"`
}

// LimitResult is one measurement.
type LimitResult struct {
	What    string          `json:"what"`
	Value   float64         `json:"value"`
	Low     *float64        `json:"low,omitempty"`
	High    *float64        `json:"high,omitempty"`
	Unit    string          `json:"unit,omitempty"`
	Step    string          `json:"step"`
	Verdict verdict.Verdict `json:"verdict"`
}

// StepResult is what came of one step.
type StepResult struct {
	Title   string          `json:"title"`
	Verdict verdict.Verdict `json:"verdict"`
	Tries   int             `json:"tries"`
	TookMS  float64         `json:"took_ms"`
	Why     string          `json:"why,omitempty"`
	Err     error           `json:"-"`
}

// Result is what came of a performance.
type Result struct {
	Procedure string          `json:"procedure"`
	Verdict   verdict.Verdict `json:"verdict"`
	Steps     []StepResult    `json:"steps"`
	Limits    []LimitResult   `json:"limits"`
	TookMS    float64         `json:"took_ms"`
	Err       error           `json:"-"` // why it could not run, if Broken
}

// afterStop is how long the steps marked always may take together once the
// performance has been stopped from outside.
const afterStop = 600 * time.Millisecond

// Do opens the ports, performs the procedure and closes them again. The error
// in the result says why a performance is Broken; ctx being done makes it so.
func (r *Run) Do(ctx context.Context) Result {
	began := time.Now()
	res := Result{Procedure: r.Procedure.Title, Steps: []StepResult{}, Limits: []LimitResult{}}
	p := &performer{run: r, res: &res, values: map[string]any{}, dialogs: map[string]*dialog.Dialog{}, said: map[string]int{}}
	for k, v := range r.Values {
		p.values[k] = v
	}
	r.note(record.Event{Kind: record.Begin, Text: r.Procedure.Title, Data: jsonOf(map[string]any{"file": r.Procedure.Path, "inputs": p.shown()})})
	if err := p.open(); err != nil {
		res.Verdict, res.Err = verdict.Broken, err
	} else {
		p.steps(ctx)
	}
	if err := p.close(); err != nil && res.Err == nil {
		res.Verdict, res.Err = verdict.Broken, err
	}
	for i := len(res.Steps); i < len(r.Procedure.Steps); i++ {
		res.Steps = append(res.Steps, StepResult{Title: r.Procedure.Steps[i].Title, Verdict: verdict.Untested})
	}
	res.TookMS = ms(time.Since(began))
	why := ""
	if res.Err != nil {
		why = res.Err.Error()
	}
	r.note(record.Event{Kind: record.Verdict, Verdict: string(res.Verdict), Why: why, TookMS: res.TookMS})
	return res
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// jsonOf is for values that are made here and always encode.
func jsonOf(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return b
}

func (r *Run) note(e record.Event) {
	if e.Time.IsZero() {
		e.Time = time.Now()
	}
	r.Record.Event(e)
}

type performer struct {
	run     *Run
	res     *Result
	values  map[string]any
	dialogs map[string]*dialog.Dialog
	step    *procedure.Step
	number  int
	try     int
	said    map[string]int // the line of the latest say, by port
}

func (p *performer) event(e Event) {
	if p.run.Observe != nil {
		e.Step, e.Number, e.Try = p.step, p.number, p.try
		p.run.Observe(e)
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
		d, err := s.Open(p.run.Record, nil)
		if err != nil {
			return err
		}
		p.dialogs[decl.Name] = d
	}
	return nil
}

func (p *performer) close() error {
	var first error
	for _, decl := range p.run.Procedure.Ports {
		if d := p.dialogs[decl.Name]; d != nil {
			if err := p.run.Stations[decl.Name].Close(p.run.Record, d); err != nil && first == nil {
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
	stopped := false // by failure or from outside: only steps marked always run
	var grace context.Context
	for i, s := range p.run.Procedure.Steps {
		p.step, p.number = s, i+1
		if stopped && !s.Always {
			p.res.Steps = append(p.res.Steps, StepResult{Title: s.Title, Verdict: verdict.Untested})
			continue
		}
		use := ctx
		if ctx.Err() != nil {
			if grace == nil {
				var cancel context.CancelFunc
				grace, cancel = context.WithTimeout(context.WithoutCancel(ctx), afterStop)
				defer cancel()
			}
			use = grace
		}
		sr := p.doStep(use)
		p.res.Steps = append(p.res.Steps, sr)
		p.res.Verdict = verdict.Worse(p.res.Verdict, sr.Verdict)
		if sr.Verdict == verdict.Broken && p.res.Err == nil {
			p.res.Err = sr.Err
		}
		stopped = stopped || sr.Verdict == verdict.Broken || sr.Verdict == verdict.Failed && !p.run.Procedure.KeepGoing
	}
	if err := context.Cause(ctx); err != nil && ctx.Err() != nil {
		p.res.Verdict, p.res.Err = verdict.Broken, err
	}
}

func (p *performer) lets() error {
	for _, l := range p.run.Procedure.Lets {
		v, err := l.Expr.Run(p.values)
		if err != nil {
			return fmt.Errorf("%s:%d: let %s: %w", p.run.Procedure.Path, l.Line, l.Name, err)
		}
		p.values[l.Name] = v
	}
	return nil
}

func (p *performer) doStep(ctx context.Context) StepResult {
	s := p.step
	began := time.Now()
	p.try = 1
	p.event(Event{Kind: StepBegan})
	p.run.note(record.Event{Kind: record.Step, Step: s.Title})
	if s.Within > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, s.Within, &stepTimeout{s.Within})
		defer cancel()
	}
	var err error
	for ; ; p.try++ {
		tryBegan := time.Now()
		limits := len(p.res.Limits)
		if err = p.body(ctx); err == nil || p.try == s.Tries || isBroken(err) || ctx.Err() != nil {
			break
		}
		p.res.Limits = p.res.Limits[:limits] // they are measured again
		p.event(Event{Kind: TryEnded, Verdict: verdict.Failed, Err: err, Took: time.Since(tryBegan)})
		p.run.note(record.Event{Kind: record.Step, Step: s.Title, Try: p.try, Verdict: string(verdict.Failed), Why: err.Error(), TookMS: ms(time.Since(tryBegan))})
		if stop := sleep(ctx, time.Until(tryBegan.Add(s.Every))); stop != nil {
			err = stop
			break
		}
		p.tidyUp(ctx)
	}
	if err != nil {
		p.tidyUp(ctx)
	}
	sr := StepResult{Title: s.Title, Verdict: verdict.Passed, Tries: p.try, TookMS: ms(time.Since(began)), Err: err}
	if err != nil {
		sr.Verdict, sr.Why = verdict.Failed, err.Error()
		if isBroken(err) {
			sr.Verdict = verdict.Broken
		}
	}
	p.event(Event{Kind: StepEnded, Verdict: sr.Verdict, Err: err, Took: time.Since(began)})
	p.run.note(record.Event{Kind: record.Step, Step: s.Title, Try: p.try, Verdict: string(sr.Verdict), Why: sr.Why, TookMS: sr.TookMS})
	return sr
}

// tidyUp clears away what a failed try has left: it lets an open exchange end,
// so that its late answer is not taken for the answer to the next command, and
// passes over what nobody has taken.
func (p *performer) tidyUp(ctx context.Context) {
	for _, d := range p.dialogs {
		_ = d.Settle(ctx, p.run.Procedure.Answers) // the failure itself has been told
		d.PassAll()
	}
}

// isBroken tells what kept a step from running at all from what it found.
func isBroken(err error) bool {
	var pe *port.Error
	return errors.As(err, &pe) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
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
	for _, n := range p.step.Body {
		if err := p.statement(ctx, n); err != nil {
			return p.locate(n.At().Line, err)
		}
	}
	for _, decl := range p.run.Procedure.Ports {
		if err := p.dialogs[decl.Name].Settle(ctx, p.run.Procedure.Answers); err != nil {
			return p.locate(p.said[decl.Name], err)
		}
	}
	return nil
}

// locate says at which line of the procedure an error arose.
func (p *performer) locate(line int, err error) error {
	if f, ok := errors.AsType[*Failure](err); ok {
		return f // told already, nearer to where it arose
	}
	p.scrub(err)
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		for name, d := range p.dialogs { // what was refused is what was said
			if d.Port().Name() == r.Port && p.said[name] > 0 {
				line = p.said[name]
			}
		}
	}
	f := &Failure{File: p.run.Procedure.Path, Line: line, Text: p.run.Procedure.Lines.At(line), Err: err}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		for _, d := range p.dialogs {
			if c, err := d.Port().Counters(); err == nil && c.Any() && d.Port().Name() == m.Port {
				f.Counted = c.String()
			}
		}
	}
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		for name, d := range p.dialogs {
			if d.Port().Name() == r.Port {
				f.Meaning = p.run.Stations[name].Phrasebook.Explain(r.Heard)
			}
		}
	}
	return f
}

func (p *performer) statement(ctx context.Context, n procedure.Node) error {
	switch n := n.(type) {
	case *procedure.Say:
		return p.say(ctx, n)
	case *procedure.Hear:
		return p.hear(ctx, n)
	case *procedure.Check:
		return p.check(n)
	case *procedure.Limit:
		return p.limit(n)
	case *procedure.Let:
		v, err := n.Expr.Run(p.values)
		if err == nil {
			p.values[n.Name] = v
		}
		return err
	case *procedure.Pause:
		return sleep(ctx, n.For)
	case *procedure.Quiet:
		within := n.Within
		if within == 0 {
			within = quietWithin
		}
		return p.dialogs[n.Port].Quiet(ctx, n.Still, within)
	}
	panic(fmt.Sprintf("perform: no case for %T", n))
}

// quietWithin bounds a quiet that says no time of its own.
const quietWithin = 10 * time.Second

// evaluator gives the values of a text's expressions.
func (p *performer) evaluator(exprs map[string]*procedure.Expr) func(string) (string, error) {
	return func(source string) (string, error) {
		v, err := exprs[source].Run(p.values)
		return procedure.Text(v), err
	}
}

func (p *performer) say(ctx context.Context, n *procedure.Say) error {
	text, err := n.Text.Fill(p.evaluator(n.Exprs))
	if err != nil {
		return err
	}
	d := p.dialogs[n.Port]
	if n.Bytes {
		p.event(Event{Kind: Said, Port: n.Port, Text: p.hide(text)})
		_, err = d.SayBytes(ctx, []byte(text))
		return err
	}
	if err := d.Settle(ctx, p.run.Procedure.Answers); err != nil {
		return p.locate(p.said[n.Port], err) // it is about the line said before
	}
	p.said[n.Port] = n.Line
	p.event(Event{Kind: Said, Port: n.Port, Text: p.hide(text)})
	_, err = d.Say(ctx, text, p.run.Procedure.Answers)
	return err
}

func (p *performer) hear(ctx context.Context, n *procedure.Hear) error {
	bound, err := n.Pattern.Bind(p.evaluator(n.Exprs))
	if err != nil {
		return err
	}
	w := dialog.Wait{Form: n.Form, Pattern: bound, Within: n.Within}
	if w.Within == 0 {
		w.Within = p.run.Procedure.Answers
	}
	d := p.dialogs[n.Port]
	if n.Not {
		return d.Absent(ctx, w)
	}
	h, err := d.Hear(ctx, w)
	if err != nil {
		return err
	}
	p.capture(h.Captures)
	p.event(Event{Kind: Heard, Port: n.Port, Text: p.hide(h.Text)})
	return nil
}

func (p *performer) capture(caps []pattern.Capture) {
	for _, c := range caps {
		p.values[c.Name] = c.Value
	}
}

func (p *performer) valuesOf(e *procedure.Expr) []Value {
	var vs []Value
	for _, n := range e.Names {
		if p.isSecret(n) {
			vs = append(vs, Value{n, record.Hidden})
			continue
		}
		v := p.values[n]
		if s, ok := v.(string); ok {
			v = p.hide(s)
		}
		vs = append(vs, Value{n, v})
	}
	return vs
}

func (p *performer) check(n *procedure.Check) error {
	v, err := n.Expr.Run(p.values)
	if err != nil {
		return err
	}
	values := p.valuesOf(n.Expr)
	ok, _ := v.(bool) // the compiler has seen to it
	outcome := verdict.Passed
	if !ok {
		outcome = verdict.Failed
	}
	p.run.note(record.Event{Kind: record.Check, Step: p.step.Title, Text: n.Expr.Source, Verdict: string(outcome), Why: n.Why, Data: jsonOf(values)})
	p.event(Event{Kind: Checked, Text: n.Expr.Source, Values: values, Verdict: outcome})
	if !ok {
		return &CheckFailed{Expr: n.Expr.Source, Why: n.Why, Values: values}
	}
	return nil
}

func (p *performer) limit(n *procedure.Limit) error {
	number := func(e *procedure.Expr) (*float64, error) {
		if e == nil {
			return nil, nil
		}
		v, err := e.Run(p.values)
		if err != nil {
			return nil, err
		}
		switch v := v.(type) {
		case int:
			f := float64(v)
			return &f, nil
		case float64:
			return &v, nil
		}
		return nil, fmt.Errorf("%s is %v, which is no number", e.Source, v)
	}
	value, err := number(n.Expr)
	if err != nil {
		return err
	}
	low, err := number(n.Low)
	if err != nil {
		return err
	}
	high, err := number(n.High)
	if err != nil {
		return err
	}
	r := LimitResult{What: n.What, Value: *value, Low: low, High: high, Unit: n.Unit, Step: p.step.Title, Verdict: verdict.Passed}
	if low != nil && *value < *low || high != nil && *value > *high {
		r.Verdict = verdict.Failed
	}
	p.res.Limits = append(p.res.Limits, r)
	p.run.note(record.Event{Kind: record.Limit, Step: p.step.Title, Text: n.What, Verdict: string(r.Verdict), Data: jsonOf(r)})
	p.event(Event{Kind: Judged, Limit: &r, Verdict: r.Verdict})
	if r.Verdict == verdict.Failed {
		return &LimitFailed{r}
	}
	return nil
}
