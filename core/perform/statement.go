package perform

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/secret"
	"uparrot/core/verdict"
)

func (p *performer) statement(ctx context.Context, n procedure.Node) error {
	if err := p.openFor(ctx, n); err != nil {
		return err
	}
	switch n.(type) {
	case *procedure.Pause, *procedure.Quiet, *procedure.Collect, *procedure.Tell, *procedure.Ask, *procedure.SetLine, *procedure.Power, *procedure.Reach, *procedure.Link:
		p.asked = "" // what comes from here on may have another cause than what was said
	}
	switch n := n.(type) {
	case *procedure.Any:
		return p.any(ctx, n)
	case *procedure.All:
		return p.all(ctx, n)
	case *procedure.If:
		return p.cond(ctx, n)
	case *procedure.Repeat:
		return p.repeat(ctx, n)
	case *procedure.For:
		return p.each(ctx, n)
	case *procedure.Do:
		return p.do(ctx, n)
	case *procedure.Collect:
		return p.collect(ctx, n)
	case *procedure.LogIn:
		return p.logIn(ctx, n)
	case *procedure.Keep:
		return p.keep(ctx, n)
	case *procedure.Tell:
		return p.tell(ctx, n)
	case *procedure.Ask:
		return p.ask(ctx, n)
	case *procedure.SetLine:
		return p.line(ctx, n)
	case *procedure.Power:
		return p.power(ctx, n)
	case *procedure.Reach:
		return p.reach(ctx, n)
	case *procedure.Fail:
		return p.leave(ctx, n)
	case *procedure.Link:
		return p.link(ctx, n)
	case *procedure.Say:
		return p.say(ctx, n)
	case *procedure.Hear:
		return p.hear(ctx, n)
	case *procedure.Check:
		return p.check(ctx, n)
	case *procedure.Limit:
		return p.limit(ctx, n)
	case *procedure.SettingUse:
		return p.setting(ctx, n)
	case *procedure.SettingsMatch:
		return p.settingsMatch(ctx, n)
	case *procedure.Watch:
		return p.watch(ctx, n)
	case *procedure.Until:
		return p.until(ctx, n)
	case *procedure.Rows:
		return p.rows(ctx, n)
	case *procedure.NoteValue:
		return p.noteValue(ctx, n)
	case *procedure.Let:
		return p.let(ctx, n)
	case *procedure.Pause:
		defer p.waiting("", "the pause to end", n.For)()
		return pace.For(ctx, n.For)
	case *procedure.Quiet:
		return p.quiet(ctx, n)
	}
	panic(fmt.Sprintf("perform: no case for %T", n))
}

func (p *performer) let(ctx context.Context, n *procedure.Let) error {
	v, err := n.Expr.Run(ctx, p.values)
	if text, ok := v.(string); ok && len(text) > mostInValue {
		return fmt.Errorf("%s would be %d MiB long: a value has at most %d", n.Name, len(text)>>20, mostInValue>>20)
	}
	if err == nil {
		p.give(n.Name, v, p.ofSecret(n.Expr))
		p.derived(n.Name, n.Expr)
		p.hexed[n.Name] = n.Expr.OfBytes() || slices.ContainsFunc(n.Expr.Names, func(name string) bool { return p.hexed[name] })
	}
	return err
}

func (p *performer) quiet(ctx context.Context, n *procedure.Quiet) error {
	within := n.Within
	if within == 0 {
		within = quietWithin
	}
	name := p.port(n.Port)
	defer p.waiting(name, fmt.Sprintf("%v of quiet", n.Still), within)()
	return p.dialogs[name].Quiet(ctx, n.Still, within)
}

// mostInValue is how many bytes a text has at most that a let makes, so that none can
// grow without end. A collect gathers as many.
const mostInValue = 16 << 20

// quietWithin bounds a quiet that says no time of its own.
const quietWithin = 10 * time.Second

// evaluator gives the values of a text's expressions.
func (p *performer) evaluator(ctx context.Context, exprs map[string]*procedure.Expr) func(string) (string, error) {
	return func(source string) (string, error) {
		v, err := exprs[source].Run(ctx, p.values)
		return procedure.Text(v), err
	}
}

