package perform

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// longestNote is how many bytes a text has at most that is kept as a value: longer ones
// belong into a file.
const longestNote = 1000

// noteValue keeps a value without limits. One that names the unit does so from then on.
func (p *performer) noteValue(ctx context.Context, n *procedure.NoteValue) error {
	if p.ofSecret(n.Expr) {
		return errors.New("a note shows its value in every report, and this one is made of a secret")
	}
	v, err := n.Expr.Run(ctx, p.values)
	if err != nil {
		return err
	}
	what, unit, err := p.named(ctx, &n.Measure)
	if err != nil {
		return err
	}
	m := record.Measurement{What: what, Unit: unit, Verdict: verdict.Measured, Value: notANumber}
	switch v := v.(type) {
	case int:
		m.Value = record.Number(v)
	case float64:
		if m.Value = record.Number(v); v != v {
			return fmt.Errorf("%s is no number (NaN), so it is no measurement", n.Expr.Source)
		}
	case string, bool:
		text := fmt.Sprint(v)
		m.Text = &text
	default:
		return fmt.Errorf("%s is %s, neither a number nor a text", n.Expr.Source, p.mask.Hide(show(v)))
	}
	if n.Identity {
		text := strings.TrimSpace(procedure.Text(v))
		if m.Text, m.Value, m.Identity = &text, notANumber, true; text == "" {
			return fmt.Errorf("%s is empty: it names no unit", n.Expr.Source)
		}
	}
	if m.Text != nil {
		if len(*m.Text) > longestNote {
			return fmt.Errorf("the text has %d bytes, and a note has %d at most: keep it in a file, with keep", len(*m.Text), longestNote)
		}
		if hidden := p.mask.Hide(*m.Text); hidden != *m.Text {
			m.Text = &hidden
		}
	}
	if named := p.run.Unit; m.Identity && named != "" && *m.Text != named { // it fails, and is filed as what it is said to be
		m.Identity = false
	}
	if p.several() && !n.Identity {
		p.sample(n, m, p.cameAt())
		return nil
	}
	p.measured(m)
	if n.Identity {
		return p.identified(ctx, *m.Text)
	}
	return nil
}

// identified takes the module to be the unit that it says it is. It leaves the step
// untested where another was named, since the wrong module says nothing of the one that is
// meant, and asks about one that has passed before today. Of either nothing more is told to it.
func (p *performer) identified(ctx context.Context, unit string) error {
	if named := p.run.Unit; named != "" && named != unit {
		return p.notIt(fmt.Sprintf("the module says that it is %s, and the run is of unit %s", unit, named))
	}
	p.res.Unit = unit
	if p.run.Passed == nil {
		return nil
	}
	before, err := p.run.Passed(ctx, unit)
	if err != nil {
		p.emit(record.Event{Kind: record.Told, Text: fmt.Sprintf("Whether %s has passed this before today is not known: %v", unit, err)})
		return nil
	}
	if before == "" {
		return nil
	}
	said := fmt.Sprintf("%s has passed this before today, %s: the module before may be plugged in still", unit, before)
	if p.run.Operator == nil || !p.run.Asks {
		p.emit(record.Event{Kind: record.Told, Text: said})
		return nil
	}
	again, err := p.run.Operator.Confirm(ctx, said+". Is it meant to be tested again?")
	if err != nil {
		return err
	}
	p.told(said, map[bool]string{true: "yes", false: "no"}[again])
	if !again {
		err = p.notIt(fmt.Sprintf("%s has passed before, and was not meant to be tested again", unit))
	}
	return err
}

// notIt ends the run, since the module is not the one that is meant, with why.
func (p *performer) notIt(why string) error {
	p.stranger = why
	return &Left{verdict.Untested, why}
}

// notForIt is why a step that is always performed says nothing to a module that is not the one meant: it
// would tell it a value of the unit's. It is empty where the step tells it none.
func (p *performer) notForIt(s *procedure.Step) string {
	if p.stranger == "" {
		return ""
	}
	values := map[string]bool{}
	for _, in := range p.run.Procedure.Inputs {
		values[in.Name] = true
	}
	for _, d := range p.run.Drawn {
		values[d.Name] = true
	}
	value := p.run.Procedure.Says(s.Body, values)
	if value == "" {
		return ""
	}
	return fmt.Sprintf("left out, since it says %s of the unit that is meant, and %s", value, p.stranger)
}
