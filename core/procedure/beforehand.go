package procedure

import (
	"fmt"
	"slices"
	"strings"

	"uparrot/core/phrasebook"
)

// Beforehand are what statements at ports that are set so cannot do, in words, with the statement: a login
// where nothing says what asks for a name, and frames of a link that are too short. A port whose setup is not
// known is left out.
func (f *File) Beforehand(list []Node, setup func(port string) (s phrasebook.Setup, carrier, known bool), tell func(n Node, what string)) {
	for _, n := range list {
		switch n := n.(type) {
		case *LogIn:
			if s, _, known := setup(n.Port); known && n.Lacks(s) != "" {
				tell(n, n.Lacks(s))
			}
		case *Link:
			for _, end := range []string{n.A, n.B} {
				s, carrier, known := setup(end)
				if !known || n.Size == 0 {
					continue
				}
				if least := s.LeastFrame(carrier); n.Size < least {
					tell(n, fmt.Sprintf("a frame of %d bytes is too short for %s: the least is %d", n.Size, end, least))
					break
				}
			}
		}
		for _, b := range Bodies(n) {
			f.Beforehand(b.Body, setup, tell)
		}
	}
}

// warnBeforehand warns of that as far as the header and the phrasebooks tell. The bench may tell more, so where
// the header names no phrasebook a frame is held against the least of all.
func (p *parser) warnBeforehand() {
	setup := func(port string) (phrasebook.Setup, bool, bool) {
		for _, decl := range p.file.Ports {
			if decl.Name == port {
				return decl.Whole(), decl.Phrasebook == nil || decl.Phrasebook.Carrier != nil, true
			}
		}
		return phrasebook.Setup{}, false, false // a name that a routine has for one
	}
	for _, s := range p.file.Steps {
		p.joinsIn(s.Body)
		p.file.Beforehand(s.Body, setup, func(n Node, what string) {
			mend := "Unless the bench says it for the port."
			if _, frames := n.(*Link); frames {
				mend = "Leave size out, or make it greater."
			}
			p.warning(n.At(), what, mend)
		})
	}
}

// joinsIn warns of a text input with a ; in it that is said in dialect at: that joins commands (ITU-T V.250,
// 5.2.1).
func (p *parser) joinsIn(list []Node) {
	for _, n := range list {
		if say, is := n.(*Say); is && p.setupOf(say.Port).Dialect == phrasebook.AT {
			for _, e := range exprs(say.Reads()) {
				p.joins(e)
			}
		}
		for _, b := range Bodies(n) {
			p.joinsIn(b.Body)
		}
	}
}

func (p *parser) joins(e *Expr) {
	if e == nil {
		return
	}
	for _, in := range p.file.Inputs {
		if in.Type == "text" && in.Default != nil && strings.Contains(*in.Default, ";") && slices.Contains(e.Names, in.Name) {
			p.warning(in.Pos, "a ; in "+in.Name+" joins commands in dialect at, unless it stands in quotes", "Leave it out, or say it in quotes: \"{"+in.Name+"}\".")
		}
	}
}
