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
