package procedure

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/expr-lang/expr/ast"
	exprparser "github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/types"

	"uparrot/core/pattern"
	"uparrot/core/source"
)

var inputTypes = []string{"int", "num", "text"}

func (p *parser) readInput(l *line, _ Pos) {
	name, at, ok := p.newName(l, "input")
	if !ok {
		return
	}
	in := &Input{Pos: at, Name: name, Type: "text"}
	p.file.Inputs = append(p.file.Inputs, in)
	defer func() { p.values.add(name, value{what: "an input", typ: typeOf(in.Type), at: at}) }()
	if !p.inputType(l, in) {
		return
	}
	if in.Pool, ok = p.pool(l, in.Name); !ok {
		return
	}
	if in.Pool == "" && l.take("=") {
		at := l.here()
		v, ok := l.quoted()
		if !ok {
			v, at = l.token()
		}
		in.Default = &v
		if _, err := in.Value(v); err != nil {
			p.mistake(at, "the default does not fit: "+err.Error(), "")
			return
		}
	}
	if !l.done() {
		if in.About, ok = p.title(l, "what the input means"); !ok {
			return
		}
	}
	p.over(l)
}

// pool takes from pool "NAME", which may be left out.
func (p *parser) pool(l *line, name string) (string, bool) {
	if l.peekWord() != "from" {
		return "", true
	}
	l.word()
	if w, at := l.word(); w != "pool" {
		p.mistake(at, "wanted pool after from", "Write: from pool \""+name+"\"")
		return "", false
	}
	at := l.here()
	pool, ok := p.title(l, "the name of a pool")
	if ok && pool == "" {
		p.mistake(at, "the pool has no name", "Write: from pool \""+name+"\"")
		return "", false
	}
	return pool, ok
}

// inputType takes a colon, a type and a range, all of which may be left out.
func (p *parser) inputType(l *line, in *Input) bool {
	if l.take(":") {
		w, at := l.word()
		if !isOneOf(w, inputTypes) {
			if w == "" {
				at = l.here()
			}
			p.mistake(at, fmt.Sprintf("there is no type %q for an input", w), source.DidYouMean(w, inputTypes))
			return false
		}
		in.Type = w
	}
	if !l.done() && l.text[l.at] != '=' && l.text[l.at] != '"' && l.peekWord() != "from" {
		r, at := l.until(" \t=")
		return p.inputRange(in, r, at)
	}
	return true
}

func isOneOf(s string, list []string) bool { return slices.Contains(list, s) }

func (p *parser) inputRange(in *Input, r string, at Pos) bool {
	low, high, ok := strings.Cut(r, "..")
	if !ok || in.Type == "text" {
		p.mistake(at, fmt.Sprintf("%q is no range", r), "A range of numbers is written LOW..HIGH, such as 1..65534; either side may be left open.")
		return false
	}
	for _, side := range []struct {
		text string
		to   **float64
	}{{low, &in.Low}, {high, &in.High}} {
		if side.text == "" {
			continue
		}
		v, err := strconv.ParseFloat(side.text, 64)
		if err != nil {
			p.mistake(at, fmt.Sprintf("%q is no number", side.text), "A range is written LOW..HIGH, such as 1..65534.")
			return false
		}
		*side.to = &v
	}
	if in.Low != nil && in.High != nil && *in.Low > *in.High {
		p.mistake(at, fmt.Sprintf("the range %s is the wrong way round", r), fmt.Sprintf("Write %s..%s.", high, low))
		return false
	}
	return true
}

// Value reads a value for the input as a person gives it.
func (in *Input) Value(text string) (any, error) {
	var v any
	var size float64
	switch in.Type {
	case "int":
		n, err := strconv.Atoi(text)
		if err != nil {
			return nil, fmt.Errorf("%s is a whole number, not %q", in.Name, text)
		}
		v, size = n, float64(n)
	case "num":
		f, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return nil, fmt.Errorf("%s is a number, not %q", in.Name, text)
		}
		v, size = f, f
	default:
		return text, nil
	}
	if in.Low != nil && size < *in.Low || in.High != nil && size > *in.High {
		return nil, fmt.Errorf("%s is outside %s for %s", text, in.rangeWords(), in.Name)
	}
	return v, nil
}