// fill is text in quotes with its values.
func (p *performer) fill(ctx context.Context, w *procedure.Wording) (string, error) {
	return w.Said.Fill(p.evaluator(ctx, w.Exprs))
}

func (p *performer) say(ctx context.Context, n *procedure.Say) error {
	if !n.Bytes && n.Packet == nil {
		if err := p.oneLine(ctx, n.Exprs); err != nil {
			return err
		}
		if p.run.Stations[p.port(n.Port)].Setup.Dialect == phrasebook.AT {
			p.joined(p.port(n.Port), n.Exprs)
		}
	}
	text, err := p.sayText(ctx, n)
	if err != nil {
		return err
	}
	for _, e := range n.Reads() {
		if p.ofSecret(e) && p.mask.Hide(text) == text { // it is not said as it is: all that is made of it is hidden
			p.keepSecret(text)
		}
	}
	name := p.port(n.Port)
	d := p.dialogs[name]
	question := p.question == name
	p.asked, p.question = "", ""
	if n.Bytes {
		p.acts(name)
		if d.IsLine(text) {
			p.said[name], p.saidIn[name], p.asked = n.Pos, p.step, name
		}
		p.emit(record.Event{Kind: record.Said, Port: name, Text: p.shownSaid(text)})
		p.saidAt[name], err = d.SayNow(ctx, []byte(text), question)
		return err
	}
	if question || d.Questioned() {
		d.Asked()
	}
	if p.try > 1 && p.saidIn[name] == p.step { // a step with tries says it again where nothing was heard of the first
		d.Again()
	}
	if err := p.settle(ctx, name); err != nil {
		if _, busy := errors.AsType[*dialog.Busy](err); busy {
			return err // this line was not said
		}
		return p.locate(p.said[name], err) // it is about the line said before
	}
	p.said[name], p.saidIn[name] = n.Pos, p.step
	p.emit(record.Event{Kind: record.Said, Port: name, Text: p.shownSaid(text)})
	suppressed := d.Suppressed()
	p.acts(name)
	say := d.Say
	if text != "" && p.mask.Hide(text) == secret.Hidden { // nobody repeats that
		say = d.SaySecret
	}
	p.saidAt[name], err = say(ctx, text, p.run.Procedure.Answers)
	switch {
	case err != nil:
		return err
	case n.NoAnswer:
		d.WithoutAnswer()
	case n.Restarts:
		return p.restarted(ctx, n, name)
	case n.Later:
		d.AnswerLater()
	default:
		p.asked = name
	}
	if !suppressed && d.Suppressed() {
		p.emit(record.Event{Kind: record.Note, Text: name + " sends no results from here on (ATQ1): nothing tells whether it does what it is told"})
	}
	return nil
}

// wait is what a hear waits for.
func (p *performer) wait(ctx context.Context, n *procedure.Hear) (dialog.Wait, error) {
	bound, err := n.Pattern.Bind(p.evaluator(ctx, n.Exprs))
	return dialog.Wait{Form: n.Form, Pattern: bound, Within: p.within(n.Within), Answer: !n.Later && p.port(n.Port) == p.asked, Earlier: n.Earlier}, err
}

func (p *performer) within(d time.Duration) time.Duration {
	if d == 0 {
		return p.run.Procedure.Answers
	}
	return d
}

func (p *performer) hear(ctx context.Context, n *procedure.Hear) error {
	w, err := p.wait(ctx, n)
	if err != nil {
		return err
	}
	name := p.port(n.Port)
	d := p.dialogs[name]
	ctx, over := p.heeding(ctx, name)
	defer over()
	if n.Not {
		defer p.waiting(name, "nothing like "+w.Pattern.String(), w.Within)()
		return d.Absent(ctx, w)
	}
	defer p.waiting(name, w.Pattern.String(), w.Within)()
	h, err := d.Hear(ctx, w)
	if err == nil {
		if n.Form == pattern.AnyBytes {
			p.question = name
		}
		err = p.took(ctx, name, n, h)
	}
	return err
}

