package procedure

import (
	"fmt"
	"slices"
	"strings"

	"github.com/expr-lang/expr/types"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
)

// readGet reads get PORT NAME as VALUE.
func (p *parser) readGet(l *line, at Pos) {
	const form = "Write: get radio channel as now, with a name of several words in quotes."
	n, ok := p.settingOf(l, at, form)
	if !ok {
		return
	}
	if !l.takeWord("as") {
		p.mistake(l.here(), "wanted as and the name of a value", form)
		return
	}
	name, nameAt := l.peekWord(), l.here()
	if old, known := p.values.find(name); known && old.capture {
		l.word() // may be taken anew
	} else if name, nameAt, ok = p.newName(l, "value"); !ok {
		return
	}
	p.over(l)
	n.Gets = name
	if way, is := p.wayOf(n); is {
		if !way.Readable() {
			p.mistake(at, fmt.Sprintf("nothing tells how %q is read", n.Name), fmt.Sprintf("Write read and answer in its table in %s.", p.bookOf(n.Port).File))
			return
		}
		p.expand(l, n, way.Statements(p.dialectOf(n.Port), n.Port, name))
	}
	if _, known := p.values.find(name); !known {
		p.values.add(name, value{what: "a capture", typ: types.Any, capture: true, at: nameAt})
	} else {
		v := p.values.values[name] // the statements have given it, which stand nowhere
		p.note(Use{Pos: nameAt, Name: name, Kind: ValueUse, Gives: true, Type: typeWord(v.typ), What: v.what, bind: v.bind})
	}
	p.put(n)
}

// readSet reads set PORT NAME = EXPRESSION.
func (p *parser) readSet(l *line, at Pos) {
	const form = "Write: set radio channel = 41, with a name of several words in quotes."
	n, ok := p.settingOf(l, at, form)
	if !ok {
		return
	}
	if !l.take("=") {
		p.mistake(l.here(), "wanted = and the value", form)
		return
	}
	text, offset := l.rest()
	if n.Value, _ = p.compile(l, text, offset, false); n.Value == nil {
		return
	}
	if book := p.bookOf(n.Port); book != nil {
		s, is := book.Setting(n.Name)
		switch {
		case !is:
			p.mistake(at, fmt.Sprintf("%q tells what the module is, and cannot be set", n.Name), "")
			return
		case !s.Writable():
			p.mistake(at, fmt.Sprintf("nothing tells how %q is written", n.Name), fmt.Sprintf("Write write = \"...\" in its table in %s, if it can be.", book.File))
			return
		}
		if _, plain := number(text); !plain && !pattern.IsName(text) {
			text = "(" + text + ")"
		}
		p.expand(l, n, s.WriteStatements(p.dialectOf(n.Port), n.Port, text, true))
	}
	p.put(n)
}

// settingOf takes a port and the name of a setting.
func (p *parser) settingOf(l *line, at Pos, form string) (n *SettingUse, ok bool) {
	n = &SettingUse{Pos: at}
	if n.Port, ok = p.settingPort(l); !ok {
		return n, false
	}
	nameAt := l.here()
	if n.Name, ok = l.quoted(); !ok {
		n.Name, nameAt = l.word()
	}
	if n.Name == "" {
		p.mistake(nameAt, "wanted the name of a setting", form)
		return n, false
	}
	use := Use{Pos: nameAt, Name: n.Name, Kind: SettingUseOf, Port: n.Port}
	p.note(use)
	use.Pos = inQuotes(nameAt)
	p.note(use)
	book := p.portBook(n.Port, at)
	if book == nil {
		return n, p.file.Late
	}
	if _, is := p.wayOf(n); !is {
		p.mistake(nameAt, fmt.Sprintf("%s has no setting %q", book.File, n.Name), source.DidYouMean(n.Name, settingNames(book)))
		return n, false
	}
	return n, true
}

// settingPort takes the port whose settings are meant, which may be left out if there is one.
func (p *parser) settingPort(l *line) (string, bool) {
	w := l.peekWord()
	if at := l.here(); p.isPort(w) {
		l.word()
		p.portUse(w, at)
		return w, true
	}
	if behind := *l; len(p.file.Ports) == 1 { // then it may be left out
		_, at := behind.word()
		if next := behind.peekWord(); w != "" && next != "" && next != "as" && next != "match" {
			p.mistake(at, fmt.Sprintf("there is no port %q", w), source.DidYouMean(w, p.portNames()))
			return "", false
		}
	} else {
		behind := *l
		_, at := behind.word()
		p.mistake(at, fmt.Sprintf("there is no port %q", w), source.DidYouMean(w, p.portNames()))
		return "", false
	}
	p.used[p.file.Ports[0].Name] = true
	return p.file.Ports[0].Name, true
}

// portBook is the phrasebook of a port; nil if only the bench names one, or it was told why
// there can be none.
func (p *parser) portBook(port string, at Pos) *phrasebook.Phrasebook {
	book := p.bookOf(port)
	switch {
	case book != nil:
	case p.routine != nil && !p.declared(port):
		p.mistake(at, port+" is a parameter: nothing tells which phrasebook its port has", "Write get, set and settings at a port that the header names.")
	default:
		p.file.Late = true
	}
	return book
}

// settingNames are the names of what can be got.
func settingNames(book *phrasebook.Phrasebook) []string {
	var names []string
	for _, s := range book.Settings {
		names = append(names, s.Name)
	}
	for _, i := range book.Identity {
		names = append(names, i.Name)
	}
	return names
}