// Range is the range of an input as it is written; it has none where both sides are open.
func (in *Input) Range() string { return in.rangeWords() }

func (in *Input) rangeWords() string {
	side := func(f *float64) string {
		if f == nil {
			return ""
		}
		return strconv.FormatFloat(*f, 'f', -1, 64)
	}
	return side(in.Low) + ".." + side(in.High)
}

func (p *parser) readSecret(l *line, _ Pos) {
	name, at, ok := p.newName(l, "secret")
	if !ok {
		return
	}
	s := &Secret{Pos: at, Name: name}
	p.file.Secrets = append(p.file.Secrets, s)
	p.values.add(name, value{what: "a secret", typ: typeOf("text"), at: at})
	if s.Pool, ok = p.pool(l, name); !ok {
		return
	}
	if !l.done() {
		s.About, _ = p.title(l, "what the secret is")
	}
	p.over(l)
}

func (p *parser) readLet(l *line, at Pos) {
	t := l.peekWord()
	nameAt := l.here()
	if old, ok := p.values.find(t); ok && old.let {
		l.word() // a let may be given anew
	} else if t, nameAt, ok = p.newName(l, "value"); !ok {
		return
	}
	if !l.take("=") {
		p.mistake(l.here(), "wanted = after the name", "Write: let "+t+" = 2 * address")
		return
	}
	text, offset := l.rest()
	e, typ := p.compile(l, text, offset, false)
	let := &Let{Pos: at, Name: t, Expr: e}
	p.values.add(t, value{what: "a value", typ: typ, let: true, at: nameAt})
	if p.block() != nil {
		p.put(let)
	} else {
		p.file.Lets = append(p.file.Lets, let)
	}
}

func (p *parser) readStep(l *line, at Pos) {
	s := &Step{Pos: at, Tries: 1}
	p.step, p.values.step = s, s
	p.file.Steps = append(p.file.Steps, s)
	p.open(&block{word: "step", name: &s.Title, at: at, body: &s.Body, finish: func() { p.step, p.values.step = nil, nil }})
	var ok bool
	titleAt := l.here()
	if s.Title, ok = p.name(l, "the step's title"); !ok {
		return
	}
	if other, ok := p.titles[s.Title]; ok {
		p.mistake(titleAt, fmt.Sprintf("the step %q, line %d, has the same title", other.Title, other.Line), "Give each step a title of its own.")
	}
	p.titles[s.Title] = s
	for !l.done() {
		w, at := l.word()
		switch w {
		case "tries":
			t, at := l.token()
			n, ok := number(t)
			if !ok || n < 1 || n > 1000 {
				p.mistake(at, fmt.Sprintf("%q is no number of tries", t), "Write 1 to 1000, such as: tries 3 every 500ms")
				return
			}
			s.Tries = n
		case "every":
			if s.Every, ok = p.span(l); !ok {
				return
			}
			if s.Tries == 1 {
				p.mistake(at, "every says how often to try, but there is only one try", "Write: tries 3 every 500ms")
				return
			}
		case "within":
			if s.Within, ok = p.span(l); !ok {
				return
			}
		case "always":
			s.Always = true
		case "needed":
			s.Needed = true
		case "uses":
			name, at := l.word()
			if name == "" {
				p.mistake(at, "wanted what the step shares with others", "Write: uses air, where the bench has [shared] and air = 1")
				return
			}
			s.Uses = append(s.Uses, name)
		default:
			if w == "" {
				at = l.here()
				w, _ = l.token()
			}
			p.mistake(at, fmt.Sprintf("unknown word %q after a step's title", w), source.DidYouMean(w, []string{"tries", "every", "within", "always", "needed", "uses"}))
			return
		}
	}
}

