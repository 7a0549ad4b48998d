package rehearse

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// Class is what came of a bad module.
type Class string

// The classes. Only what was caught and what was missed is in the score.
const (
	Caught        Class = "caught"         // the procedure did not pass
	Missed        Class = "missed"         // it passed, and the module is not as was asked
	Harmless      Class = "harmless"       // it passed, and the module ended as was asked
	NotTested     Class = "not tested"     // the procedure neither writes, reads nor measures what was changed
	NotObservable Class = "not observable" // nothing in the phrasebook could show it
)

// Classes are all classes, in the order in which they are told.
var Classes = []Class{Caught, Missed, Harmless, NotTested, NotObservable}

// Means is what a class says of a module.
func (c Class) Means() string {
	switch c {
	case Caught:
		return "the procedure did not pass"
	case Missed:
		return "it passed, and the module is not as was asked"
	case Harmless:
		return "it passed, and the module is as was asked all the same"
	case NotTested:
		return "it neither writes, reads nor measures what was changed"
	}
	return "nothing in the phrasebook could show it"
}

// Kind is what is wrong with a bad module.
type Kind string

// The kinds.
const (
	ofSettings Kind = "settings" // a setting is not kept as it was written
	ofAnswers  Kind = "answers"  // an answer does not tell what was done
	ofIdentity Kind = "identity" // it is another module
	ofLimits   Kind = "values"   // a value or a time is outside its limits
	ofMessages Kind = "messages" // messages do not come as they should
)

// Kinds are all kinds, in the order in which they are told.
var Kinds = []Kind{ofSettings, ofAnswers, ofIdentity, ofLimits, ofMessages}

// Bad is a bad module, and what came of it.
type Bad struct {
	Name  string `json:"name"`
	Port  string `json:"port"`
	About string `json:"about"`
	Kind  Kind   `json:"kind"`
	Class Class  `json:"class"`
	In    string `json:"in,omitempty"`   // the step in which it could be caught, where that is known
	Step  string `json:"step,omitempty"` // that caught it
	Why   string `json:"why,omitempty"`
	Mend  *mend  `json:"mend,omitempty"` // of one that was missed
}

// Scored reports whether it is in the score.
func (b Bad) Scored() bool { return b.Class == Caught || b.Class == Missed }

// At is the step that caught it, or the one that could have; "" if that is not known.
func (b Bad) At() string {
	if b.Class == Caught {
		return b.Step
	}
	return b.In
}

// Good is a good module as it may come, and what came of it.
type Good struct {
	Name   string `json:"name"`
	Port   string `json:"port"`
	Alarm  bool   `json:"false_alarm"`
	Step   string `json:"step,omitempty"`
	Why    string `json:"why,omitempty"`
	Accept string `json:"accept,omitempty"` // what would have it accepted
	Tries  string `json:"tries,omitempty"`  // what its step would have to have for that, where that is enough
}

// Chance is how often a step fails at good modules by the air alone.
type Chance struct {
	Step   string     `json:"step"`
	Runs   int        `json:"runs"`
	Failed int        `json:"failed"` // runs that failed there
	Share  [2]float64 `json:"share"`  // 95 % interval (Wilson)
	Tries  int        `json:"tries"`  // of the step now
	With   int        `json:"with"`   // tries with which it would fail less than once in a thousand; 0 if that is not known
}

// Report is what came of a rehearsal.
type Report struct {
	Procedure string            `json:"procedure"`
	Seed      uint64            `json:"seed"`
	Values    map[string]string `json:"values"`
	Steps     []string          `json:"steps"`
	Untested  []string          `json:"untested,omitempty"` // steps that need a person, or are left out
	Runs      int               `json:"runs"`
	MadeUpS   float64           `json:"made_up_s"` // time that would have passed
	Bad       []Bad             `json:"bad"`
	Good      []Good            `json:"good"`
	Chances   []Chance          `json:"chances"`
	Cut       string            `json:"cut,omitempty"` // why it was ended before it was over; "" if it was not
}

// Count is how many bad modules are of a class.
func (r *Report) Count(c Class) (n int) {
	for _, b := range r.Bad {
		if b.Class == c {
			n++
		}
	}
	return n
}

// Alarms is how many good modules were refused.
func (r *Report) Alarms() (n int) {
	for _, g := range r.Good {
		if g.Alarm {
			n++
		}
	}
	return n
}

