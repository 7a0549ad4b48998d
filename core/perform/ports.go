package perform

import (
	"context"
	"errors"
	"fmt"

	"uparrot/core/port"
	"uparrot/core/procedure"
)

func (p *performer) open(ctx context.Context) error {
	for _, decl := range p.run.Procedure.Ports {
		s := p.run.Stations[decl.Name]
		if s == nil {
			return fmt.Errorf("the procedure's port %s has no address", decl.Name)
		}
		if s.Address == (port.Address{}) && s.Dial == nil {
			continue // it is opened when it is first spoken at
		}
		d, err := s.Open(ctx, p.run.Events, nil)
		if err != nil {
			return err
		}
		p.dialogs[decl.Name] = d
	}
	return nil
}

// openFor opens the ports of a statement that are known only now.
func (p *performer) openFor(ctx context.Context, n procedure.Node) error {
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
			text, err := p.fill(ctx, decl.At)
			if err != nil {
				return err
			}
			st := p.run.Stations[name]
			if st.Address, err = port.ParseAddress(decl.Address(text)); err != nil {
				return err
			}
			if p.dialogs[name], err = st.Open(ctx, p.run.Events, nil); err != nil {
				delete(p.dialogs, name)
				return err
			}
		}
	}
	return nil
}

func (p *performer) close() error {
	first := p.relight()
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