// portName takes the port's name, which may be left out if there is one port.
func (p *parser) portName(l *line) (string, bool) {
	at := l.here()
	if w := l.peekWord(); w != "" && w != "within" && w != "took" && w != "for" && w != "until" && w != "as" && w != "without" && w != "every" && (w != "answer" || p.isPort(w)) && !(lineWords[w] && len(p.file.Ports) == 1) {
		_, at = l.word()
		if p.isPort(w) {
			p.portUse(w, at)
			return w, true
		}
		names := p.portNames()
		if p.routine != nil {
			for _, param := range p.routine.Params {
				names = append(names, param.Name)
			}
		}
		p.mistake(at, fmt.Sprintf("there is no port %q", w), source.DidYouMean(w, names))
		return "", false
	}
	switch len(p.file.Ports) {
	case 1:
		p.used[p.file.Ports[0].Name] = true
		return p.file.Ports[0].Name, true
	case 0:
		p.mistake(at, "the procedure has no port", "Declare one in the header, such as: port radio: dialect at")
	default:
		p.mistake(at, "there are several ports: say which", fmt.Sprintf("Write its name, such as: say %s: ...", p.file.Ports[0].Name))
	}
	return "", false
}

// isPort reports whether a name is a port's, or a parameter that stands for one.
// A parameter becomes that when it is used so first.
func (p *parser) isPort(name string) bool {
	for _, port := range p.file.Ports {
		if port.Name == name {
			p.used[name] = true
			return true
		}
	}
	if p.routine == nil {
		return false
	}
	for _, param := range p.routine.Params {
		if param.Name == name && (param.Port || !p.values.read[name]) {
			param.Port = true
			p.values.values[name].port = true
			return true
		}
	}
	return false
}

// speaker is portName for a statement with the module's own text.
func (p *parser) speaker(l *line) (string, bool) {
	if !strings.Contains(l.text[l.at:], ":") {
		p.mistake(l.here(), "wanted a colon before the module's own text", "Write: say radio: AT")
		return "", false
	}
	return p.portName(l)
}

// spokenText takes the colon and the module's own text.
func (p *parser) spokenText(l *line) (text string, offset int, ok bool) {
	l.blanks()
	if !l.take(":") {
		at, word := l.here(), l.peekWord()
		if word != "" && strings.Contains(l.text[l.at:], ":") {
			at.Width = len(word)
			p.mistake(at, fmt.Sprintf("unknown word %q before the colon", word), source.DidYouMean(word, []string{"within", "took", "for", "until", "without", "answer", "restarts"}))
		} else {
			p.mistake(at, "wanted a colon before the module's own text", "Write: say radio: AT")
		}
		return "", 0, false
	}
	text, offset = l.rest()
	if len(text) >= 2 && text[0] == '"' && text[len(text)-1] == '"' {
		return text[1 : len(text)-1], offset + 1, true
	}
	return text, offset, true
}

func (p *parser) readSay(l *line, at Pos) {
	s := &Say{Pos: at, Bytes: l.takeWord("bytes")}
	packet := !s.Bytes && p.takePacket(l)
	var ok bool
	if s.Port, ok = p.speaker(l); !ok {
		return
	}
	if packet {
		p.sayPacket(l, s)
		return
	}
	if at := l.here(); l.takeWord("without") {
		if s.NoAnswer = l.takeWord("answer"); !s.NoAnswer || s.Bytes {
			p.mistake(at, "wanted without answer, and not after bytes", "Write: say "+s.Port+" without answer: TEXT")
			return
		}
	} else if l.takeWord("answer") {
		if s.Later = l.takeWord("later"); !s.Later || s.Bytes {
			p.mistake(at, "wanted answer later, and not after bytes", "Write: say "+s.Port+" answer later: TEXT")
			return
		}
	}
	if at := l.here(); s.Later || s.NoAnswer {
	} else if s.Restarts = l.takeWord("restarts"); s.Restarts {
		if s.Bytes {
			p.mistake(at, "a line restarts a module, not bytes", "Write: say "+s.Port+" restarts: TEXT")
			return
		}
		if l.takeWord("within") {
			if s.Within, ok = p.span(l); !ok {
				return
			}
		}
	}
	text, offset, ok := p.spokenText(l)
	if !ok {
		return
	}
	said, err := pattern.CompileSaid(text)
	if e, ok := errors.AsType[*pattern.SyntaxError](err); ok {
		p.mistake(l.pos(offset+e.Offset, e.Width), e.What, e.Mend)
		return
	}
	s.TextAt = l.pos(offset, len(text))
	s.Text, s.Exprs = said, p.exprs(l, said.Exprs(), offset)
	p.put(s)
}

