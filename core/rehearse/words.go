package rehearse

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"strconv"
	"strings"

	"uparrot/core/bench"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// refused reports whether an answer holds a refusal.
func (m *maker) refused(answer []byte) bool {
	for _, line := range bytes.FieldsFunc(answer, func(r rune) bool { return r == '\r' || r == '\n' }) {
		if string(line) == "ERROR" && m.book.Dialect == phrasebook.AT {
			return true
		}
		for _, p := range m.book.Refusals() {
			if _, is := p.Match(bytes.TrimSpace(line)); is {
				return true
			}
		}
	}
	return false
}

// identities are modules that say that they are another.
func (m *maker) identities() (all []*mutant) {
	if !m.lines {
		return nil
	}
	for _, id := range m.book.Identity {
		if id.Read == "" {
			continue
		}
		name := "another " + id.Name
		if record.IsSerial(id.Name) {
			name = "the module before is plugged in still"
		}
		x := &mutant{kind: ofIdentity, name: name, port: m.port, about: id.Name, anyway: true}
		all = append(all, x)
		p, err := pattern.Compile(id.Answer)
		if err != nil {
			continue // it was checked when read
		}
		for i, s := range m.said {
			if string(s) != id.Read {
				continue
			}
			for _, l := range bytes.FieldsFunc(m.answers[i], func(r rune) bool { return r == '\r' || r == '\n' }) {
				caps, is := p.Match(l)
				if !is {
					continue
				}
				value := ""
				for _, c := range caps {
					if c.Name == "value" {
						value = fmt.Sprint(c.Value)
					}
				}
				if other := otherIdentity(value); value != "" && other != value {
					x.touched, x.step = true, m.steps[i]
					x.mend = &mend{Step: m.steps[i], Lines: m.identified(id.Name, value)}
					x.make = func() (tamper, *trigger) {
						on := &trigger{}
						return &rewrittenAnswer{after: id.Read, do: replaced(value, other), trigger: on}, on
					}
				}
			}
		}
	}
	return all
}

// identified are lines that hold what a module says of itself against what it is to be.
func (m *maker) identified(name, value string) []string {
	as := "the_" + strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToLower(name))
	if strings.ContainsAny(name, " -") {
		name = strconv.Quote(name)
	}
	return []string{fmt.Sprintf("get %s %s as %s", m.port, name, as), fmt.Sprintf("check string(%s) == %q", as, value)}
}

// otherIdentity is what another module would say: older firmware, another number.
func otherIdentity(value string) string {
	for i := 0; i < len(value); i++ { // the first digit that can be less
		if c := value[i]; c > '0' && c <= '9' {
			return value[:i] + string(c-1) + value[i+1:]
		}
	}
	return value + "x"
}

// commands are modules that answer as they should to a line that they do not obey, and that tell of
// a refusal as of a success, and the other way round.
func (m *maker) commands() (all []*mutant) {
	was := m.b.was(m.port)
	seen := map[string]bool{}
	asks := map[string]bool{} // packets that only ask
	if !m.lines {
		for _, set := range m.book.Settings {
			if way := set.Way(); way.Readable() {
				for _, said := range m.saidBy(way.Statements(m.Stations[m.port].Setup.Dialect, m.port, "it")) {
					asks[string(said)] = true
				}
			}
		}
	}
	success := m.success()
	refusal := m.refusal()
	if success != nil && len(m.said) > 0 {
		all = append(all, &mutant{kind: ofIdentity, name: "says yes to everything", port: m.port, step: m.steps[0], about: "another module", touched: true, anyway: true, make: func() (tamper, *trigger) {
			on := &trigger{}
			return &acceptsAll{answer: success, trigger: on}, on
		}})
	}
	for i, s := range m.said {
		line := string(s)
		if seen[line] || m.queries(line) || asks[line] {
			continue
		}
		seen[line] = true
		shown := line
		if !m.lines && bytes.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' }) {
			shown = fmt.Sprintf("% X", s)
		}
		if m.refused(m.answers[i]) {
			if success != nil {
				all = append(all, &mutant{kind: ofAnswers, name: "a refusal answered with success", port: m.port, about: shown, step: m.steps[i], touched: true, anyway: true, mend: m.refusedWith(line, m.answers[i], m.steps[i]), make: func() (tamper, *trigger) {
					on := &trigger{}
					return &instead{line: line, answer: success, trigger: on}, on
				}})
			}
			continue
		}
		if refusal != nil && len(m.answers[i]) > 0 {
			all = append(all, &mutant{kind: ofAnswers, name: "refused in place of done", port: m.port, about: shown, step: m.steps[i], touched: true, make: func() (tamper, *trigger) {
				on := &trigger{}
				return &instead{line: line, answer: refusal, trigger: on}, on
			}})
		}
		if m.writes[line] {
			continue
		}
		all = append(all, &mutant{kind: ofAnswers, name: "answered and not done", port: m.port, about: shown, step: m.steps[i], touched: true, replays: line, hidden: len(m.b.state) == 0, why: "the phrasebook tells no settings", make: func() (tamper, *trigger) {
			on := &trigger{}
			return &instead{line: line, was: was, trigger: on}, on
		}})
	}
	return all
}

