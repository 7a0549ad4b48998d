package perform

import (
	"context"
	"errors"
	"fmt"
	"maps"

	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// PacketSeen is what those who watch are told of a packet that was said or heard.
type PacketSeen struct {
	Name   string
	Fields []Value
}

// sayText is what a statement says.
func (p *performer) sayText(ctx context.Context, n *procedure.Say) (string, error) {
	if n.Packet == nil {
		return n.Text.Fill(p.evaluator(ctx, n.Exprs))
	}
	fields := map[string]any{}
	for name, e := range n.Packet.Given {
		v, err := e.Run(ctx, p.values)
		if err != nil {
			return "", err
		}
		fields[name] = v
	}
	text, err := n.Packet.Pattern.Build(func(name, before string) (any, error) {
		e := n.Packet.Made[name]
		if e == nil {
			return fields[name], nil
		}
		fields[phrasebook.Before] = before
		v, err := e.Run(ctx, fields)
		fields[name] = v
		return v, err
	})
	if err != nil {
		return "", fmt.Errorf("the packet %s cannot be made: %w", n.Packet.Name, err)
	}
	return text, nil
}

// tookPacket keeps the fields of a packet, tells them, and fails if one is not what it is
// made of.
func (p *performer) tookPacket(ctx context.Context, port string, n *procedure.PacketUse, h dialog.Heard) error {
	fields, ok := n.Pattern.Fields([]byte(h.Text))
	if !ok {
		return errors.New("the packet that was heard is not whole") // its bytes were matched before
	}
	seen := PacketSeen{Name: n.Name}
	values := map[string]any{}
	for _, f := range fields {
		p.give(f.Name, f.Value, false)
		p.comes(f.Name, "heard")
		_, p.hexed[f.Name] = f.Value.(int)
		values[f.Name] = f.Value
		seen.Fields = append(seen.Fields, Value{f.Name, record.Encodable(p.mask.Value(f.Value)), p.hexed[f.Name]})
	}
	p.emit(record.Event{Kind: record.Heard, Port: port, Text: h.Text, Live: seen})
	for _, f := range fields {
		e := n.Made[f.Name]
		if e == nil {
			continue
		}
		with := maps.Clone(values)
		with[phrasebook.Before] = h.Text[:f.Start]
		is, err := e.Run(ctx, with)
		if err != nil {
			return fmt.Errorf("packet %s: %w", n.Name, err)
		}
		if err := p.madeOf(n, e, f.Name, f.Value, is); err != nil {
			return err
		}
	}
	return nil
}

// madeOf checks that a field came as it is made of the others.
func (p *performer) madeOf(n *procedure.PacketUse, e *procedure.Expr, field string, came, is any) error {
	check := field + " == " + e.Source
	vs := []Value{{field, p.mask.Value(came), p.hexed[field]}, {e.Source, p.mask.Value(is), p.hexed[field]}}
	outcome, why := verdict.Passed, "as the phrasebook makes the packet "+n.Name
	if came != is {
		outcome = verdict.Failed
	}
	p.emit(record.Event{Kind: record.Check, Text: check, Verdict: outcome, Why: why, Value: vs})
	if came != is {
		return &CheckFailed{Expr: check, Why: why, Values: vs}
	}
	return nil
}