// heeding is ctx for a wait at some ports. It ends, with the refusal as its cause, as
// soon as a line that was said to another port is refused: what is waited for may
// never come then.
func (p *performer) heeding(ctx context.Context, at ...string) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(ctx)
	var watchers sync.WaitGroup
	for name, d := range p.dialogs {
		if !slices.Contains(at, name) && p.said[name].Line > 0 {
			watchers.Go(func() {
				if err := d.AwaitRefusal(ctx); err != nil {
					cancel(err)
				}
			})
		}
	}
	return ctx, func() { cancel(nil); watchers.Wait() }
}

// took keeps what was captured and tells what was heard. A packet is held against what its
// fields are made of.
func (p *performer) took(ctx context.Context, port string, n *procedure.Hear, h dialog.Heard) error {
	for _, c := range h.Captures {
		p.give(c.Name, c.Value, false)
		p.comes(c.Name, "heard")
		p.gaveAt[c.Name] = h.Time
		n, number := c.Value.(int)
		decimal, err := strconv.Atoi(c.Text)
		p.hexed[c.Name] = number && (err != nil || decimal != n)
	}
	if n.Took != "" {
		took, err := p.tookFrom(port, h.Time)
		if err != nil {
			return err
		}
		p.give(n.Took, took, false)
		p.gaveAt[n.Took] = h.Time
	}
	if port != p.asked {
		p.asked = ""
	}
	if n.Packet != nil {
		return p.tookPacket(ctx, port, n.Packet, h)
	}
	p.emit(record.Event{Kind: record.Heard, Port: port, Text: h.Text})
	return nil
}

// shownSaid is what may be seen of what is said.
func (p *performer) shownSaid(text string) string {
	text, _ = p.mask.HideSaid(text)
	return text
}

// valuesOf are the values that an expression reads. Beside a secret all are hidden: what is held
// against one and found equal is the secret.
func (p *performer) valuesOf(e *procedure.Expr) []Value {
	var vs []Value
	all := p.ofSecret(e)
	for _, n := range e.Names {
		if all {
			vs = append(vs, Value{Name: n, Value: secret.Hidden})
			continue
		}
		vs = append(vs, Value{n, record.Encodable(p.mask.Value(p.values[n])), p.hexed[n]})
	}
	return vs
}

// ofSecret reports whether an expression reads a secret, or what was made of one.
func (p *performer) ofSecret(e *procedure.Expr) bool {
	return e != nil && slices.ContainsFunc(e.Names, func(n string) bool { return p.secret[n] })
}

// give gives a name a value. What is made of a secret is one too, with all its parts.
func (p *performer) give(name string, v any, secret bool) {
	p.values[name], p.gaveAt[name] = v, time.Now()
	if p.gave != nil {
		p.gave[name] = true
	}
	if p.secret[name] = secret; secret {
		p.keepSecret(v)
	}
}

// keepSecret hides a value from now on.
func (p *performer) keepSecret(v any) {
	switch v := v.(type) {
	case []any:
		for _, one := range v {
			p.keepSecret(one)
		}
	case []string:
		for _, one := range v {
			p.keepSecret(one)
		}
	case map[string]any:
		for _, one := range v {
			p.keepSecret(one)
		}
	case bool, nil:
	default:
		text := procedure.Text(v)
		p.mask.Add(text)
		p.run.Events.Hide(text)
	}
}

func (p *performer) check(ctx context.Context, n *procedure.Check) error {
	v, err := n.Expr.Run(ctx, p.values)
	if err != nil {
		return err
	}
	values := p.valuesOf(n.Expr)
	why := n.Why
	if n.Words != nil && !p.ofSecret(n.Expr) { // a value in it may be the one that is held against the secret
		if why, err = p.fill(ctx, n.Words); err != nil {
			return err
		}
		why = p.mask.Hide(why)
	}
	ok, isBool := v.(bool)
	if !isBool {
		return fmt.Errorf("%s is %s, neither true nor false", n.Expr.Source, p.mask.Hide(show(v)))
	}
	outcome := verdict.Passed
	if !ok {
		outcome = verdict.Failed
	}
	if ok && p.watching != nil && !p.watching.tells { // there may be thousands a second
		return nil
	}
	source := p.ofSetting(n.Expr.Source)
	for i := range values {
		values[i].Name = p.ofSetting(values[i].Name)
	}
	p.emit(record.Event{Kind: record.Check, Text: source, Verdict: outcome, Why: why, Value: values})
	if ok {
		return nil
	}
	failed := &CheckFailed{Expr: source, Why: why, Values: values}
	p.sides(ctx, n, failed)
	return failed
}