// takePacket takes the word packet, unless a port is called so.
func (p *parser) takePacket(l *line) bool {
	return !slices.ContainsFunc(p.file.Ports, func(port *PortDecl) bool { return port.Name == "packet" }) && l.takeWord("packet")
}

func (p *parser) readNot(l *line, at Pos) {
	if !l.takeWord("hear") {
		p.mistake(l.here(), "wanted hear after not", "Write: not hear radio for 2s: ...")
		return
	}
	if h := p.readHear(l, at, true); h != nil {
		p.put(h)
	}
}

func (p *parser) readHearing(l *line, at Pos) {
	h := p.readHear(l, at, false)
	b := p.block()
	switch {
	case h == nil:
	case b.all == nil:
		p.put(h)
	case h.Form == pattern.NextLine:
		p.mistake(at, "next cannot stand in an all", "Of lines in any order none is the next: write hear.")
	case h.Within > 0:
		p.mistake(at, "this line cannot have a time of its own", "Write the time after all: all within 10s")
	default:
		b.all.Hears = append(b.all.Hears, h)
	}
}

// readHear reads what follows hear. It is nil if that has a mistake.
func (p *parser) readHear(l *line, at Pos, not bool) *Hear {
	h := &Hear{Pos: at, Not: not}
	packet := p.takePacket(l)
	if packet || l.takeWord("bytes") {
		h.Form = pattern.AnyBytes
	} else if !not && l.takeWord("next") {
		h.Form = pattern.NextLine
	} else if !not {
		h.Later = l.takeWord("later")
		h.Earlier = !h.Later && l.takeWord("earlier")
	}
	if h.Earlier && l.takeWord("bytes") {
		h.Form = pattern.AnyBytes
	}
	var ok bool
	if h.Port, ok = p.speaker(l); !ok {
		return nil
	}
	limit := "within"
	if not {
		limit = "for"
	}
	if !not && !p.tookName(l, h) {
		return nil
	}
	timed := true // a mistake in the time hides no name that what follows reads
	if w := l.peekWord(); w == limit {
		l.word()
		if h.Within, timed = p.span(l); !not && !p.tookName(l, h) {
			return nil
		}
	} else if not {
		p.mistake(l.here(), "wanted for and a time: how long it must not come", "Write: not hear "+h.Port+" for 2s: ...")
		return nil
	}
	if packet {
		if !p.hearPacket(l, h) || !timed {
			return nil
		}
		return h
	}
	offset := 0
	if h.Pattern, h.Exprs, offset, ok = p.heardText(l, h.Form != pattern.AnyBytes); !ok {
		return nil
	}
	if p.captures(l, h, offset); !timed {
		return nil
	}
	return h
}

// tookName takes the name that is to hold how long it took, if there is one.
func (p *parser) tookName(l *line, h *Hear) bool {
	if !l.takeWord("took") {
		return true
	}
	name, at := l.peekWord(), l.here()
	if old, ok := p.values.find(name); ok && old.capture {
		l.word() // may be taken anew
	} else if name, at, ok = p.newName(l, "value"); !ok {
		return false
	}
	h.Took, p.times[name] = name, true
	p.values.add(name, value{what: "a capture", typ: types.Float, capture: true, at: at})
	return true
}

