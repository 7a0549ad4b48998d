package perform

import (
	"context"
	"errors"
	"fmt"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/pattern"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// call is a routine being done: where from, and which port each of its names
// for one stands for.
type call struct {
	routine string
	at      procedure.Pos
	ports   map[string]string
}

// port is the procedure's port that a name stands for here.
func (p *performer) port(name string) string {
	if n := len(p.calls); n > 0 {
		if real, ok := p.calls[n-1].ports[name]; ok {
			return real
		}
	}
	return name
}

// asks are what several hears wait for, with the ports' names and the patterns
// in words.
func (p *performer) asks(ctx context.Context, hears []*procedure.Hear) (asks []dialog.Ask, ports []string, words string, err error) {
	for _, h := range hears {
		w, err := p.wait(ctx, h)
		if err != nil {
			return nil, nil, "", p.locate(h.Pos, err)
		}
		name := p.port(h.Port)
		asks = append(asks, dialog.Ask{Dialog: p.dialogs[name], Wait: w})
		ports = append(ports, name)
		if words != "" {
			words += " | "
		}
		words += w.Pattern.String()
	}
	return asks, ports, words, nil
}

func (p *performer) any(ctx context.Context, n *procedure.Any) error {
	var hears []*procedure.Hear
	var cases []*procedure.Case
	var nothing *procedure.Case
	for _, c := range n.Cases {
		if c.Hear == nil {
			nothing = c
			continue
		}
		hears = append(hears, c.Hear)
		cases = append(cases, c)
	}
	asks, ports, words, err := p.asks(ctx, hears)
	if err != nil {
		return err
	}
	within := p.within(n.Within)
	name := ""
	if len(ports) > 0 {
		name = ports[0]
	}
	over := p.waiting(name, words, within)
	waiting, heeded := p.heeding(ctx, ports...)
	which, heard, err := dialog.First(waiting, asks, within)
	heeded()
	over()
	if _, missed := errors.AsType[*dialog.Missed](err); missed && nothing != nil {
		return p.statements(ctx, nothing.Body)
	}
	if err != nil {
		return err
	}
	if hears[which].Form == pattern.AnyBytes {
		p.question = ports[which]
	}
	if err := p.took(ctx, ports[which], hears[which], heard); err != nil {
		return p.locate(hears[which].Pos, err)
	}
	return p.statements(ctx, cases[which].Body)
}

func (p *performer) all(ctx context.Context, n *procedure.All) error {
	asks, ports, words, err := p.asks(ctx, n.Hears)
	if err != nil {
		return err
	}
	within := p.within(n.Within)
	defer p.waiting(ports[0], words, within)()
	ctx, over := p.heeding(ctx, ports...)
	defer over()
	heard, err := dialog.All(ctx, asks, within)
	if err != nil {
		return err
	}
	for i, h := range heard {
		if terr := p.took(ctx, ports[i], n.Hears[i], h); err == nil && terr != nil {
			err = p.locate(n.Hears[i].Pos, terr)
		}
	}
	return err
}

// truth is whether a condition holds.
func (p *performer) truth(ctx context.Context, e *procedure.Expr) (bool, error) {
	v, err := e.Run(ctx, p.values)
	if err != nil {
		return false, err
	}
	is, ok := v.(bool)
	if !ok {
		return false, fmt.Errorf("%s is %s, neither true nor false", e.Source, show(v))
	}
	return is, nil
}

func (p *performer) cond(ctx context.Context, n *procedure.If) error {
	for _, arm := range n.Arms {
		is, err := p.truth(ctx, arm.Cond)
		if err != nil {
			return p.locate(arm.Pos, err)
		}
		if is {
			return p.statements(ctx, arm.Body)
		}
	}
	return p.statements(ctx, n.Else)
}

func (p *performer) repeat(ctx context.Context, n *procedure.Repeat) error {
	times := -1 // as often as there is time for
	var most, every time.Duration
	var err error
	if n.Times != nil {
		if times, err = p.whole(ctx, n.Times, 0, procedure.MaxRepeat); err != nil {
			return err
		}
	}
	for _, t := range []struct {
		is  *procedure.Expr
		out *time.Duration
	}{{n.For, &most}, {n.Every, &every}} {
		if *t.out, err = p.timeOf(ctx, t.is); err != nil {
			return err
		}
	}
	return p.repeated(func() error { return p.repeats(ctx, n, times, most, every) })
}

// repeats performs what is repeated so often, for so long, and begins so often.
func (p *performer) repeats(ctx context.Context, n *procedure.Repeat, times int, most, every time.Duration) error {
	began, missed := time.Now(), 0
	round := p.newRounds(n.Body)
	for i, beat := 0, 0; i != times; i, beat = i+1, beat+1 {
		if i > 0 {
			if late := time.Since(began); every > 0 && late > time.Duration(beat)*every { // what is past is not caught up with
				for ; late > time.Duration(beat)*every && (most == 0 || time.Duration(beat)*every < most); beat++ {
					missed++
				}
			}
			next := time.Now()
			if every > 0 {
				next = began.Add(time.Duration(beat) * every)
			}
			if most > 0 && next.Sub(began) >= most {
				break
			}
			if err := pace.For(ctx, time.Until(next)); err != nil {
				return err
			}
		}
		round.next()
		if err := p.statements(ctx, n.Body); err != nil {
			return err
		}
	}
	round.tell(true)
	if missed > 0 {
		p.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%d times fell out: what is repeated took longer than %v", missed, every)})
	}
	return nil
}

// longestTime is the longest time that a repetition may take.
const longestTime = 31 * 24 * time.Hour

// timeOf is an expression's value as a time; 0 if there is none.
func (p *performer) timeOf(ctx context.Context, e *procedure.Expr) (time.Duration, error) {
	if e == nil {
		return 0, nil
	}
	v, err := e.Run(ctx, p.values)
	if err != nil {
		return 0, err
	}
	s := 0.0
	switch v := v.(type) {
	case int:
		s = float64(v)
	case float64:
		s = v
	}
	if s < 0.001 || s > longestTime.Seconds() || s != s {
		return 0, fmt.Errorf("%s is %s, wanted a time of 0.001 s to 31 days, in seconds", e.Source, p.mask.Hide(show(v)))
	}
	return time.Duration(s * float64(time.Second)), nil
}

// whole is an expression's value, which must be a whole number within bounds.
func (p *performer) whole(ctx context.Context, e *procedure.Expr, low, high int) (int, error) {
	v, err := e.Run(ctx, p.values)
	if err != nil {
		return 0, err
	}
	n, ok := v.(int)
	if f, is := v.(float64); is && f == float64(int(f)) {
		n, ok = int(f), true
	}
	if !ok || n < low || n > high {
		return 0, fmt.Errorf("%s is %s, wanted a whole number from %d to %d", e.Source, show(v), low, high)
	}
	return n, nil
}

func (p *performer) each(ctx context.Context, n *procedure.For) error {
	v, err := n.List.Run(ctx, p.values)
	if err != nil {
		return err
	}
	list, err := procedure.List(v)
	if err != nil {
		return fmt.Errorf("%s: %w", n.List.Source, err)
	}
	defer delete(p.values, n.Name)
	return p.repeated(func() error {
		round := p.newRounds(n.Body)
		for _, one := range list {
			p.give(n.Name, one, p.ofSecret(n.List))
			p.derived(n.Name, n.List)
			round.next()
			if err := p.statements(ctx, n.Body); err != nil {
				return err
			}
		}
		round.tell(true)
		return nil
	})
}

func (p *performer) do(ctx context.Context, n *procedure.Do) error {
	c := &call{routine: n.Routine.Name, at: n.Pos, ports: map[string]string{}}
	before, cameFrom := map[string]any{}, map[string]string{}
	given, secret, origin := map[string]any{}, map[string]bool{}, map[string]string{}
	for i, param := range n.Routine.Params {
		if param.Port {
			c.ports[param.Name] = p.port(n.Args[i].Port)
			continue
		}
		v, err := n.Args[i].Expr.Run(ctx, p.values)
		if err != nil {
			return err
		}
		given[param.Name], secret[param.Name] = v, p.ofSecret(n.Args[i].Expr)
		_, origin[param.Name] = p.foreign(n.Args[i].Expr)
	}
	for name, v := range given {
		if old, ok := p.values[name]; ok {
			before[name], cameFrom[name] = old, p.origin[name]
		}
		p.give(name, v, secret[name])
		p.comes(name, origin[name])
	}
	p.calls = append(p.calls, c)
	err := p.statements(ctx, n.Routine.Body)
	p.calls = p.calls[:len(p.calls)-1]
	for name := range given {
		delete(p.values, name)
		if old, ok := before[name]; ok {
			p.values[name] = old
			p.comes(name, cameFrom[name])
		}
	}
	return err
}
