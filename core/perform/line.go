package perform

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/uart"
)

// Line is how a module is spoken to from a step on: how its port is set, and its power.
type Line struct {
	record.ChangedLine
	Power string // PowerOn or PowerOff of package procedure, where that was switched
}

// change is what a line statement changes, with its values, at a port that is set as it is by now.
func (p *performer) change(ctx context.Context, n *procedure.SetLine, now uart.Line) (c record.ChangedLine, err error) {
	c = record.ChangedLine{Speed: now.Speed, Frame: now.Frame, Ending: n.Setup.Ending, Dialect: n.Setup.Dialect}
	if n.Speed != nil {
		if p.ofSecret(n.Speed) {
			return c, errors.New("a speed is shown, and this one is made of a secret")
		}
		if c.Speed, err = p.whole(ctx, n.Speed, uart.MinSpeed, uart.MaxSpeed); err != nil {
			return c, err
		}
	}
	if n.Setup.Frame != nil {
		c.Frame = *n.Setup.Frame
	}
	for _, s := range n.Signals {
		if c.Signals == nil {
			c.Signals = map[string]bool{}
		}
		c.Signals[s.Line.String()] = s.On
	}
	return c, nil
}

func (p *performer) line(ctx context.Context, n *procedure.SetLine) error {
	name := p.port(n.Port)
	if n.Reopen {
		if err := p.reopen(ctx, name, n.Within); err != nil {
			return err
		}
	}
	d := p.dialogs[name]
	if p.acts(name); !n.Reopen { // what a port that was opened anew has brought is newer
		d.Act(true)
	}
	d.ForgetEcho()
	c, err := p.change(ctx, n, d.Port().Line())
	if err != nil {
		return err
	}
	done, err := p.apply(name, c, n.Speed != nil || n.Setup.Frame != nil)
	if err != nil {
		return err
	}
	if n.Break > 0 {
		if err := port.Break(d.Port(), n.Break); err != nil {
			return err
		}
		done = append(done, fmt.Sprintf("break of %v", n.Break))
	}
	if n.Reopen {
		done = append(done, "opened again")
	}
	p.changed(name, done, c)
	return nil
}

// apply sets a port, and tells in words what it has set.
func (p *performer) apply(name string, c record.ChangedLine, line bool) (done []string, err error) {
	d := p.dialogs[name]
	dev := d.Port()
	if _, ok := p.before[name]; !ok {
		p.before[name] = dev.Line()
	}
	if line {
		to := dev.Line()
		to.Speed, to.Frame = c.Speed, c.Frame
		if err := errors.Join(dev.Drain(), dev.SetLine(to)); err != nil {
			return nil, err
		}
		done = append(done, to.String())
	}
	if c.Ending != phrasebook.EndingNotSaid {
		d.Configure(func(to *dialog.Config) { to.Ending = c.Ending })
		done = append(done, "ending "+c.Ending.String())
	}
	if c.Dialect != phrasebook.DialectNotSaid {
		d.Configure(func(to *dialog.Config) { to.Dialect = c.Dialect })
		done = append(done, "dialect "+c.Dialect.String())
	}
	for _, word := range slices.Sorted(maps.Keys(c.Signals)) {
		s, err := uart.ParseSignal(strings.ToLower(word))
		if err != nil {
			return nil, err
		}
		if !slices.Contains(p.signals[name], s) {
			p.signals[name] = append(p.signals[name], s)
		}
		if err := port.SetSignal(dev, s, c.Signals[word]); err != nil {
			return nil, err
		}
		done = append(done, fmt.Sprintf("%s %s", s, map[bool]string{true: "on", false: "off"}[c.Signals[word]]))
	}
	return done, nil
}

func (p *performer) changed(name string, what []string, c record.ChangedLine) {
	p.emit(record.Event{Kind: record.Changed, Port: name, Text: strings.Join(what, ", "), Value: c})
}

// bringBack brings ports to how a step that is left out had set them.
func (p *performer) bringBack(ctx context.Context, s *procedure.Step) error {
	earlier := p.run.Before[s.Title]
	for _, name := range slices.Sorted(maps.Keys(earlier.Lines)) {
		to := earlier.Lines[name]
		if err := p.openFor(ctx, &procedure.SetLine{Port: name}); err != nil {
			return err
		}
		if to.Power != "" && p.unlit[name] != (to.Power == procedure.PowerOff) {
			if p.run.Operator == nil && p.run.Stations[name].Supply == nil {
				return fmt.Errorf("step %q had switched the power of %s %s, which needs a person", s.Title, name, to.Power)
			}
			if err := p.supply(ctx, name, to.Power == procedure.PowerOn); err != nil {
				return err
			}
		}
		now := p.dialogs[name].Port().Line()
		done, err := p.apply(name, to.ChangedLine, to.Speed != 0 && (to.Speed != now.Speed || to.Frame.Filled() != now.Frame.Filled()))
		if err != nil {
			return fmt.Errorf("%s cannot be set as step %q had set it: %w", name, s.Title, err)
		}
		if len(done) > 0 {
			p.changed(name, append(done, fmt.Sprintf("as step %q had set it", s.Title)), to.ChangedLine)
		}
	}
	return nil
}