// heardText takes the colon and what must come: a line, or bytes.
func (p *parser) heardText(l *line, lines bool) (*pattern.Pattern, map[string]*Expr, int, bool) {
	text, offset, ok := p.spokenText(l)
	if !ok {
		return nil, nil, 0, false
	}
	if text == "" {
		p.mistake(l.pos(len(l.text)-1, 1), "there is nothing to hear", "Write what must come, with ... for what may vary.")
		return nil, nil, 0, false
	}
	pat, err := pattern.Compile(text)
	if e, ok := errors.AsType[*pattern.SyntaxError](err); ok {
		p.mistake(l.pos(offset+e.Offset, e.Width), e.What, e.Mend)
		return nil, nil, 0, false
	}
	if at := pat.LineEnd(); lines && at >= 0 {
		p.warning(l.pos(offset+at, 1), "no line holds a line end, so this never comes", "Hear the lines one after the other, or write hear bytes.")
	}
	if lines && l.text[offset-1] != '"' { // no quotes stand round it
		pat = pat.Spaced()
	}
	return pat, p.exprs(l, pat.Exprs(), offset), offset, true
}

// exprs compiles the expressions of a text that stands at an offset.
func (p *parser) exprs(l *line, list []pattern.Expr, offset int) map[string]*Expr {
	all := map[string]*Expr{}
	for _, e := range list {
		if _, has := p.values.find(e.Source); e.Count && !has {
			p.mistake(l.pos(offset+e.Offset, len(e.Source)), fmt.Sprintf("bytes(%s) needs an int named %q captured before it", e.Source, e.Source), "Capture the length first, such as {"+e.Source+":int}.")
			continue
		}
		all[e.Source], _ = p.compile(l, e.Source, offset+e.Offset, false)
	}
	return all
}

// captures makes the names that a hear captures known to what follows.
func (p *parser) captures(l *line, h *Hear, offset int) {
	for _, n := range h.Pattern.Names() {
		at := l.pos(offset+n.Offset, len(n.Name))
		old, ok := p.values.find(n.Name)
		switch {
		case h.Not:
			p.mistake(at, "what must not come cannot be captured", "Write ... or {} instead.")
		case ok && !old.capture:
			p.mistake(at, fmt.Sprintf("%s is the name of %s", n.Name, old.what), fmt.Sprintf("To compare with it write {=%s}; to capture choose another name.", n.Name))
		case reserved[n.Name] || isFunction(n.Name):
			p.mistake(at, fmt.Sprintf("%s is a word of the language", n.Name), "Choose another name.")
		default:
			p.values.add(n.Name, value{what: "a capture", typ: typeOf(n.Type), capture: true, at: at})
		}
	}
	p.warnStarved(l, h.Pattern, offset)
	if h.Pattern.HasPayload() { // its own lengths read their captures
		for _, n := range h.Pattern.Names() {
			if n.Type != "int" || p.values.values[n.Name] == nil {
				continue
			}
			p.values.reads(n.Name)
			const counts = "bytes("
			for from := offset; from < len(l.text); { // where it says how many bytes follow
				i := strings.Index(l.text[from:], counts+n.Name+")")
				if i < 0 {
					break
				}
				from += i + len(counts)
				v := p.values.values[n.Name]
				p.note(Use{Pos: l.pos(from, len(n.Name)), Name: n.Name, Kind: ValueUse, Type: "int", What: v.what, bind: v.bind})
			}
		}
	}
}

// warnStarved warns of captures that never take what they are meant to.
func (p *parser) warnStarved(l *line, heard *pattern.Pattern, offset int) {
	for _, n := range heard.Starved() {
		p.warning(l.pos(offset+n.Offset, len(n.Name)), fmt.Sprintf("%s is always empty: an open place takes the least, and another stands right behind it", n.Name),
			fmt.Sprintf("Give it a type, such as {%s:word}, or write what stands between the two.", n.Name))
	}
}