// Score is the share of bad modules that was caught of those that could have been; false if there
// were none, or the rehearsal was cut.
func (r *Report) Score() (float64, bool) {
	caught, missed := r.Count(Caught), r.Count(Missed)
	if caught+missed == 0 || r.Cut != "" {
		return 0, false
	}
	return float64(caught) / float64(caught+missed), true
}

// leastScored is how many bad modules a score rests on at least.
const leastScored = 10

// Verdict is failed where a bad module was missed or a good one refused; with a share of bad modules that
// is enough (0 to 1; below 0 for none), where less was caught than that. It is undecided where the rehearsal was
// cut, or the score rests on fewer than ten bad modules.
func (r *Report) Verdict(enough float64) verdict.Verdict {
	score, any := r.Score()
	caught := r.Count(Missed) == 0
	if enough >= 0 {
		caught = !any || score >= enough
	}
	switch {
	case r.Cut != "":
		return verdict.Undecided
	case !caught || r.Alarms() > 0:
		return verdict.Failed
	case r.Count(Caught)+r.Count(Missed) < leastScored:
		return verdict.Undecided
	}
	return verdict.Passed
}

// NotPassed is a procedure that does not pass at good modules: nothing can be said of bad ones.
type NotPassed struct {
	Step, Why string
	Verdict   verdict.Verdict
}

func (e *NotPassed) Error() string {
	return fmt.Sprintf("it is %s at good modules already, at %q: %s", e.Verdict, e.Step, e.Why)
}

// Rehearse performs a procedure on good and on bad modules. Times is how often the air of the bench
// is tried; 0 leaves that out. One that goes beyond a bound is cut, and reports what was found by then.
func (p *Play) Rehearse(ctx context.Context, times int) (*Report, error) {
	within := cmp.Or(p.For, longestAll)
	ctx, cancel := context.WithTimeoutCause(ctx, within, &Cut{fmt.Sprintf("it is not over after %v", within)})
	defer cancel()
	r := &Report{Procedure: p.File.Title, Seed: p.Seed, Bad: []Bad{}, Good: []Good{}, Chances: []Chance{}}
	err := p.rehearse(ctx, r, times)
	if cut, is := errors.AsType[*Cut](err); is {
		r.Cut = cut.Why
		return r, nil
	}
	if err != nil {
		return nil, err
	}
	return r, nil
}

func (p *Play) rehearse(ctx context.Context, r *Report, times int) error {
	for _, s := range p.File.Secrets {
		text, _ := p.Values[s.Name].(string)
		p.mask.Add(text)
	}
	first, err := p.perform(ctx, trial{seed: p.Seed})
	if err != nil {
		return err
	}
	r.ran(first)
	for _, s := range first.res.Steps {
		r.Steps = append(r.Steps, s.Title)
		if s.Verdict == verdict.Untested || s.Verdict == verdict.Skipped {
			r.Untested = append(r.Untested, s.Title)
		}
	}
	if !fine(first.res) {
		step, why := failedAt(first.res)
		return &NotPassed{step, why, first.res.Verdict}
	}
	b := &baseline{outcome: first, ran: r.ran}
	if err := p.look(ctx, b); err != nil {
		return err
	}
	if err := p.bad(ctx, r, b); err != nil {
		return err
	}
	if err := p.good(ctx, r, b); err != nil {
		return err
	}
	return p.air(ctx, r, times)
}

func (r *Report) ran(o outcome) {
	r.Runs++
	r.MadeUpS += o.took.Seconds()
}

// fine reports whether nothing has failed: steps that need a person may be untested.
func fine(res perform.Result) bool {
	if res.Err != nil {
		return false
	}
	passed := false
	for _, s := range res.Steps {
		switch s.Verdict {
		case verdict.Passed, verdict.Measured:
			passed = true
		case verdict.Untested, verdict.Skipped:
		default:
			return false
		}
	}
	return passed
}

// failedAt is the first step that has not passed, and why.
func failedAt(res perform.Result) (string, string) {
	for _, s := range res.Steps {
		if s.Verdict == verdict.Failed || s.Verdict == verdict.Broken || s.Verdict == verdict.Undecided {
			return s.Title, s.Why
		}
	}
	why := ""
	if res.Err != nil {
		why = res.Err.Error()
	}
	for _, s := range res.Steps {
		if s.Verdict != verdict.Passed {
			return s.Title, s.Why + why
		}
	}
	return "", why
}