// sides tells both sides of a comparison: of a setting that was read back, and of long texts.
func (p *performer) sides(ctx context.Context, n *procedure.Check, failed *CheckFailed) {
	if n.Left == nil || n.Right == nil || p.ofSecret(n.Left) || p.ofSecret(n.Right) {
		return
	}
	left, err := n.Left.Run(ctx, p.values)
	right, err2 := n.Right.Run(ctx, p.values)
	if err != nil || err2 != nil {
		return
	}
	wanted, is, long := parting(left, right)
	if !long && p.settingName != "" && slices.Contains(n.Left.Names, phrasebook.SettingNow) {
		wanted, is = show(right), show(left)
	}
	failed.Wanted, failed.Is = p.mask.Hide(wanted), p.mask.Hide(is)
}

// ofSetting is a text with the name of the setting that is read or written in the place of our own for it.
func (p *performer) ofSetting(text string) string {
	if p.settingName == "" {
		return text
	}
	return strings.ReplaceAll(text, phrasebook.SettingNow, p.settingName)
}

func (p *performer) limit(ctx context.Context, n *procedure.Limit) error {
	if p.ofSecret(n.Expr) || p.ofSecret(n.Low) || p.ofSecret(n.High) {
		return errors.New("a limit shows its numbers in every report, and one of these is made of a secret: write check")
	}
	number := func(e *procedure.Expr) (*float64, error) {
		if e == nil {
			return nil, nil
		}
		v, err := e.Run(ctx, p.values)
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
	for _, side := range []struct {
		is  *float64
		was *procedure.Expr
	}{{low, n.Low}, {high, n.High}} {
		if side.is != nil && !record.Number(*side.is).Finite() {
			return fmt.Errorf("%s is %v: that limits nothing", side.was.Source, *side.is)
		}
	}
	what, unit, err := p.named(ctx, &n.Measure)
	if err != nil {
		return err
	}
	r := record.Measurement{What: what, Value: record.Number(*value), Low: low, High: high, Unit: unit, Verdict: verdict.Passed}
	if !r.Value.Finite() || low != nil && *value < *low || high != nil && *value > *high {
		r.Verdict = verdict.Failed
	}
	if p.several() {
		if p.sample(n, r, p.cameAt()); p.gathers.depth > 0 && !p.inRows { // told at the end of the repetition
			return nil
		}
	} else {
		p.measured(r)
	}
	if r.Verdict != verdict.Failed {
		return nil
	}
	if failed := (&LimitFailed{Result: r}); !p.run.Procedure.KeepGoing || p.inRows || p.watching != nil {
		return failed
	} else if p.broke == nil { // the step goes on, and fails at its end
		p.broke = p.locate(n.Pos, failed)
	} else if first, ok := errors.AsType[*LimitFailed](p.broke); ok {
		first.More = append(first.More, r)
	}
	return nil
}

// named is what a measurement is called and its unit, with their values.
func (p *performer) named(ctx context.Context, m *procedure.Measure) (what, unit string, err error) {
	what, unit = m.What, m.Unit
	for _, w := range []struct {
		words *procedure.Wording
		to    *string
	}{{m.Title, &what}, {m.UnitOf, &unit}} {
		if w.words == nil {
			continue
		}
		for _, e := range w.words.Exprs {
			if p.ofSecret(e) {
				return "", "", errors.New("what a value is called stands in every report, and this is made of a secret")
			}
		}
		if *w.to, err = p.fill(ctx, w.words); err != nil {
			return "", "", err
		}
		*w.to = strings.Join(strings.Fields(*w.to), " ") // a name is one line
	}
	return what, unit, nil
}

// measured files a measurement.
func (p *performer) measured(r record.Measurement) {
	r.Step = p.step.Title
	p.res.Limits = append(p.res.Limits, r)
	kind := record.Limit
	if !r.Judged() {
		kind = record.Value
	}
	p.emit(record.Event{Kind: kind, Try: p.try, Text: r.What, Verdict: r.Verdict, Value: r})
}