// wayOf is how a setting is read, as the phrasebook of its port says; false if that is not
// known, or has none of its name.
func (p *parser) wayOf(n *SettingUse) (phrasebook.Way, bool) {
	book := p.bookOf(n.Port)
	if book == nil {
		return phrasebook.Way{}, false
	}
	if s, ok := book.Setting(n.Name); ok {
		return s.Way(), true
	}
	for _, i := range book.Identity {
		if i.Name == n.Name {
			return i.Way(), true
		}
	}
	return phrasebook.Way{}, false
}

func (p *parser) portNames() []string {
	var names []string
	for _, port := range p.file.Ports {
		names = append(names, port.Name)
	}
	return names
}

func (p *parser) declared(port string) bool {
	for _, name := range p.portNames() {
		if name == port {
			return true
		}
	}
	return false
}

// dialectOf is how a port is spoken to, as far as it is known here.
func (p *parser) dialectOf(port string) phrasebook.Dialect {
	for _, decl := range p.file.Ports {
		if decl.Name == port {
			if s := decl.Setup.Or(p.bookOf(port).Setup()); s.Dialect != phrasebook.DialectNotSaid {
				return s.Dialect
			}
		}
	}
	return phrasebook.Lines
}

// expand reads the statements that reading or writing a setting comes to, between those that
// the phrasebook wants round it. Their mistakes are told at the statement itself.
func (p *parser) expand(l *line, n *SettingUse, does []string) {
	book := p.bookOf(n.Port)
	n.Enter = p.statements(l, n.Pos, book.Round.Statements("enter", n.Port))
	n.Body = p.statements(l, n.Pos, does)
	n.Leave = p.statements(l, n.Pos, book.Round.Statements("leave", n.Port))
}

// statements reads statements that stand in no file.
func (p *parser) statements(of *line, at Pos, texts []string) (body []Node) {
	b := &block{word: "setting", at: at, body: &body, made: true}
	p.blocks = append(p.blocks, b)
	for _, text := range texts {
		l := &line{file: of.file, number: of.number, text: text, stands: &at}
		w, _ := l.word()
		known := find(inBlock, w)
		if known == nil {
			p.mistake(at, fmt.Sprintf("the phrasebook wants %q done, and %q is no statement", text, w), "Mend it there.")
			continue
		}
		known.read(p, l, at)
	}
	for p.block() != b { // a block that was begun there and is open still
		p.mistake(at, "what the phrasebook wants done has a block without an end", "Mend it there.")
		p.blocks = p.blocks[:len(p.blocks)-1]
	}
	p.blocks = p.blocks[:len(p.blocks)-1]
	return body
}

// CheckBook says what is wrong with a phrasebook beyond what it says of itself: what can be found only
// where its statements and expressions are read as those of a procedure.
func CheckBook(pb *phrasebook.Phrasebook) (mistakes, warnings source.Mistakes) {
	mistakes, warnings = CheckSettings(pb)
	return slices.Concat(CheckPackets(pb), CheckReadings(pb), mistakes), warnings
}

// CheckSettings says what is wrong with how settings are read and written, and which can be
// written and not be read back.
func CheckSettings(pb *phrasebook.Phrasebook) (mistakes, warnings source.Mistakes) {
	for i := range pb.Settings {
		s := &pb.Settings[i]
		if s.Writable() && !s.Way().Readable() && !s.Secret {
			w := s.At
			w.What, w.Mend = fmt.Sprintf("setting %s can be written, and nothing tells how it is read back", s.Name), "Add read and answer, if the module can tell it."
			warnings = append(warnings, w)
		}
		mistakes = append(mistakes, checkWay(pb, s.Name, s.At, s.Way(), s)...)
	}
	for _, i := range pb.Identity {
		mistakes = append(mistakes, checkWay(pb, i.Name, i.At, i.Way(), nil)...)
	}
	return mistakes, warnings
}

// checkWay has the statements of a setting read as a procedure would.
func checkWay(pb *phrasebook.Phrasebook, name string, at source.Mistake, way phrasebook.Way, s *phrasebook.Setting) source.Mistakes {
	var b strings.Builder
	fmt.Fprintf(&b, "procedure \"check\"\nport x\nstep \"s\"\n")
	quoted := `"` + strings.ReplaceAll(name, `"`, `\"`) + `"`
	if way.Readable() {
		fmt.Fprintf(&b, "get x %s as got\n", quoted)
	}
	if s != nil && s.Writable() {
		v := "1"
		if s.Type == "text" {
			v = `"x"`
		}
		fmt.Fprintf(&b, "set x %s = %s\n", quoted, v)
	}
	b.WriteString("check true\nend\n")
	_, err := ParseWith(pb.File, b.String(), map[string]*phrasebook.Phrasebook{"x": pb})
	found, ok := err.(source.Mistakes)
	if !ok {
		return nil
	}
	at.What, at.Mend = fmt.Sprintf("setting %s: %s", name, found[0].What), found[0].Mend
	return source.Mistakes{at}
}

// Identifies reports whether a procedure takes the unit's name from the module.
func Identifies(f *File) bool {
	var in func(list []Node) bool
	in = func(list []Node) bool {
		for _, n := range list {
			if note, ok := n.(*NoteValue); ok && note.Identity {
				return true
			}
			for _, b := range Bodies(n) {
				if in(b.Body) {
					return true
				}
			}
		}
		return false
	}
	for _, s := range f.Steps {
		if in(s.Body) {
			return true
		}
	}
	return false
}