func (p *parser) readCheck(l *line, at Pos) {
	text, offset := l.rest()
	if text == "" {
		p.mistake(at, "check needs an expression", "Write: check now == address")
		return
	}
	c := &Check{Pos: at}
	body, why, ok := trailingText(text)
	if ok && parses(body) && !parses(text) {
		c.Why, text = why, body
		c.Words = p.filledIn(l, why, offset+len(body))
	}
	if c.Expr, _ = p.compile(l, text, offset, true); c.Expr != nil {
		if at := equals(text); at > 0 {
			c.Left, _ = p.compile(l, text[:at], offset, false)
			c.Right, _ = p.compile(l, text[at+len("=="):], offset+at+len("=="), false)
		}
	}
	p.put(c)
}

// equals is where the == of an expression stands that is nothing but a comparison with one; 0 if it is none.
func equals(text string) int {
	tree, err := exprparser.Parse(text)
	if err != nil {
		return 0
	}
	both, is := tree.Node.(*ast.BinaryNode)
	if !is || both.Operator != "==" {
		return 0
	}
	return bytesOf(text, both.Location().From)
}

// filledIn are the values in a text that stands at an offset of a line, in quotes or alone; nil if it has none.
func (p *parser) filledIn(l *line, text string, offset int) *Wording {
	if !strings.ContainsAny(text, "{}") {
		return nil
	}
	start := offset
	for start < len(l.text) && (l.text[start] == ' ' || l.text[start] == '\t') {
		start++
	}
	if start < len(l.text) && l.text[start] == '"' {
		start++
	}
	said, err := pattern.CompileSaid(text)
	if e, ok := errors.AsType[*pattern.SyntaxError](err); ok {
		p.mistake(l.pos(start+e.Offset, e.Width), e.What, e.Mend)
		return nil
	}
	return &Wording{said, p.exprs(l, said.Exprs(), start)}
}

// trailingText splits off a text in quotes at the end.
func trailingText(s string) (body, text string, ok bool) {
	s = strings.TrimRight(s, " \t")
	if !strings.HasSuffix(s, `"`) {
		return s, "", false
	}
	for i := len(s) - 2; i > 0; i-- {
		if s[i] == '"' && s[i-1] != '\\' {
			l := &line{text: s, at: i}
			text, ok = l.quoted()
			return strings.TrimRight(s[:i], " \t"), text, ok
		}
	}
	return s, "", false
}

func (p *parser) readLimit(l *line, at Pos) {
	form := "Write: limit EXPRESSION in LOW..HIGH, with a unit and a text in quotes if you like."
	text, offset := l.rest()
	lim := &Limit{Pos: at}
	body, what, ok := trailingText(text)
	if ok {
		lim.What, lim.Title = what, p.filledIn(l, what, offset+len(body))
	}
	i := strings.LastIndex(body, " in ")
	if i < 0 {
		p.mistake(at, "limit needs a range", form)
		return
	}
	after := &line{file: l.file, number: l.number, text: l.text[:offset+len(body)], at: offset + i + len(" in ")}
	r, rangeAt := after.nested()
	unit, unitAt := after.rest()
	if strings.HasPrefix(unit, "{") && strings.HasSuffix(unit, "}") {
		lim.UnitOf = p.filledIn(l, unit, unitAt-1)
	} else if unit != "" && !isUnit(unit) {
		p.mistake(after.pos(unitAt, len(unit)), fmt.Sprintf("%q is no unit", unit), "A unit is one word that begins with a letter, %, ° or µ. A range with blanks stands in parentheses: limit v in (0..u - 3) V.")
		return
	}
	lim.Unit = p.unitOf(strings.TrimSpace(body[:i]), unit)
	r = unwrapped(r)
	low, high, ok := strings.Cut(r, "..")
	if !ok || low == "" && high == "" {
		p.mistake(rangeAt, fmt.Sprintf("%q is no range", r), form+" One side may be open: 5.. or ..20.")
		return
	}
	start := strings.LastIndex(l.text[:offset+len(body)], r)
	if low != "" {
		lim.Low, _ = p.compile(l, low, start, false)
	}
	if high != "" {
		lim.High, _ = p.compile(l, high, start+len(low)+2, false)
	}
	lf, lerr := strconv.ParseFloat(low, 64)
	hf, herr := strconv.ParseFloat(high, 64)
	if lerr == nil && herr == nil && lf > hf {
		p.mistake(rangeAt, fmt.Sprintf("the limits %s are the wrong way round", r), fmt.Sprintf("Write %s..%s.", high, low))
		return
	}
	expr := strings.TrimRight(body[:i], " \t")
	var typ types.Type = types.Any
	if lim.Expr, typ = p.compile(l, expr, offset, false); typ == types.String || typ == types.Bool {
		p.mistake(l.pos(offset, len(expr)), "a limit holds a number, and this is none", "Capture it as {name:num}, or write number("+expr+").")
		return
	}
	if lim.What == "" {
		lim.What = expr
	}
	p.put(lim)
}

