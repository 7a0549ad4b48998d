package perform

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/link"
	"uparrot/core/pace"
	"uparrot/core/perform/reach"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

func (p *performer) collect(ctx context.Context, n *procedure.Collect) error {
	text, err := p.collected(ctx, n)
	if err != nil {
		return err
	}
	p.give(n.Name, text, false)
	p.comes(n.Name, "collected")
	lines := strings.Count(text, "\n")
	if text != "" {
		lines++
	}
	p.emit(record.Event{Kind: record.Heard, Port: p.port(n.Port), Text: fmt.Sprintf("%s: %d lines, %d bytes", n.Name, lines, len(text))})
	return nil
}

// collected is what came up to an end.
func (p *performer) collected(ctx context.Context, n *procedure.Collect) (string, error) {
	until := dialog.Until{Prompt: n.Prompt, Quiet: n.Quiet}
	if n.Pattern != nil {
		bound, err := n.Pattern.Bind(p.evaluator(ctx, n.Exprs))
		if err != nil {
			return "", err
		}
		if until.Line = bound; n.Bytes {
			until.Line, until.Bytes = nil, bound
		}
	}
	within := n.Within
	if within == 0 {
		within = procedure.CollectWithin
	}
	name := p.port(n.Port)
	defer p.waiting(name, until.String(), within)()
	ctx, over := p.heeding(ctx, name)
	defer over()
	text, err := p.dialogs[name].Collect(ctx, until, within)
	if err != nil {
		if err := p.keepPart(ctx, n, text, err); err != nil {
			p.emit(record.Event{Kind: record.Note, Text: err.Error()}) // why the step fails comes first
		}
	}
	return text, err
}

// logIn logs in at a console.
func (p *performer) logIn(ctx context.Context, n *procedure.LogIn) error {
	text := func(e *procedure.Expr) (string, error) {
		v, err := e.Run(ctx, p.values)
		return procedure.Text(v), err
	}
	name := p.port(n.Port)
	if err := p.oneLine(ctx, map[string]*procedure.Expr{"name": n.Name, "password": n.Password}); err != nil {
		return err
	}
	if lacks := n.Lacks(p.run.Stations[name].Setup); lacks != "" {
		return fmt.Errorf("%s: %s", name, lacks)
	}
	l := dialog.Login{Within: n.Within, Said: func(text string) {
		p.said[name], p.saidIn[name] = n.Pos, p.step
		p.acts(name)
		p.emit(record.Event{Kind: record.Said, Port: name, Text: p.shownSaid(text)})
	}}
	var err error
	l.Open, l.Nameless = n.Open, n.Name == nil
	if n.Name != nil {
		if l.Name, err = text(n.Name); err != nil {
			return err
		}
	}
	if n.Password != nil {
		password, err := text(n.Password)
		if err != nil {
			return err
		}
		l.Password = &password
	}
	if l.Within == 0 {
		l.Within = procedure.LogInWithin
	}
	defer p.waiting(name, "the login", l.Within)()
	open, err := p.dialogs[name].LogIn(ctx, l)
	if open {
		p.emit(record.Event{Kind: record.Note, Port: name, Text: "a session was open already at " + name + ": nobody was logged in"})
	}
	if err == nil {
		p.asked = name
	}
	return err
}

func (p *performer) keep(ctx context.Context, n *procedure.Keep) error {
	name, err := p.fill(ctx, n.File)
	if err != nil {
		return err
	}
	v, ok := p.values[n.Name]
	if !ok {
		return fmt.Errorf("%s has no value: what would have given it one was not performed", n.Name)
	}
	return p.file(n.Name, name, procedure.Text(v), false)
}

// keepPart keeps what a collect had gathered when it failed, if a keep in its step is
// to write it. It is no value: nothing may be concluded from a part.
func (p *performer) keepPart(ctx context.Context, n *procedure.Collect, text string, why error) error {
	k := keepOf(p.step.Body, n.Name)
	if k == nil {
		return nil
	}
	name, err := p.fill(context.WithoutCancel(ctx), k.File)
	if err != nil {
		return fmt.Errorf("what was gathered of %s cannot be kept: %w", n.Name, err)
	}
	return p.file(n.Name, name, text+fmt.Sprintf("\n[cut short: %v]", why), true)
}