// bad performs it on modules with one thing wrong.
func (p *Play) bad(ctx context.Context, r *Report, b *baseline) error {
	played := map[string]bool{} // whether an answer can be played again, by port and line
	for _, m := range p.mutants(b) {
		x := Bad{Name: m.name, Port: m.port, About: p.mask.Hide(m.about), Kind: m.kind, In: m.step}
		if m.mend != nil {
			x.In = m.mend.Step
			for i, l := range m.mend.Lines {
				m.mend.Lines[i] = p.mask.Hide(l)
			}
		}
		if !m.touched || m.make == nil {
			x.Class = NotTested
			r.Bad = append(r.Bad, x)
			continue
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if plays, err := p.plays(ctx, r, b, m, played); err != nil {
			return err
		} else if !plays {
			x.Class, x.Why = NotTested, "its answer cannot be played again in the module's place"
			r.Bad = append(r.Bad, x)
			continue
		}
		var on *trigger
		o, err := p.perform(ctx, p.with(m, &on))
		if err != nil {
			return err
		}
		r.ran(o)
		p.classed(&x, m, on, &o, b)
		r.Bad = append(r.Bad, x)
	}
	return nil
}

// with is a performance with a bad module; on tells in the end whether that has done anything.
func (p *Play) with(m *mutant, on **trigger) trial {
	s := trial{seed: p.Seed, tampers: map[string]func(*log) tamper{m.port: func(*log) tamper {
		var t tamper
		t, *on = m.make()
		return t
	}}, reach: m.reach}
	if m.reach != nil {
		_, *on = m.make()
	}
	if m.style != nil {
		s.style = map[string]style{m.port: *m.style}
	}
	if m.module != nil {
		s.modules = map[string]bench.Standin{m.port: *m.module}
	}
	if m.overhears != nil {
		s.overhears = func(port string, line []byte) (string, []byte) { return m.port, m.overhears(port, line, *on) }
	}
	return s
}

// classed says of which class a bad module is, by what came of it.
func (p *Play) classed(x *Bad, m *mutant, on *trigger, o *outcome, b *baseline) {
	switch {
	case on == nil || on.n == 0, m.what != "" && !o.measured(m.what, m.is): // also where it did not pass: for another reason
		x.Class = NotTested
	case !fine(o.res):
		x.Class = Caught
		x.Step, x.Why = failedAt(o.res)
	case m.hidden:
		x.Class, x.Why = NotObservable, m.why
	case !m.anyway && p.Modules[m.port].Again != nil:
		x.Class, x.Why = NotObservable, "a module made of a record keeps nothing that could be looked at"
	case !m.anyway && same(o.state, b.state):
		x.Class = Harmless
	default:
		if x.Class = Missed; p.Do == nil {
			x.Mend = m.mend
		}
	}
}

// plays reports whether the answer that a bad module gives can be played again: whether the
// procedure passes so where the module obeys all the same.
func (p *Play) plays(ctx context.Context, r *Report, b *baseline, m *mutant, known map[string]bool) (bool, error) {
	key := m.port + "\x00" + m.replays
	if plays, is := known[key]; is || m.replays == "" {
		return plays || m.replays == "", nil
	}
	o, err := p.perform(ctx, trial{seed: p.Seed, quick: true, tampers: map[string]func(*log) tamper{m.port: func(*log) tamper {
		return &control{line: m.replays, was: b.was(m.port), lines: b.betweenPrompts(m.port, m.replays)}
	}}})
	if err != nil {
		return false, err
	}
	r.ran(o)
	known[key] = fine(o.res)
	return known[key], nil
}

// measured reports whether a measurement has come to something.
func (o *outcome) measured(what string, is func(limitSeen) bool) bool {
	return slices.ContainsFunc(o.limits, func(l limitSeen) bool { return l.What == what && is(l) })
}

// limit is the last of a measurement in a step.
func (o *outcome) limit(what, step string) (last limitSeen, found bool) {
	for _, l := range o.limits {
		if l.What == what && l.Step == step {
			last, found = l, true
		}
	}
	return last, found
}

func same(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for k, v := range b {
		if a[k] != v {
			return false
		}
	}
	return true
}

// good performs it on good modules as they may come.
func (p *Play) good(ctx context.Context, r *Report, b *baseline) error {
	for _, h := range slices.Concat(p.habits(b), p.firstRefused(b), p.slowly()) {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		h.scene.seed = p.Seed
		o, err := p.perform(ctx, h.scene)
		if err != nil {
			return err
		}
		r.ran(o)
		if h.what != "" && !o.measured(h.what, h.is) {
			continue // what was changed is not what is measured
		}
		g := Good{Name: h.name, Port: h.port}
		if !fine(o.res) {
			g.Alarm, g.Accept, g.Tries = true, h.accept, h.tries
			g.Step, g.Why = failedAt(o.res)
		}
		r.Good = append(r.Good, g)
	}
	return nil
}

// air performs it on good modules with the air of the bench, again and again.
func (p *Play) air(ctx context.Context, r *Report, times int) error {
	if p.Air.Loss+p.Air.Damage+p.Air.Duplicate+p.Air.Reorder+p.Air.Enter == 0 || len(p.File.Ports) < 2 {
		return nil
	}
	failed, tried := map[string]int{}, map[string]int{}
	for i := range times {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		o, err := p.perform(ctx, trial{seed: p.Seed + uint64(i), air: &p.Air})
		if err != nil {
			return err
		}
		r.ran(o)
		for step, n := range o.tries {
			tried[step] += n
		}
		if !fine(o.res) {
			step, _ := failedAt(o.res)
			failed[step]++
		}
	}
	for _, s := range p.File.Steps {
		if tried[s.Title] == 0 && failed[s.Title] == 0 {
			continue
		}
		c := Chance{Step: s.Title, Runs: times, Failed: failed[s.Title], Tries: s.Tries}
		share := stats.Wilson(c.Failed, times)
		c.Share = [2]float64{share.Low, share.High}
		// Each try fails by itself as often as tries have failed of those that were made.
		each := float64(tried[s.Title]+failed[s.Title]) / float64(times+tried[s.Title])
		for n, left := 1, each; n <= 20; n, left = n+1, left*each {
			if left < 0.001 {
				c.With = n
				break
			}
		}
		r.Chances = append(r.Chances, c)
	}
	return nil
}

// readBack are the lines that read a setting back after it was written: with the expression that it
// was made of, where the procedure says one.
func (m *maker) readBack(set phrasebook.Setting, line, value, step string) *mend {
	if set.ReadSaid == nil || set.Answer == "" || m.File == nil {
		return nil
	}
	want := value
	if say := m.sayOf(line, step); say != nil && len(say.Exprs) == 1 {
		for source := range say.Exprs {
			want = "{=" + source + "}"
		}
	}
	answer := wanting(set.Answer, want)
	if answer == "" {
		return nil
	}
	return &mend{Step: step, Lines: []string{fmt.Sprintf("say %s: %s", m.port, set.Read), fmt.Sprintf("hear %s: %s", m.port, answer)}}
}

// wanting is heard text with its capture value as what is wanted: a value in braces, or as it is.
func wanting(answer, want string) string {
	i := strings.Index(answer, "{value")
	if i < 0 {
		return ""
	}
	j := strings.IndexByte(answer[i:], '}')
	if j < 0 {
		return ""
	}
	kind := answer[i : i+j+1]
	if strings.Contains(kind, "quoted") {
		want = `"` + want + `"`
	}
	return answer[:i] + want + answer[i+j+1:]
}

// Insert puts the lines that would catch what was missed into the text of a procedure, each at the
// end of its step; where nothing is to be put, the text comes back as it is.
func (r *Report) Insert(file *procedure.File) (string, int, error) {
	lines := file.Texts[file.Path]
	if len(lines) == 0 {
		return "", 0, errors.New("the procedure is no file")
	}
	ends := map[string]int{} // the line of the end of each step
	for _, s := range file.Steps {
		if s.File != file.Path {
			continue
		}
		for i := s.Line; i < len(lines); i++ {
			if strings.TrimSpace(lines[i]) == "end" && !strings.HasPrefix(lines[i], " ") && !strings.HasPrefix(lines[i], "\t") {
				ends[s.Title] = i
				break
			}
		}
	}
	at := map[int][]string{}
	put := 0
	for _, b := range r.Bad {
		if b.Class != Missed || b.Mend == nil || b.Mend.After > 0 { // what stands there already is a person's to change
			continue
		}
		end, ok := ends[b.Mend.Step]
		if !ok || slices.Contains(at[end], "    "+b.Mend.Lines[0]) {
			continue
		}
		for _, l := range b.Mend.Lines {
			at[end] = append(at[end], "    "+l)
		}
		put++
	}
	var out []string
	for i, l := range lines {
		out = append(append(out, at[i]...), l)
	}
	return strings.Join(out, "\n"), put, nil
}
