package procedure

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/file"
	exprparser "github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/types"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
)

// CheckPackets says what is wrong with the expressions of a phrasebook's packets.
func CheckPackets(pb *phrasebook.Phrasebook) source.Mistakes {
	var all source.Mistakes
	for i := range pb.Packets {
		_, mistakes := made(&pb.Packets[i])
		all = append(all, mistakes...)
	}
	return all
}

// CheckReadings says what is wrong with the expressions of a phrasebook's readings.
func CheckReadings(pb *phrasebook.Phrasebook) source.Mistakes {
	var all source.Mistakes
	for i := range pb.Readings {
		r := &pb.Readings[i]
		kinds, names := types.Map{paceName: types.Any}, []string{}
		for _, n := range r.Pattern.Names() {
			kinds[n.Name] = typeOf(n.Type)
			names = append(names, n.Name)
		}
		for _, name := range r.Names() {
			text := r.Values[name]
			if text == "" {
				continue
			}
			e, what := compileMade(text, kinds, names)
			if what == "" && r.Limits[name] != "" && (e.given == types.String || e.given == types.Bool) {
				what = "it has limits and is no number"
			}
			if what != "" {
				at := r.Places[name]
				at.What, at.Mend = fmt.Sprintf("reading %s, %s: %s", r.Name, name, what), "It may read "+strings.Join(names, ", ")+"."
				all = append(all, at)
			}
		}
	}
	return all
}

// made compiles the expressions of a packet: they read the bytes before the field, and its
// other fields, of those that are made the ones before it. A field that counts another's
// bytes is made of them where nothing else is said.
func made(p *phrasebook.Packet) (map[string]*Expr, source.Mistakes) {
	sources := map[string]string{}
	for length, counted := range p.Pattern.Counts() {
		if counted != "" {
			sources[length] = "len(" + counted + ")"
		}
	}
	maps.Copy(sources, p.Made)
	kinds, names := types.Map{phrasebook.Before: types.String, paceName: types.Any}, []string{phrasebook.Before}
	fields := p.Pattern.Names()
	for _, n := range fields {
		if kinds[n.Name] = typeOf(n.Type); sources[n.Name] == "" {
			names = append(names, n.Name)
		}
	}
	all := map[string]*Expr{}
	var mistakes source.Mistakes
	for _, n := range fields {
		text := sources[n.Name]
		if text == "" {
			continue
		}
		e, what := compileMade(text, kinds, names)
		if what == "" && e.given != kinds[n.Name] && e.given != types.Any {
			what = fmt.Sprintf("%s gives %v, and the field is %v", text, e.given, kinds[n.Name])
		}
		if what != "" {
			at := p.Places[n.Name]
			at.What, at.Mend = fmt.Sprintf("packet %s, %s: %s", p.Name, n.Name, what), "It may read "+strings.Join(names, ", ")+"."
			mistakes = append(mistakes, at)
		}
		all[n.Name] = e.Expr
		names = append(names, n.Name)
	}
	return all, mistakes
}

// MadeFields are the names of a packet's fields that are made of others.
func MadeFields(p *phrasebook.Packet) []string {
	all, _ := made(p)
	return slices.Sorted(maps.Keys(all))
}

// Packed are the bytes of a packet with these fields; those that are made are made anew.
func Packed(p *phrasebook.Packet, fields []pattern.Field) (string, error) {
	all, mistakes := made(p)
	if len(mistakes) > 0 {
		return "", mistakes
	}
	values := map[string]any{}
	for _, f := range fields {
		if all[f.Name] == nil {
			values[f.Name] = f.Value
		}
	}
	return p.Pattern.Build(func(name, before string) (any, error) {
		e := all[name]
		if e == nil {
			return values[name], nil
		}
		values[phrasebook.Before] = before
		v, err := e.Run(context.Background(), values)
		values[name] = v
		return v, err
	})
}