// keepOf is the statement that keeps a value, nil if there is none.
func keepOf(list []procedure.Node, value string) *procedure.Keep {
	for _, n := range list {
		if k, ok := n.(*procedure.Keep); ok && k.Name == value {
			return k
		}
		for _, b := range procedure.Bodies(n) {
			if k := keepOf(b.Body, value); k != nil {
				return k
			}
		}
	}
	return nil
}

// file writes a value beside the record and tells of it.
func (p *performer) file(value, name, text string, cutShort bool) error {
	if p.run.Keep == nil {
		return errors.New("there is no place to keep a file")
	}
	if strings.Contains(text, "\n") && !strings.HasSuffix(text, "\n") {
		text += "\n" // lines in a file all have their end
	}
	data := []byte(p.mask.Hide(text))
	path, err := p.run.Keep(fileName(p.mask.Hide(name)), data)
	if err != nil {
		return err
	}
	sum := record.Sum(data)
	p.emit(record.Event{Kind: record.Kept, Text: path, Value: record.KeptFile{Value: value, Bytes: len(data), SHA256: sum, CutShort: cutShort}})
	return nil
}

// fileName makes a name that a module or a person gave fit for a file: letters,
// digits, dot, minus and underscore stay, all else becomes an underscore.
func fileName(name string) string {
	name = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(".-_", r) {
			return r
		}
		return '_'
	}, name)
	if name = strings.TrimLeft(name, "."); name == "" {
		name = "kept"
	}
	return name[:min(len(name), 120)]
}

// reopen waits for a port to go away and to come back.
func (p *performer) reopen(ctx context.Context, name string, within time.Duration) error {
	if within == 0 {
		within = procedure.ReopenWithin
	}
	defer p.waiting(name, "the port to go and come back", within)()
	st, old := p.run.Stations[name], p.dialogs[name]
	ctx, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("%s did not go away and come back within %v", st.Address, within))
	defer cancel()
	select {
	case <-old.Done():
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	// It has gone already, so closing it can fail only in ways that do not matter.
	_ = st.Close(p.run.Events, old)
	for {
		d, err := st.Open(ctx, p.run.Events, nil)
		if err == nil {
			p.dialogs[name] = d
			return nil
		}
		if kind := port.KindOf(err); kind != port.Missing && kind != port.Vanished && kind != port.Held && kind != port.Permission && kind != port.Other {
			return err
		}
		if serr := pace.For(ctx, reopenEvery); serr != nil {
			return fmt.Errorf("%w (last: %w)", serr, err)
		}
	}
}

// restarted waits until a module has started again that was told to.
func (p *performer) restarted(ctx context.Context, n *procedure.Say, name string) error {
	within := n.Within
	if within == 0 {
		within = procedure.RestartWithin
	}
	defer p.waiting(name, "the module to start again", within)()
	began := time.Now()
	err := p.dialogs[name].Restarted(ctx, within)
	if pe, gone := errors.AsType[*port.Error](err); gone && pe.Kind == port.Vanished {
		if err = p.reopen(ctx, name, max(time.Millisecond, within-time.Since(began))); err == nil {
			err = p.dialogs[name].Back(ctx, within-time.Since(began))
		}
	}
	if err == nil {
		p.emit(record.Event{Kind: record.Note, Port: name, Text: fmt.Sprintf("%s was seen to start again, after %v", name, time.Since(began).Round(100*time.Millisecond))})
	}
	return err
}

const reopenEvery = 100 * time.Millisecond

// putBack undoes what line statements have changed at a port.
func (p *performer) putBack(name string, d *dialog.Dialog) error {
	line, ok := p.before[name]
	if !ok || d.Err() != nil {
		return nil
	}
	dev := d.Port()
	var err error
	if dev.Line() != line {
		err = errors.Join(dev.Drain(), dev.SetLine(line))
	}
	for _, s := range p.signals[name] {
		err = errors.Join(err, port.SetSignal(dev, s, true)) // as every port is opened
	}
	return err
}

