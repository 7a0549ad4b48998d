// Package perform performs a procedure on open ports and hands out what happens
// as events and, at the end, as a result.
package perform

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/pace"
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
	// Unit is the unit that the run is said to be of; "" if nobody has said.
	Unit string
	// Passed tells of a run of a unit today that has passed, in words; "" if there is
	// none. Nil tells nothing.
	Passed func(ctx context.Context, unit string) (string, error)
	// Asks is that the operator is a person, who can be asked about that.
	Asks bool
	// Before is what steps left out have given in an earlier run, and how they have set ports, by the
	// step's title: that is taken up where the step would stand.
	Before map[string]Earlier
	// Operator is asked where a step needs hands or eyes; without one such a
	// step is untested.
	Operator Operator
	// OnFailure is asked about each step that has failed; nil asks nobody.
	OnFailure Retry
	// Uses waits until a step may use what it shares with others on the bench, and returns what
	// gives it back; nil lets all be used at once.
	Uses func(ctx context.Context, names []string) (release func(), err error)
	// Enough ends a watch when it is closed; nil never does.
	Enough <-chan struct{}
	// Identity is what modules were found to say that they are before the run, by the procedure's
	// names of their ports.
	Identity map[string]record.SettingValue
	// Drawn are the inputs and secrets that were drawn from pools. At the end it is told of each
	// whether it was used.
	Drawn []record.Drawn
	// Reach stands for the network in a rehearsal: it is told what is to be reached and within what
	// time, and tells how long that took. Nil is the network itself.
	Reach func(what string, within time.Duration) (time.Duration, error)
	// Halt is asked before each statement whether the run is to end, where no context can tell: in a rehearsal,
	// whose time is made up. Nil never ends it.
	Halt func() error
	// Afresh has each try of a step ask anew, whatever is owed: the same is asked again, so whichever answer
	// comes is right.
	Afresh bool
	// Part is one of several at once in one record, which tells itself what begins and what
	// came of all.
	Part bool
	// Measures has what passed count as measured where nothing was held against limits.
	Measures bool
	// Keep keeps a file beside the record and returns where; without it keep
	// fails.
	Keep func(name string, data []byte) (path string, err error)
	// Sleep paces link tests; nil means pace.Precise.
	Sleep pace.Sleep
}

// Earlier are values of one step of an earlier run. Those who watch are told it with the
// note of each.
type Earlier struct {
	Values map[string]any
	Lines  map[string]Line // how it left ports, by name
	Passed bool            // it has passed there
	From   string          // the record that tells them; "" if none does
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
	Hex   bool   `json:"hex,omitempty"` // it was bytes, or hexadecimal digits: people compare it so
}

// StepResult is what came of one step.
type StepResult struct {
	Title   string          `json:"title"`
	Verdict verdict.Verdict `json:"verdict"`
	Tries   int             `json:"tries"`
	ByHand  int             `json:"tries_by_hand,omitempty"` // of them, that a person asked for
	TookMS  float64         `json:"took_ms"`
	Why     string          `json:"why,omitempty"`
	Failure *Facts          `json:"failure,omitempty"` // the same as data
	Left    bool            `json:"-"`                 // it was not among the steps chosen
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

	Began  time.Time `json:"began"`
	Unit   string    `json:"unit,omitempty"`   // that it was done to
	Run    string    `json:"run,omitempty"`    // its name, for whoever keeps its evidence
	Record string    `json:"record,omitempty"` // where that lies
}