// PacketIn is the packet of a phrasebook that bytes are, whole and with what is made of its
// fields right, and the fields; nil if they are none, or may be several.
func PacketIn(pb *phrasebook.Phrasebook, b []byte) (found *phrasebook.Packet, fields []pattern.Field) {
	if pb == nil {
		return nil, nil
	}
	for i := range pb.Packets {
		p := &pb.Packets[i]
		got, ok := p.Pattern.Fields(b)
		if !ok || !madeRight(p, got, b) {
			continue
		}
		if found != nil {
			return nil, nil
		}
		found, fields = p, got
	}
	return found, fields
}

// madeRight reports whether fields are what they are made of.
func madeRight(p *phrasebook.Packet, fields []pattern.Field, b []byte) bool {
	all, mistakes := made(p)
	if len(mistakes) > 0 {
		return false
	}
	values := map[string]any{}
	for _, f := range fields {
		values[f.Name] = f.Value
	}
	for _, f := range fields {
		e := all[f.Name]
		if e == nil {
			continue
		}
		values[phrasebook.Before] = string(b[:f.Start])
		if is, err := e.Run(context.Background(), values); err != nil || is != f.Value {
			return false
		}
	}
	return true
}

// madeExpr is an expression and the type of what it gives.
type madeExpr struct {
	*Expr
	given types.Type
}

func compileMade(text string, kinds types.Map, names []string) (e madeExpr, what string) {
	tree, err := exprparser.Parse(text)
	if err == nil {
		if what, _ := unknownStandard(tree.Node); what != "" {
			return e, what
		}
		read, loops := identifiers(tree.Node)
		e.Expr = &Expr{Source: text, Loops: loops}
		for _, n := range read {
			if !slices.Contains(names, n.name) {
				return e, fmt.Sprintf("%q has no value here", n.name)
			}
			e.Names = append(e.Names, n.name)
		}
		e.Program, err = expr.Compile(text, append([]expr.Option{expr.Env(kinds)}, functions()...)...)
	}
	if err != nil {
		if fe, ok := errors.AsType[*file.Error](err); ok {
			return e, "the expression cannot be used: " + fe.Message
		}
		return e, "the expression cannot be used: " + err.Error()
	}
	e.given = resultType(e.Program)
	return e, ""
}

// packetUse takes the colon, the name of a packet and its fields.
func (p *parser) packetUse(l *line, port string) *PacketUse {
	if l.blanks(); !l.take(":") {
		p.mistake(l.here(), "wanted a colon before the packet's name", "Write: hear packet "+port+": NAME")
		return nil
	}
	book := p.bookOf(port)
	var names []string
	if book != nil {
		for _, one := range book.Packets {
			names = append(names, one.Name)
		}
	}
	name, at := l.word()
	if name == "" {
		at = l.here()
	}
	p.note(Use{Pos: at, Name: name, Kind: PacketUseOf, Port: port})
	var packet *phrasebook.Packet
	if len(names) > 0 {
		packet, _ = book.Packet(name)
	}
	switch {
	case packet == nil && len(names) == 0:
		p.mistake(at, fmt.Sprintf("no phrasebook of %s tells of packets", port), "Describe it there, in a table [[packet]], or write its bytes here: hear bytes "+port+": ...")
		return nil
	case packet == nil:
		p.mistake(at, fmt.Sprintf("%s has no packet %q", book.File, name), source.DidYouMean(name, names))
		return nil
	case packet.Pattern == nil:
		return nil
	}
	for _, n := range packet.Pattern.Names() {
		last := &p.names.uses[len(p.names.uses)-1]
		last.Fields = append(last.Fields, n.Name)
	}
	use := &PacketUse{Packet: packet, Given: map[string]*Expr{}}
	var mistakes source.Mistakes
	if use.Made, mistakes = made(packet); len(mistakes) > 0 {
		p.mistakes = append(p.mistakes, mistakes...)
		return nil
	}
	if !p.packetFields(l, use) {
		return nil
	}
	p.over(l)
	return use
}

