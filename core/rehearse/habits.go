package rehearse

import (
	"bytes"
	"fmt"
	"slices"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
)

// habit is a way in which a good module may be: a procedure must accept it.
type habit struct {
	tries  string // what its step would have to have to accept it; "" if it is something else
	name   string
	port   string
	scene  trial
	accept string               // what would have it accepted, where it is refused
	what   string               // the measurement that is changed; "" if none is
	is     func(limitSeen) bool // ... whether it has come to what it was to be
}

// habits are the ways in which good modules may come.
func (p *Play) habits(b *baseline) (all []*habit) {
	for _, decl := range p.File.Ports {
		st := p.Stations[decl.Name]
		if st == nil {
			continue
		}
		name := decl.Name
		styled := func(what, accept string, s style) {
			all = append(all, &habit{name: what, port: name, scene: trial{style: map[string]style{name: s}}, accept: accept})
		}
		if _, there := p.Modules[name]; !there {
			continue
		}
		slow := p.shortest(name) * 9 / 10
		styled(fmt.Sprintf("answers after %v, as late as is allowed", slow), "a longer time: within, or answers within in the header", style{delay: slow, prompt: byItself(st.Phrasebook)})
		styled("answers a byte at a time", "", style{oneByte: true})
		styled("what it says comes in one piece", "", style{joined: true})
		if st.Setup.Dialect == phrasebook.Bytes {
			all = append(all, p.within(b, name)...)
			continue // it has no lines, and so no notices
		}
		styled("lines that end with LF alone", "", style{ending: "\n"})
		if st.Setup.Dialect == phrasebook.AT {
			styled("lines that end with CR alone", "", style{ending: "\r"})
		}
		styled("lines that end with CR LF", "", style{ending: "\r\n"})
		if st.Setup.Dialect != phrasebook.Console { // there it is a line of a text
			styled("an empty line before each line", "", style{blank: true})
		}
		if st.Setup.Dialect == phrasebook.AT {
			styled("what is said comes back as an echo", "", style{echo: true})
		}
		if st.Setup.Dialect == phrasebook.Console {
			styled("a prompt in colours", "prompt in the header, as it is without colours", style{colour: true})
		}
		all = append(all, &habit{name: "noise when it starts", port: name, scene: trial{before: map[string][]byte{name: []byte("\x00\xff\x83U\x1c\r\n")}}, accept: "a first step that is tried again: " + again, tries: again})
		if pb := st.Phrasebook; pb != nil && pb.Banner != nil && pb.Banner.Within > 0 {
			late := time.Duration(pb.Banner.Within) * 9 / 10
			styled(fmt.Sprintf("a start that takes %v, as long as the phrasebook allows", late), "a longer time for the first line after a restart", style{starts: late, banner: pb.Banner.Pattern})
		}
		all = append(all, p.noticed(b, name, st.Phrasebook)...)
		all = append(all, p.within(b, name)...)
	}
	return all
}

// byItself tells lines that no command has asked for: they come when they come.
func byItself(book *phrasebook.Phrasebook) func([]byte) bool {
	return func(line []byte) bool {
		if book == nil {
			return false
		}
		if book.Banner != nil {
			if _, is := book.Banner.Pattern.Match(line); is {
				return true
			}
		}
		for _, n := range book.Notices {
			if _, is := n.Pattern.Match(line); is {
				return true
			}
		}
		if book.Carrier != nil && book.Carrier.ArrivesPattern != nil {
			_, is := book.Carrier.ArrivesPattern.Match(line)
			return is
		}
		return false
	}
}

// shortest is the shortest time that is waited for at a port.
func (p *Play) shortest(port string) time.Duration {
	least := p.File.Answers
	for _, s := range p.File.Steps {
		walk(s.Body, func(n procedure.Node) {
			if h, ok := n.(*procedure.Hear); ok && h.Port == port && !h.Not && h.Within > 0 {
				least = min(least, h.Within)
			}
			if w, ok := n.(*procedure.Watch); ok && slices.Contains(procedure.PortsOf(n), port) {
				for _, poll := range w.Polls {
					least = min(least, poll.Every) // the next is not asked for before
				}
				for _, r := range w.Readings {
					if r.Hear.Within > 0 {
						least = min(least, r.Hear.Within)
					}
				}
			}
			if l, ok := n.(*procedure.LogIn); ok && l.Port == port && l.Within > 0 {
				least = min(least, l.Within/4) // its prompts come one after another
			}
			if a, ok := n.(*procedure.Any); ok && a.Within > 0 && slices.Contains(procedure.PortsOf(n), port) {
				least = min(least, a.Within)
			}
		})
	}
	return least
}

// walk visits statements and those in them.
func walk(list []procedure.Node, visit func(procedure.Node)) {
	for _, n := range list {
		visit(n)
		for _, b := range procedure.Bodies(n) {
			walk(b.Body, visit)
		}
	}
}

// noticed are notices that come before each line of a module.
func (p *Play) noticed(b *baseline, port string, book *phrasebook.Phrasebook) (all []*habit) {
	if book == nil {
		return nil
	}
	for _, n := range book.Notices {
		text := n.Pattern.Example(nil)
		if c := book.Carrier; c != nil && c.ArrivesPattern != nil {
			if _, is := c.ArrivesPattern.Match([]byte(text)); is { // a message of somebody else
				continue
			}
		}
		waited := slices.ContainsFunc(b.heard, func(e entry) bool {
			_, is := n.Pattern.Match(e.text)
			return e.port == port && is
		})
		if text == "" || waited { // what the procedure waits for is a notice no more
			continue
		}
		all = append(all, &habit{name: "the notice " + n.Name + " between all lines", port: port, scene: trial{tampers: map[string]func(*log) tamper{port: func(l *log) tamper {
			return &rewrittenAnswer{do: func(line []byte) ([][]byte, bool) {
				return [][]byte{[]byte(text), line}, l.spokenTo(port) // within an answer
			}, trigger: &trigger{}}
		}}}})
	}
	return all
}

// again is what accepts a module whose first command after power-up fails.
const again = "tries 3 every 500ms"

// firstRefused is a module that refuses the first command after it has got power.
func (p *Play) firstRefused(b *baseline) (all []*habit) {
	for _, decl := range p.File.Ports {
		st := p.Stations[decl.Name]
		if st == nil || st.Phrasebook == nil || st.Setup.Dialect != phrasebook.AT {
			continue
		}
		m := &maker{Play: p, b: b, port: decl.Name, book: st.Phrasebook, lines: true}
		said, _, _ := b.answered(decl.Name)
		if refusal := m.refusal(); refusal != nil && len(said) > 0 {
			first := string(bytes.Clone(said[0]))
			all = append(all, &habit{name: "the first command after power-up is refused", port: decl.Name, scene: trial{tampers: map[string]func(*log) tamper{decl.Name: func(*log) tamper {
				return &instead{line: first, nth: 1, answer: refusal, trigger: &trigger{}}
			}}}, accept: again + " at the first step", tries: again})
		}
	}
	return all
}
