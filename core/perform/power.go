package perform

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"uparrot/core/bench"
	"uparrot/core/pace"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// power gives a module power or takes it away: by the switch that the bench names for its port, or
// else by the operator's hand.
func (p *performer) power(ctx context.Context, n *procedure.Power) error {
	name := p.port(n.Port)
	off := n.For
	if s := p.run.Stations[name].Supply; off == 0 && s != nil {
		off = s.Off
	}
	if off == 0 {
		off = bench.OffFor
	}
	switch n.How {
	case procedure.PowerOn:
		return p.supply(ctx, name, true)
	case procedure.PowerOff:
		return p.supply(ctx, name, false)
	}
	if err := p.supply(ctx, name, false); err != nil {
		return err
	}
	if p.run.Stations[name].Supply != nil { // a hand takes its time
		defer p.waiting(name, "the time without power to be over", off)()
		if err := pace.For(ctx, off); err != nil {
			return err
		}
	}
	return p.supply(ctx, name, true)
}

// supply switches the power of a port.
func (p *performer) supply(ctx context.Context, name string, on bool) error {
	word := map[bool]string{true: "on", false: "off"}[on]
	if d := p.dialogs[name]; d != nil {
		p.acts("")
		d.Act(true)
		d.ForgetEcho()
	}
	s := p.run.Stations[name].Supply
	if s == nil {
		question := fmt.Sprintf("Take the power of %s away. Is it off?", name)
		if on {
			question = fmt.Sprintf("Give %s power. Is it on?", name)
		}
		return p.confirm(ctx, question)
	}
	if !on {
		p.dark(name, true) // also where it fails: which way it is then is not known
	}
	if err := p.switched(ctx, s, word); err != nil {
		return fmt.Errorf("power of %s %s, by %s: %w", name, word, s.Words(), err)
	}
	p.dark(name, !on)
	p.emit(record.Event{Kind: record.Note, Port: name, Text: fmt.Sprintf("power of %s %s, by %s", name, word, s.Words()), Value: record.Supplied{Power: word}})
	return nil
}

// dark keeps which ports have no power.
func (p *performer) dark(name string, is bool) {
	if p.unlit == nil {
		p.unlit = map[string]bool{}
	}
	p.unlit[name] = is
}

// switched says and hears what a phrasebook wants for a switch, at the port of the board: that of
// the procedure where it speaks there, else one that is opened for it.
func (p *performer) switched(ctx context.Context, s *bench.Supply, word string) (err error) {
	by := ""
	for name, st := range p.run.Stations {
		if st.Address == s.By.Address && p.dialogs[name] != nil {
			by = name
		}
	}
	if by == "" {
		release, err := s.Lock(ctx)
		if err != nil {
			return err
		}
		defer release()
		if by, err = p.lend(ctx, s.By); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, p.takeBack(by)) }()
	}
	return p.read(ctx, by, s.By.Phrasebook, s.By.Phrasebook.Switch.Statements(word, by, s.Switch))
}

// read does statements that a phrasebook has, at a port.
func (p *performer) read(ctx context.Context, port string, book *phrasebook.Phrasebook, statements []string) error {
	text := fmt.Sprintf("procedure \"power\"\nport %s\nstep \"power\"\n%s\nend\n", port, strings.Join(statements, "\n"))
	file, err := procedure.ParseWith("", text, map[string]*phrasebook.Phrasebook{port: book})
	if err != nil {
		return fmt.Errorf("the statements of %s cannot be used: %w", book.File, err)
	}
	return p.statements(ctx, file.Steps[0].Body)
}

// lend opens a port for a while that is none of the procedure's, under a name that no port of it has.
func (p *performer) lend(ctx context.Context, st *bench.Station) (string, error) {
	own := *st
	own.Name = strings.Map(func(r rune) rune {
		if r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '_'
	}, st.Name)
	if own.Name == "" || own.Name[0] >= '0' && own.Name[0] <= '9' {
		own.Name = "port_" + own.Name
	}
	for p.run.Stations[own.Name] != nil {
		own.Name += "_"
	}
	d, err := own.Open(ctx, p.run.Events, nil)
	if err != nil {
		return "", err
	}
	p.run.Stations[own.Name], p.dialogs[own.Name] = &own, d
	return own.Name, nil
}

func (p *performer) takeBack(name string) error {
	st, d := p.run.Stations[name], p.dialogs[name]
	delete(p.run.Stations, name)
	delete(p.dialogs, name)
	return st.Close(p.run.Events, d)
}

// relight gives power again to what has none at the end: a module is not left dark.
func (p *performer) relight() error {
	var errs []error
	for _, decl := range p.run.Procedure.Ports {
		if p.unlit[decl.Name] {
			ctx, cancel := context.WithTimeout(context.Background(), relightWithin)
			err := p.supply(ctx, decl.Name, true)
			if book := p.run.Stations[decl.Name].Phrasebook; err == nil && book != nil && book.Banner != nil { // whoever comes next finds it started
				if p.read(ctx, decl.Name, book, []string{fmt.Sprintf("hear %s within %v: \"%s\"", decl.Name, startsWithin, book.Banner.Heard)}) != nil {
					p.emit(record.Event{Kind: record.Note, Port: decl.Name, Text: fmt.Sprintf("%s has power again, and has not said that it started", decl.Name)})
				}
			}
			errs = append(errs, err)
			cancel()
		}
	}
	return errors.Join(errs...)
}

// relightWithin is how long that may take, and startsWithin how long a module may take to start then.
const (
	relightWithin = 15 * time.Second
	startsWithin  = 10 * time.Second
)