// packetFields takes the fields in parentheses that a statement gives.
func (p *parser) packetFields(l *line, use *PacketUse) bool {
	kinds := map[string]types.Type{}
	var open []string
	for _, n := range use.Pattern.Names() {
		kinds[n.Name] = typeOf(n.Type)
		open = append(open, n.Name)
	}
	for _, a := range p.arguments(l) {
		name, text, ok := strings.Cut(a.text, "=")
		name = strings.TrimSpace(name)
		at := l.pos(a.at, len(a.text))
		switch {
		case !ok || !pattern.IsName(name):
			p.mistake(at, "wanted the name of a field and its value", fmt.Sprintf("Write: %s(%s = ...)", use.Name, strings.Join(open, " = ..., ")))
			return false
		case kinds[name] == nil:
			p.mistake(at, fmt.Sprintf("the packet %s has no field %q", use.Name, name), source.DidYouMean(name, open))
			return false
		case use.Given[name] != nil:
			p.mistake(at, name+" is given twice", "Keep one of the two.")
			return false
		case use.Made[name] != nil:
			p.mistake(at, fmt.Sprintf("%s is made of other fields: %s", name, use.Made[name].Source), "Leave it out.")
			return false
		}
		e, typ := p.compile(l, text, a.at+len(a.text)-len(text), false)
		if use.Given[name] = e; e != nil && typ != types.Any && typ != kinds[name] {
			p.mistake(at, fmt.Sprintf("%s is %v, and this is %v", name, kinds[name], typ), "")
			return false
		}
	}
	return true
}

// bookOf is the phrasebook of a port, or nil. A parameter of a routine has none.
func (p *parser) bookOf(port string) *phrasebook.Phrasebook {
	for _, decl := range p.file.Ports {
		if decl.Name == port && decl.Phrasebook != nil {
			return decl.Phrasebook
		} else if decl.Name == port {
			return p.books[port]
		}
	}
	return nil
}

// sayPacket reads what follows say packet PORT.
func (p *parser) sayPacket(l *line, s *Say) {
	if s.Packet = p.packetUse(l, s.Port); s.Packet == nil {
		return
	}
	s.Bytes, s.Text = true, &pattern.Said{}
	var missing []string
	for _, n := range s.Packet.Pattern.Names() {
		if s.Packet.Given[n.Name] == nil && s.Packet.Made[n.Name] == nil {
			missing = append(missing, n.Name)
		}
	}
	if len(missing) > 0 {
		p.mistake(s.Pos, fmt.Sprintf("the packet %s needs %s", s.Packet.Name, strings.Join(missing, ", ")), fmt.Sprintf("Write: %s(%s = ...)", s.Packet.Name, strings.Join(missing, " = ..., ")))
		return
	}
	p.put(s)
}

// hearPacket reads what follows hear packet PORT [within T]; false if that has a mistake.
func (p *parser) hearPacket(l *line, h *Hear) bool {
	if h.Packet = p.packetUse(l, h.Port); h.Packet == nil {
		return false
	}
	h.Form, h.Exprs = pattern.AnyBytes, h.Packet.Given
	counts := h.Packet.Pattern.Counts()
	for name := range h.Packet.Given {
		if counted := counts[name]; counted != "" {
			p.mistake(h.Pos, fmt.Sprintf("%s counts the bytes of %s: it cannot be wanted alone", name, counted), "Leave it out.")
			return false
		}
	}
	_, words, _ := strings.Cut(l.text, ":")
	h.Pattern = h.Packet.Pattern.Wanting("packet "+strings.TrimSpace(words), func(name string) bool { return h.Packet.Given[name] != nil })
	for _, n := range h.Packet.Pattern.Names() {
		old, ok := p.values.find(n.Name)
		switch {
		case h.Not:
		case ok && !old.capture:
			p.mistake(h.Pos, fmt.Sprintf("the packet has a field %s, which is the name of %s", n.Name, old.what), "Choose another name for that.")
			return false
		default:
			p.values.add(n.Name, value{what: "a capture", typ: typeOf(n.Type), capture: true, at: h.Pos})
			p.values.read[n.Name] = true // nobody names it, so nobody forgot it
		}
	}
	return true
}
