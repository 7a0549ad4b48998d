package perform

import (
	"context"
	"fmt"
	"strings"

	"uparrot/core/procedure"
	"uparrot/core/record"
)

// RowsFailed is a table of which some rows are not as they must be.
type RowsFailed struct {
	Of  int        // rows there were
	Bad []RowFault // those that are not
}

// RowFault is one row and what is wrong with it.
type RowFault struct {
	Row string
	Err error
}

func (e *RowsFailed) Error() string {
	var all []string
	for _, b := range e.Bad {
		all = append(all, fmt.Sprintf("%q: %v", b.Row, b.Err))
	}
	return fmt.Sprintf("%d of %d rows: %s", len(e.Bad), e.Of, strings.Join(all, "; "))
}

// parted is a line and where it parts from what was wanted, in words.
func (p *performer) parted(line string, at int) string {
	if rest := line[at:]; rest != "" {
		return p.mask.Hide(fmt.Sprintf("%q, which parts at %q", line, rest))
	}
	return p.mask.Hide(fmt.Sprintf("%q, which ends too early", line))
}

// rows judges every row of a table; one that is bad does not stop it.
func (p *performer) rows(ctx context.Context, n *procedure.Rows) error {
	text, err := p.collected(ctx, n.Collect)
	if err != nil {
		return err
	}
	row, err := n.Row.Bind(p.evaluator(ctx, n.Exprs))
	if err != nil {
		return err
	}
	defer func(before bool) { p.inRows = before }(p.inRows)
	p.inRows = true
	lines := strings.Split(text, "\n")
	failed := &RowsFailed{}
	nearest, parts := "", -1
	for _, line := range lines {
		line = strings.Trim(line, " \t\r\x00") // as hear takes lines
		captures, ok := row.Match([]byte(line))
		if !ok {
			if at := row.Alike([]byte(line)); at > parts {
				nearest, parts = line, at
			}
			if at := row.Alike([]byte(line)); at >= 0 {
				p.emit(record.Event{Kind: record.Note, Port: p.port(n.Collect.Port), Text: fmt.Sprintf("looks like a row and is none: %s", p.parted(line, at))})
			}
			continue
		}
		failed.Of++
		p.emit(record.Event{Kind: record.Heard, Port: p.port(n.Collect.Port), Text: line})
		for _, c := range captures {
			p.give(c.Name, c.Value, false)
			p.comes(c.Name, "heard")
		}
		switch err := p.statements(ctx, n.Body); {
		case err == nil:
		case isBroken(err) || ctx.Err() != nil:
			return err
		default:
			failed.Bad = append(failed.Bad, RowFault{p.mask.Hide(line), p.scrub(err)})
		}
	}
	switch {
	case failed.Of == 0 && parts >= 0:
		return fmt.Errorf("of %d lines none is a row like %s; the nearest is %s", len(lines), n.Row, p.parted(nearest, parts))
	case failed.Of == 0:
		return fmt.Errorf("of %d lines none is a row like %s, nor begins as one", len(lines), n.Row)
	case len(failed.Bad) > 0:
		return failed
	}
	return nil
}