// Do opens the ports, performs the procedure and closes them again. The error
// in the result says why a performance is Broken; ctx being done makes it so.
func (r *Run) Do(ctx context.Context) (res Result) {
	began := time.Now()
	res = Result{Procedure: r.Procedure.Title, Began: began.UTC().Round(time.Millisecond), Steps: []StepResult{}, Limits: []record.Measurement{}}
	p := &performer{run: r, res: &res, values: map[string]any{}, secret: map[string]bool{}, hexed: map[string]bool{}, dialogs: map[string]*dialog.Dialog{}, said: map[string]procedure.Pos{}, saidIn: map[string]*procedure.Step{}, before: map[string]uart.Line{}, signals: map[string][]uart.Signal{}}
	for k, v := range r.Values {
		p.values[k] = v
	}
	p.tryBegan, p.gaveAt = began, map[string]time.Time{}
	for _, in := range r.Procedure.Inputs {
		p.comes(in.Name, "an input")
	}
	for _, s := range r.Procedure.Secrets {
		p.comes(s.Name, "a secret")
	}
	procedure.WithClock(p.values, p)
	used := procedure.WithUsed(p.values)
	for _, s := range r.Procedure.Secrets {
		text, _ := p.values[s.Name].(string)
		p.mask.Add(text)
		p.secret[s.Name] = true
	}
	defer func() {
		// A fault of the program itself must not print values on its way out.
		if fault := recover(); fault != nil {
			r.Events = record.Only(r.Events) // whoever watches may be at fault
			_ = p.close()                    // the fault is what matters
			res.Verdict = verdict.Broken
			res.Err = p.fault(fault)
		}
	}()
	if !r.Part {
		p.emit(record.Event{Kind: record.Begin, Text: r.Procedure.Title, Value: r.begun(p.shown())})
	}
	if err := p.open(ctx); err != nil {
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
	if !r.Part {
		p.tellSettings()
		p.emit(record.Event{Kind: record.Verdict, Verdict: res.Verdict, Why: why, TookMS: res.TookMS, Value: r.outcome(used)})
	}
	return res
}

// outcome is what is told with the verdict, nil for nothing more: which of the values drawn from
// pools were used. One that no expression has read cannot have been said.
func (r *Run) outcome(used *procedure.Used) any {
	if len(r.Drawn) == 0 {
		return nil
	}
	o := record.Outcome{}
	for _, d := range r.Drawn {
		d.Unused = !used.Has(d.Name)
		o.Drawn = append(o.Drawn, d)
	}
	return o
}

// begun is what the record is told of what begins. A procedure that is no file stands there.
func (r *Run) begun(inputs map[string]any) map[string]any {
	told := map[string]any{"file": r.Procedure.Path, "inputs": record.Encodable(inputs)}
	if r.Procedure.Path == "" {
		told["procedure"] = r.Procedure.Texts[""]
	}
	return told
}

// judged reports whether something was held against limits.
func (r *Result) judged() bool {
	return slices.ContainsFunc(r.Limits, record.Measurement.Judged)
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

type performer struct {
	run         *Run
	res         *Result
	values      map[string]any
	dialogs     map[string]*dialog.Dialog
	step        *procedure.Step
	number      int
	try         int
	said        map[string]procedure.Pos   // the latest say, by port
	saidIn      map[string]*procedure.Step // ... and its step
	asked       string                     // the port last said to, while nothing else has happened that could be answered
	question    string                     // the port at which bytes were heard last in this step, which may ask something
	last        *procedure.Step            // the one after which nothing may be owed
	mask        secret.Mask
	choice      Choice                   // of a person, about the step that failed last
	interrupted bool                     // nobody is asked any more
	origin      map[string]string        // where values came from that are none of the procedure's own
	stranger    string                   // why the module is not the one that is meant; "" as long as nothing says so
	tryBegan    time.Time                // of the step
	saidAt      map[string]time.Time     // the last say at each port in this try
	gaveAt      map[string]time.Time     // when each name got its value
	pondered    time.Duration            // for how long a person was asked about the step
	byHand      int                      // tries of the step that a person asked for
	hexed       map[string]bool          // names of numbers that were bytes
	secret      map[string]bool          // names of secrets, and of what was made of them
	calls       []*call                  // routines being done, the innermost last
	gave        map[string]bool          // names that the step has given a value
	gathers     *collectedSeries         // the series of this try of the step
	watching    *watching                // the watch that goes on; nil if none does
	inRows      bool                     // a table is judged row by row
	often       map[string]bool          // routines that the step does more than once
	seriesCount int                      // series so far
	before      map[string]uart.Line     // line settings that were changed, by port
	signals     map[string][]uart.Signal // that were set, by port
	unlit       map[string]bool          // ports whose power was switched off
	broke       error                    // the first limit of this try that was broken, where the step went on
	settingName string                   // that is read or written now
	settings    []*settingsSeen          // of modules, in the order of their first use
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
var inStep = map[record.Kind]bool{record.Check: true, record.Series: true, record.Round: true, record.Measured: true, record.Limit: true, record.Value: true, record.Kept: true, record.Told: true, record.Note: true}

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

func (p *performer) steps(ctx context.Context) {
	if err := p.lets(ctx); err != nil {
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
			err := p.bringBack(ctx, s)
			p.passOver(s, verdict.Skipped, leftOut)
			if err != nil {
				p.res.Verdict, p.res.Err = verdict.Broken, p.scrub(err)
				stopped = true
			}
			continue
		}
		if stopped && !s.Always {
			p.passOver(s, verdict.Untested, "")
			continue
		}
		if why := p.notForIt(s); why != "" {
			p.untested(s, why)
			continue
		}
		use := ctx
		if ctx.Err() != nil {
			if grace == nil { // they have their own limits: a module must not be left half put back
				grace, p.interrupted = context.WithoutCancel(ctx), true
				p.emit(record.Event{Kind: record.Told, Text: "Interrupted. The steps marked always are performed now; another Ctrl-C ends the program at once."})
			}
			use = grace
		}
		if text := p.needsPerson(s.Body); text != "" && p.run.Operator == nil {
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
		stopped = stopped || ctx.Err() != nil || p.stranger != "" || sr.Verdict == verdict.Broken || sr.Verdict == verdict.Failed && p.stops()
	}
	switch {
	case p.res.Verdict == "":
		p.res.Verdict = verdict.Skipped
	case p.run.Measures && p.res.Verdict == verdict.Passed && !p.res.judged():
		p.res.Verdict = verdict.Measured
	}
	if err := context.Cause(ctx); err != nil && ctx.Err() != nil {
		p.res.Verdict, p.res.Err = verdict.Broken, err
	}
}

// stops reports whether the run stops at a step that has failed.
func (p *performer) stops() bool {
	if p.run.OnFailure != nil { // somebody was asked
		return p.choice != GoOn
	}
	return !p.run.Procedure.KeepGoing
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
		e.Value = p.takeUp(s)
	}
	p.emit(e)
}

// takeUp gives what a step that is left out has given in an earlier run, and tells of it.
func (p *performer) takeUp(s *procedure.Step) record.StepEnd {
	earlier := p.run.Before[s.Title]
	p.gave = map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(earlier.Values)) {
		v := earlier.Values[name]
		p.give(name, v, false)
		p.comes(name, "taken from a record")
		p.emit(record.Event{Kind: record.Note, Step: s.Title, Text: fmt.Sprintf("%s = %s, which step %q gave in %s", name, show(v), s.Title, earlier.From), Live: earlier})
	}
	return record.StepEnd{LeftOut: true, Passed: earlier.Passed, Values: p.given(), From: earlier.From}
}

// given is what the step has given by now, as the record keeps it.
func (p *performer) given() map[string]record.Given {
	if len(p.gave) == 0 {
		return nil
	}
	all := map[string]record.Given{}
	for name := range p.gave {
		v, has := p.values[name]
		switch {
		case !has: // it had its value for a while only
		case p.secret[name]:
			all[name] = record.Given{Not: "it is made of a secret"}
		default:
			all[name] = record.NewGiven(v, func(text string) bool { return p.mask.Hide(text) != text })
		}
	}
	return all
}

// WasLeftOut reports whether a Step event of a record tells of a step that was not
// among those chosen. Records of before told it in words alone.
func WasLeftOut(e record.Event) bool {
	if e.Data == nil {
		return e.Verdict == verdict.Skipped && e.Why == leftOut
	}
	over, err := record.Decode[record.StepEnd](e)
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
func (p *performer) needsPerson(list []procedure.Node) string {
	for _, n := range list {
		switch n := n.(type) {
		case *procedure.Tell:
			return n.Text.Said.String()
		case *procedure.Ask:
			return n.Text.Said.String()
		case *procedure.Power:
			if st := p.run.Stations[n.Port]; st != nil && st.Supply == nil {
				return fmt.Sprintf("power %s %s, and the bench names no switch for it", n.Port, n.How)
			}
		}
		for _, b := range procedure.Bodies(n) {
			if text := p.needsPerson(b.Body); text != "" {
				return text
			}
		}
	}
	return ""
}

func (p *performer) lets(ctx context.Context) error {
	for _, l := range p.run.Procedure.Lets {
		v, err := l.Expr.Run(ctx, p.values)
		if err != nil {
			return p.scrub(fmt.Errorf("%s:%d: let %s: %w", l.File, l.Line, l.Name, err))
		}
		if text, ok := v.(string); ok && len(text) > mostInValue {
			return fmt.Errorf("%s:%d: %s would be %d MiB long: a value has at most %d", l.File, l.Line, l.Name, len(text)>>20, mostInValue>>20)
		}
		p.give(l.Name, v, p.ofSecret(l.Expr))
		p.derived(l.Name, l.Expr)
	}
	return nil
}
