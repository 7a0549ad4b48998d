package perform

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/text"
)

// What a line holds that would end it says a second command. A procedure may say such bytes itself, with char,
// unhex and the like; in a value that came from elsewhere they are never meant.

// comes keeps where a value came from: "" is the procedure itself.
func (p *performer) comes(name, from string) {
	if p.origin == nil {
		p.origin = map[string]string{}
	}
	p.origin[name] = from
}

// derived keeps that a value is made of others: what one from elsewhere brought along stays its own.
func (p *performer) derived(name string, e *procedure.Expr) {
	_, from := p.foreign(e)
	p.comes(name, from)
}

// foreign is a value that an expression reads, came from elsewhere and holds a control byte, and where from.
func (p *performer) foreign(e *procedure.Expr) (name, from string) {
	if e == nil {
		return "", ""
	}
	for _, name := range e.Names {
		if from := p.origin[name]; from != "" && text.Control(procedure.Text(p.values[name])) >= 0 {
			return name, from
		}
	}
	return "", ""
}

// oneLine refuses what would say more than one line: expressions of a text, each by its source.
func (p *performer) oneLine(ctx context.Context, exprs map[string]*procedure.Expr) error {
	for _, source := range slices.Sorted(maps.Keys(exprs)) {
		name, from := p.foreign(exprs[source])
		if name == "" {
			continue
		}
		v, err := exprs[source].Run(ctx, p.values)
		if err != nil {
			return err
		}
		said := procedure.Text(v)
		at := text.Control(said)
		if at < 0 {
			continue
		}
		shown := fmt.Sprintf(" of %q", text.Middle(said, mostShown))
		if p.secret[name] || p.mask.Hide(said) != said {
			shown = ""
		}
		return fmt.Errorf("%s, %s, holds %s: character %d%s. A line that is said ends there, and what follows would be another; say bytes says it all", name, from, text.ControlName(said[at]), len([]rune(said[:at]))+1, shown)
	}
	return nil
}

// joined tells of a ; in a value from elsewhere, which joins commands in dialect at (ITU-T V.250, 5.2.1).
func (p *performer) joined(port string, exprs map[string]*procedure.Expr) {
	for _, source := range slices.Sorted(maps.Keys(exprs)) {
		for _, name := range exprs[source].Names {
			if s, ok := p.values[name].(string); ok && p.origin[name] != "" && strings.Contains(s, ";") {
				p.emit(record.Event{Kind: record.Note, Port: port, Text: fmt.Sprintf("%s, %s, holds a ;, which joins commands unless it stands in quotes", name, p.origin[name])})
			}
		}
	}
}