func (p *performer) reach(ctx context.Context, n *procedure.Reach) error {
	host, err := p.fill(ctx, n.Host)
	if err != nil {
		return err
	}
	within := n.Within
	if within == 0 {
		within = procedure.ReachWithin
	}
	var took time.Duration
	reachTCP, reachPing := reach.TCP, reach.Ping
	if p.run.Reach != nil {
		reachTCP = func(_ context.Context, host string, port int, within time.Duration) (time.Duration, error) {
			return p.run.Reach(fmt.Sprintf("%s tcp %d", host, port), within)
		}
		reachPing = func(_ context.Context, host string, within time.Duration) (time.Duration, error) {
			return p.run.Reach(host, within)
		}
	}
	what := "a ping of " + host
	if n.TCP != nil {
		number, err := p.whole(ctx, n.TCP, 1, 65535)
		if err != nil {
			return err
		}
		what = fmt.Sprintf("%s tcp %d", host, number)
		defer p.waiting("", what, within)()
		took, err = reachTCP(ctx, host, number, within)
		if err != nil {
			return err
		}
	} else {
		defer p.waiting("", what, within)()
		if took, err = reachPing(ctx, host, within); err != nil {
			return err
		}
	}
	text := fmt.Sprintf("%s answered in %v", what, took.Round(10*time.Microsecond))
	p.emit(record.Event{Kind: record.Note, Text: text})
	return nil
}

func (p *performer) leave(ctx context.Context, n *procedure.Fail) error {
	why, err := p.fill(ctx, n.Why)
	if err != nil {
		return err
	}
	return &Left{n.As, why}
}

// linkDeadline is used where a link statement says nothing.
const linkDeadline = 2 * time.Second

func (p *performer) link(ctx context.Context, n *procedure.Link) error {
	a, b := p.port(n.A), p.port(n.B)
	t := &link.Test{
		Plan: link.Plan{Count: n.Count, Every: n.Every, Size: n.Size, Both: n.Both, Deadline: max(linkDeadline, 2*n.MaxP95), Limits: link.Limits{MaxLoss: n.MaxLoss}},
		A:    p.run.Stations[a], B: p.run.Stations[b], Events: p.run.Events, Sleep: p.run.Sleep,
		Dialogs: map[string]*dialog.Dialog{a: p.dialogs[a], b: p.dialogs[b]},
	}
	if n.MaxP95 > 0 {
		v := ms(n.MaxP95)
		t.Limits.MaxP95MS = &v
	}
	if err := t.Check(); err != nil {
		return err
	}
	for _, name := range []string{a, b} {
		if err := p.settle(ctx, name); err != nil {
			return p.locate(p.said[name], err)
		}
	}
	defer p.waiting(b, fmt.Sprintf("%d frames", n.Count), time.Duration(n.Count)*n.Every+t.Deadline)()
	sum, err := t.Do(ctx)
	if err != nil {
		return err
	}
	for _, d := range sum.Directions {
		way := d.From + " to " + d.To
		p.measured(record.Measurement{What: "loss " + way, Value: round3(100 * d.LostOrLate.Ratio), High: percent(n.MaxLoss), Unit: "%", Verdict: d.Judged.Loss})
		if d.LatencyMS != nil {
			p.measured(record.Measurement{What: "95th percentile " + way, Value: round3(float64(d.LatencyMS.P95)), High: t.Limits.MaxP95MS, Unit: "ms", Verdict: d.Judged.P95})
		}
	}
	if sum.Verdict == verdict.Passed || sum.Verdict == verdict.Measured {
		return nil
	}
	var why []string
	for _, d := range sum.Directions {
		why = append(why, d.Why...)
	}
	return &Left{sum.Verdict, strings.Join(why, "; ")}
}

// round3 is a number to a thousandth.
func round3(v float64) record.Number { return record.Number(math.Round(v*1000) / 1000) }

func percent(share *float64) *float64 {
	if share == nil {
		return nil
	}
	v := 100 * *share
	return &v
}