func (p *parser) readNote(l *line, at Pos) {
	text, offset := l.rest()
	if text == "" {
		p.mistake(at, "note needs an expression", "Write: note EXPRESSION, with in and a unit and a text in quotes if you like.")
		return
	}
	n := &NoteValue{Pos: at}
	body, what, ok := trailingText(text)
	if ok && parses(unitless(body)) && !parses(text) {
		n.What, n.Title = what, p.filledIn(l, what, offset+len(body))
	} else {
		body = text
	}
	expr := unitless(body)
	n.Unit = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(body[len(expr):]), "in"))
	expr = strings.TrimRight(expr, " \t")
	if n.Unit = p.unitOf(expr, n.Unit); strings.HasPrefix(n.Unit, "{") {
		n.UnitOf = p.filledIn(l, n.Unit, offset+len(body)-len(n.Unit)-1)
	}
	if n.Expr, _ = p.compile(l, expr, offset, false); n.What == "" {
		n.What = expr
	}
	p.put(n)
}

// unitless is an expression without the unit behind it.
func unitless(body string) string {
	i := strings.LastIndex(body, " in ")
	if i < 0 || !isUnit(strings.TrimSpace(body[i+len(" in "):])) || !parses(body[:i]) {
		return body
	}
	return body[:i]
}

func (p *parser) readIdentity(l *line, at Pos) {
	text, offset := l.rest()
	if text == "" {
		p.mistake(at, "identity needs an expression", "Write: identity serial")
		return
	}
	n := &NoteValue{Pos: at, Measure: Measure{What: "identity"}, Identity: true}
	n.Expr, _ = p.compile(l, text, offset, false)
	p.put(n)
}

// isUnit reports whether text is one word that can be a unit.
func isUnit(text string) bool {
	first, _ := utf8.DecodeRuneInString(text)
	if strings.HasPrefix(text, "{") && strings.HasSuffix(text, "}") { // a value
		return true
	}
	return (unicode.IsLetter(first) || strings.ContainsRune("%°µ", first)) && !strings.ContainsAny(text, " \t\"")
}

// unwrapped is text without parentheses round all of it.
func unwrapped(text string) string {
	if !strings.HasPrefix(text, "(") || !strings.HasSuffix(text, ")") {
		return text
	}
	depth := 0
	for i, c := range text {
		if c == '(' {
			depth++
		} else if c == ')' {
			depth--
		}
		if depth == 0 && i < len(text)-1 {
			return text // as in (a)..(b)
		}
	}
	return strings.TrimSpace(text[1 : len(text)-1])
}

func (p *parser) readPause(l *line, at Pos) {
	if d, ok := p.span(l); ok {
		p.over(l)
		p.put(&Pause{at, d})
	}
}

func (p *parser) readQuiet(l *line, at Pos) {
	q := &Quiet{Pos: at}
	var ok bool
	if l.blanks(); l.at < len(l.text) && isDigit(l.text[l.at]) && len(p.file.Ports) == 1 {
		q.Port = p.file.Ports[0].Name
		p.used[q.Port] = true
	} else if q.Port, ok = p.portName(l); !ok {
		return
	}
	if q.Still, ok = p.span(l); !ok {
		return
	}
	if l.takeWord("within") {
		if q.Within, ok = p.span(l); !ok {
			return
		}
	}
	p.over(l)
	p.put(q)
}