// refusedWith is the line that waits for the refusal that came, behind the one that was refused.
func (m *maker) refusedWith(line string, answer []byte, step string) *mend {
	say := m.sayOf(line, step)
	if say == nil {
		return nil
	}
	for _, l := range bytes.FieldsFunc(answer, func(r rune) bool { return r == '\r' || r == '\n' }) {
		if m.refused(l) {
			return &mend{Step: step, After: say.Line, Lines: []string{fmt.Sprintf("hear %s: %s", m.port, bytes.TrimSpace(l))}}
		}
	}
	return nil
}

// sayOf is the statement that has said a line in a step, as far as what it was made of is known
// without a run; nil if that cannot be told.
func (m *maker) sayOf(line, step string) (found *procedure.Say) {
	values := maps.Clone(m.Values)
	for _, l := range m.File.Lets {
		if v, err := l.Expr.Run(context.Background(), values); err == nil { // else it is said otherwise
			values[l.Name] = v
		}
	}
	for _, s := range m.File.Steps {
		if s.Title != step {
			continue
		}
		walk(s.Body, func(n procedure.Node) {
			say, ok := n.(*procedure.Say)
			if !ok || say.Port != m.port || say.Packet != nil {
				return
			}
			text, err := say.Text.Fill(func(source string) (string, error) {
				v, err := say.Exprs[source].Run(context.Background(), values)
				return procedure.Text(v), err
			})
			if err == nil && text == line {
				found = say
			}
		})
	}
	return found
}

// queries reports whether a line only asks.
func (m *maker) queries(line string) bool {
	for _, set := range m.book.Settings {
		if set.Read == line {
			return true
		}
	}
	for _, id := range m.book.Identity {
		if id.Read == line {
			return true
		}
	}
	return m.book.Dialect == phrasebook.AT && (line == "AT" || strings.HasSuffix(line, "?"))
}

// success is what ends an answer as it should; nil if nothing is known to.
func (m *maker) success() []byte {
	if !m.lines {
		return nil
	}
	switch finals := m.book.Finals(); {
	case len(finals) > 0 && finals[0].Example(nil) != "":
		return []byte("\r\n" + finals[0].Example(nil) + "\r\n")
	case m.book.Dialect == phrasebook.AT:
		return []byte("\r\nOK\r\n")
	}
	return nil
}

// refusal is what says no; nil if nothing is known to.
func (m *maker) refusal() []byte {
	if !m.lines {
		return nil
	}
	if text := m.book.Refuse(m.book.Refusal.Unknown); text != "" {
		return []byte("\r\n" + text + "\r\n")
	}
	if m.book.Dialect == phrasebook.AT {
		return []byte("\r\nERROR\r\n")
	}
	return nil
}

// strangers are families that speak lines and that speak packets: one of them is there in the place
// of another.
var strangers = map[bool][]string{true: {"curlew", "dunlin", "redshank"}, false: {"plover", "fieldfare"}}

// stranger is a module of another family in the place of this one.
func (m *maker) stranger() []*mutant {
	own := m.Modules[m.port]
	if m.Do != nil || len(m.said) == 0 {
		return nil
	}
	for _, family := range strangers[m.lines] {
		if strings.EqualFold(family, own.Family) || strings.EqualFold(family, m.book.Family) || own.Fed != nil {
			continue
		}
		other := bench.Standin{Name: own.Name, Family: family, Line: own.Line, Place: own.Place}
		return []*mutant{{kind: ofIdentity, name: "is of another family", port: m.port, step: m.steps[0], about: "another module", touched: true, anyway: true, module: &other, make: func() (tamper, *trigger) {
			on := &trigger{n: 1}
			return &unchanged{trigger: on}, on
		}}}
	}
	return nil
}
