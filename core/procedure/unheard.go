package procedure

import (
	"fmt"

	"uparrot/core/phrasebook"
)

// warnUnheard warns of two lines said one after the other where nothing tells the end of an answer: what
// comes then may answer either.
func (p *parser) warnUnheard() {
	endless := map[string]bool{}
	for _, port := range p.file.Ports {
		s := port.Whole()
		ends := len(s.Final)+len(s.Prompt)+len(s.Login)+len(s.Password) > 0 || port.Phrasebook != nil && len(port.Phrasebook.Finals()) > 0
		endless[port.Name] = s.Dialect == phrasebook.Lines && !ends
	}
	for _, s := range p.file.Steps {
		p.unheardIn(s.Body, endless)
	}
}

// unheardIn looks at statements that follow each other, and at those inside them.
func (p *parser) unheardIn(list []Node, endless map[string]bool) {
	open := map[string]bool{} // ports at which a line was said last
	for _, n := range list {
		switch n := n.(type) {
		case *Say:
			answered := n.NoAnswer || n.Restarts || n.Bytes || n.Packet != nil || n.Text.String() == ""
			if open[n.Port] && !answered {
				p.warning(n.Pos, fmt.Sprintf("two lines are said to %s without a hear between, and nothing tells where an answer ends: what comes may answer either", n.Port),
					"Hear what the first is answered, or write say "+n.Port+" without answer: TEXT, or name at the port what ends an answer, such as final \"ok\".")
			}
			open[n.Port] = endless[n.Port] && !answered
		case *Check, *Limit, *NoteValue, *Let, *Keep:
		default:
			clear(open)
		}
		if _, do := n.(*Do); do { // each would be told again
			continue
		}
		for _, b := range Bodies(n) {
			p.unheardIn(b.Body, endless)
		}
	}
}

// warnNamesakes warns of measurements of one name in different steps: the ledger and reports take them for one
// series, whatever they measure.
func (p *parser) warnNamesakes() {
	first := map[string]*Step{} // that measures something so called
	for _, s := range p.file.Steps {
		own := map[string]bool{}
		p.namesakesIn(s, s.Body, first, own)
	}
}

func (p *parser) namesakesIn(s *Step, list []Node, first map[string]*Step, own map[string]bool) {
	for _, n := range list {
		var m *Measure
		switch n := n.(type) {
		case *Limit:
			m = &n.Measure
		case *NoteValue:
			if !n.Identity {
				m = &n.Measure
			}
		}
		if m != nil && m.Title == nil && !own[m.What] {
			own[m.What] = true
			if other := first[m.What]; other != nil {
				p.warning(n.At(), fmt.Sprintf("%q is measured in step %q too: in the ledger both are one series", m.What, other.Title), "Give each a name of its own, such as one with a value in it: \"{place} "+m.What+"\".")
			} else {
				first[m.What] = s
			}
		}
		for _, b := range Bodies(n) {
			p.namesakesIn(s, b.Body, first, own)
		}
	}
}
