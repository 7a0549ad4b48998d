package perform

import (
	"errors"
	"strings"

	"uparrot/core/dialog"
	"uparrot/core/record"
)

// Facts are why a step has failed, as data: what was wanted, and what came in its place. What is not known or
// has no meaning is empty.
type Facts struct {
	File      string   `json:"file,omitempty"`
	Line      int      `json:"line,omitempty"`
	Statement string   `json:"statement,omitempty"` // as written
	Port      string   `json:"port,omitempty"`
	Said      string   `json:"said,omitempty"`   // the line said last
	Wanted    string   `json:"wanted,omitempty"` // what must come or be true
	Heard     []string `json:"heard,omitempty"`  // what came: lines, packets as bytes, or values
	Reason    string   `json:"reason"`           // both in a line
}

// FactsOf are those of an error of a step; nil if there is none.
func FactsOf(err error) *Facts {
	if err == nil {
		return nil
	}
	f := &Facts{Reason: Reason(err)}
	if at, ok := errors.AsType[*Failure](err); ok {
		f.File, f.Line, f.Statement = at.File, at.Line, strings.TrimSpace(at.Text)
	}
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		f.Port, f.Said, f.Wanted = m.Port, m.Said, m.Wanted
		f.Heard = append(append(f.Heard, m.Heard...), m.Packets...)
		if m.Rest != "" && len(m.Packets) == 0 {
			f.Heard = append(f.Heard, m.Rest)
		}
	}
	if r, ok := errors.AsType[*dialog.Refused](err); ok {
		f.Port, f.Said, f.Heard = r.Port, r.Said, []string{r.Heard}
	}
	if b, ok := errors.AsType[*dialog.Busy](err); ok {
		f.Port, f.Said, f.Wanted = b.Port, b.With, b.Wanted
	}
	if u, ok := errors.AsType[*dialog.Unwanted](err); ok {
		f.Port, f.Wanted, f.Heard = u.Port, "not "+u.Pattern, []string{u.Heard}
	}
	if c, ok := errors.AsType[*CheckFailed](err); ok {
		f.Wanted = c.Expr
		for _, v := range c.Values {
			f.Heard = append(f.Heard, v.Name+" = "+show(v.Value))
		}
	}
	if l, ok := errors.AsType[*LimitFailed](err); ok {
		f.Wanted, f.Heard = record.WithUnit(l.Result.Range(), l.Result.Unit), []string{record.WithUnit(l.Result.Value.String(), l.Result.Unit)}
	}
	return f
}

// facts are those of an error, with secrets hidden.
func (p *performer) facts(err error) *Facts {
	f := FactsOf(err)
	for _, text := range []*string{&f.Statement, &f.Said, &f.Wanted, &f.Reason} {
		*text = p.mask.Hide(*text)
	}
	for i := range f.Heard {
		f.Heard[i] = p.mask.Hide(f.Heard[i])
	}
	return f
}
