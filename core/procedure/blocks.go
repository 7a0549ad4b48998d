package procedure

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/expr-lang/expr/types"

	"uparrot/core/pattern"
	"uparrot/core/source"
)

// block is an open block: a step, a routine, or a statement with others inside.
type block struct {
	word  string
	name  *string // of a step or a routine
	at    Pos
	body  *[]Node // where statements go; nil where none may stand
	tried int     // statements in it, also those that could not be read
	all   *All    // for all
	any   *Any    // for any
	cond  *If     // for if
	rows  *Rows   // for rows
	watch *Watch  // for watch
	made  bool    // of statements that a phrasebook tells of

	// What a branch alone gives a value has none after the block, unless every
	// branch does. Mark is where the log of names stood when the branch began.
	mark     int
	branches []map[string]*value
	certain  bool // some branch is taken in any case
	finish   func()
}

func (b *block) what() string {
	if b.name != nil {
		return fmt.Sprintf("the %s %q", b.word, *b.name)
	}
	return fmt.Sprintf("the %s", b.word)
}

// block is the innermost open block, or nil.
func (p *parser) block() *block {
	if len(p.blocks) == 0 {
		return nil
	}
	return p.blocks[len(p.blocks)-1]
}

func (p *parser) open(b *block) {
	b.mark = len(p.values.log)
	p.blocks = append(p.blocks, b)
	if len(p.blocks) == maxDepth {
		p.mistake(b.at, fmt.Sprintf("more than %d blocks stand inside each other", maxDepth), "Put some of it into a routine.")
	}
}

const maxDepth = 50

// put files a statement that has been read.
func (p *parser) put(n Node) {
	if b := p.block(); b.body != nil {
		*b.body = append(*b.body, n)
	}
}

// mayStand reports whether a statement may stand in the innermost block, and
// counts it.
func (p *parser) mayStand(w string, at Pos) bool {
	b := p.block()
	if b == nil || w == "end" {
		return true
	}
	b.tried++
	switch {
	case b.all != nil && w != "hear":
		p.mistake(at, fmt.Sprintf("%s cannot stand in an all", w), "An all holds only what must be heard: hear and hear bytes.")
	case b.rows != nil && b.body == nil && w != "row":
		p.mistake(at, fmt.Sprintf("%s cannot stand before the row", w), "Say first how a row looks, such as: row: cabin {place:int} {load:num} kg")
	case b.rows != nil && b.body != nil && w != "row" && !isOneOf(w, inRows):
		p.mistake(at, fmt.Sprintf("%s cannot stand in rows", w), "The answer is there already: check, limit, note and let judge each of its rows.")
	case b.watch != nil && b.body == nil && w != "poll" && w != "reading":
		p.mistake(at, fmt.Sprintf("%s cannot stand before the first reading", w), "Say first what is heard, such as: reading gauge: wind {speed:num} m/s")
	case b.watch != nil && b.body != nil && w != "reading" && w != "poll" && !isOneOf(w, inReading):
		p.mistake(at, fmt.Sprintf("%s cannot stand below a reading", w), "Only check, limit, note, let and until can: they are performed for each that comes.")
	case b.any != nil && b.body == nil && w != "case":
		p.mistake(at, fmt.Sprintf("%s cannot stand before the first case", w), "Begin with a case, such as: case hear radio: OK")
	default:
		return true
	}
	return false
}

// inRows is what may stand in rows.
var inRows = []string{"check", "limit", "note", "let"}

// branch ends one branch of a block: what it has given a value is set aside.
func (p *parser) branch(b *block) {
	names := p.values.back(b.mark)
	if body := b.body; body != nil && len(*body) > 0 {
		if _, leaves := (*body)[len(*body)-1].(*Fail); leaves {
			return // nobody comes out of it
		}
	}
	b.branches = append(b.branches, names)
}

// split reports whether a block is one of branches.
func (b *block) split() bool {
	return b.any != nil || b.cond != nil || b.rows != nil || b.word == "for" || b.word == "repeat"
}

func (p *parser) closeBlock() {
	b := p.block()
	if b.split() {
		p.branch(b)
		if b.certain {
			p.values.join(b.branches)
		}
	}
	p.blocks = p.blocks[:len(p.blocks)-1]
	if b.finish != nil {
		b.finish()
	}
}

func (p *parser) readEnd(l *line, _ Pos) {
	p.over(l)
	b := p.block()
	if b.tried == 0 {
		p.mistake(b.at, b.what()+" does nothing", "Write what it says and hears, or delete it.")
	}
	p.closeBlock()
}

// within takes within and a time, which may be left out.
func (p *parser) within(l *line) (time.Duration, bool) {
	if !l.takeWord("within") {
		return 0, true
	}
	return p.span(l)
}

func (p *parser) readAny(l *line, at Pos) {
	a := &Any{Pos: at}
	p.put(a)
	p.open(&block{word: "any", at: at, any: a, certain: true})
	var ok bool
	if a.Within, ok = p.within(l); ok {
		p.over(l)
	}
}

func (p *parser) readCase(l *line, at Pos) {
	b := p.block()
	if b.any == nil {
		p.mistake(at, "case stands outside an any", "Write any, then a case for each thing that may come.")
		return
	}
	if b.body != nil {
		p.branch(b)
	}
	c := &Case{Pos: at}
	b.any.Cases = append(b.any.Cases, c)
	b.body = &c.Body
	switch {
	case l.takeWord("nothing"):
		p.over(l)
		for _, other := range b.any.Cases[:len(b.any.Cases)-1] {
			if other.Hear == nil {
				p.mistake(at, fmt.Sprintf("line %d is the case for nothing already", other.Line), "Keep one of the two.")
			}
		}
		return
	case !l.takeWord("hear"):
		p.mistake(l.here(), "wanted hear or nothing after case", "Write: case hear radio: OK")
		return
	}
	if c.Hear = p.readHear(l, at, false); c.Hear == nil {
		c.Hear = &Hear{Pos: at} // a mistake has been told
		return
	}
	if c.Hear.Within > 0 {
		p.mistake(at, "a case cannot have a time of its own", "Write the time after any: any within 10s")
	}
}

func (p *parser) readAll(l *line, at Pos) {
	a := &All{Pos: at}
	p.put(a)
	p.open(&block{word: "all", at: at, all: a})
	var ok bool
	if a.Within, ok = p.within(l); ok {
		p.over(l)
	}
}

// condition takes the rest of the line as something true or false.
func (p *parser) condition(l *line, at Pos) *Expr {
	text, offset := l.rest()
	if text == "" {
		p.mistake(at, "there is no condition", "Write something true or false, such as: if now == address")
		return nil
	}
	e, _ := p.compile(l, text, offset, true)
	return e
}

func (p *parser) readIf(l *line, at Pos) {
	n := &If{Pos: at}
	arm := &Arm{Pos: at, Cond: p.condition(l, at)}
	n.Arms = append(n.Arms, arm)
	p.put(n)
	p.open(&block{word: "if", at: at, cond: n, body: &arm.Body})
}

func (p *parser) readElse(l *line, at Pos) {
	b := p.block()
	switch {
	case b.cond == nil:
		p.mistake(at, "else stands outside an if", "Write if and a condition above it.")
		return
	case b.certain:
		p.mistake(at, "this if has its else already", "Write else if for another condition above the else.")
		return
	}
	p.branch(b)
	if l.takeWord("if") {
		arm := &Arm{Pos: at, Cond: p.condition(l, at)}
		b.cond.Arms = append(b.cond.Arms, arm)
		b.body = &arm.Body
		return
	}
	p.over(l)
	b.cond.ElseAt = at
	b.body, b.certain = &b.cond.Else, true
}

func (p *parser) readRepeat(l *line, at Pos) {
	const form = "Write: repeat 3 times, repeat for 10m every 1s, or repeat 3 times every 500ms"
	n := &Repeat{Pos: at}
	p.put(n)
	b := &block{word: "repeat", at: at, body: &n.Body}
	defer p.open(b)
	text, offset := l.rest()
	text = strings.TrimRight(text, " \t")
	var ok bool
	if text, n.Every, ok = p.timeBehind(l, text, offset, "every"); !ok {
		return
	}
	if text, n.For, ok = p.timeBehind(l, text, offset, "for"); !ok {
		return
	}
	b.certain = n.For != nil && text == "" // the first time is performed in any case
	switch bare, counted := strings.CutSuffix(text, " times"); {
	case text == "" && n.For != nil:
	case !counted:
		p.mistake(at, "wanted how often, or for how long", form)
	default:
		p.repeatTimes(l, n, b, strings.TrimRight(bare, " \t"), offset)
	}
}

// repeatTimes reads how often.
func (p *parser) repeatTimes(l *line, n *Repeat, b *block, bare string, offset int) {
	if count, is := number(bare); is {
		if b.certain = count > 0; count < 1 || count > MaxRepeat {
			p.mistake(l.pos(offset, len(bare)), fmt.Sprintf("%d is no number of times", count), fmt.Sprintf("Write 1 to %d.", MaxRepeat))
			return
		}
	}
	var typ types.Type = types.Any
	if n.Times, typ = p.compile(l, bare, offset, false); typ == types.String || typ == types.Bool {
		p.mistake(l.pos(offset, len(bare)), "this is no number of times", "Write a whole number, or a value that is one.")
	}
}

// timeBehind takes a word and a time off the end of a text: one such as 500ms, or an
// expression of seconds.
func (p *parser) timeBehind(l *line, text string, offset int, word string) (rest string, e *Expr, ok bool) {
	i := strings.LastIndex(" "+text, " "+word+" ")
	if i < 0 {
		return text, nil, true
	}
	said := strings.TrimSpace(text[i+len(word):])
	at := offset + i + len(word)
	at += len(text[i+len(word):]) - len(strings.TrimLeft(text[i+len(word):], " \t"))
	source := said
	if d, err := time.ParseDuration(said); err == nil {
		if _, err := span(said); err != nil {
			p.mistake(l.pos(at, len(said)), err.Error(), "")
			return text, nil, false
		}
		source = strconv.FormatFloat(d.Seconds(), 'f', -1, 64)
	}
	e, typ := p.compile(l, source, at, false)
	switch {
	case e == nil:
		return text, nil, false
	case typ == types.String || typ == types.Bool:
		p.mistake(l.pos(at, len(said)), "this is no time", "Write one such as 500ms, or a number of seconds.")
		return text, nil, false
	}
	return strings.TrimRight(text[:i], " \t"), e, true
}

// MaxRepeat is how often a repeat performs its body at most.
const MaxRepeat = 1_000_000

func (p *parser) readFor(l *line, at Pos) {
	n := &For{Pos: at}
	p.put(n)
	b := &block{word: "for", at: at, body: &n.Body}
	name, nameAt, ok := p.newName(l, "value")
	if ok && !l.takeWord("in") {
		p.mistake(l.here(), "wanted in and a list", "Write: for channel in [1, 6, 11] or: for n in 1..8")
		ok = false
	}
	if !ok {
		p.open(b)
		return
	}
	text, offset := l.rest()
	var typ types.Type = types.Any
	n.Name = name
	if text == "" {
		p.mistake(at, "there is no list", "Write: for channel in [1, 6, 11] or: for n in 1..8")
	} else if n.List, _ = p.compile(l, text, offset, false); n.List != nil {
		typ = elementType(n.List.Program)
	}
	p.open(b)
	p.values.add(name, value{what: "the value of a for", typ: typ, at: nameAt})
}

func (p *parser) readRoutine(l *line, at Pos) {
	r := &Routine{Pos: at}
	mark := len(p.values.log)
	name, nameAt, ok := p.newName(l, "routine")
	r.Name = name
	b := &block{word: "routine", name: &r.Name, at: at, body: &r.Body}
	b.finish = func() {
		p.routine = nil
		gives := p.values.back(mark)
		for _, param := range r.Params {
			delete(gives, param.Name)
		}
		r.gives = gives
		p.file.Routines = append(p.file.Routines, r)
		if r.Name != "" {
			p.values.add(r.Name, value{what: "a routine", port: true, at: nameAt})
		}
	}
	p.open(b)
	p.routine = r
	if !ok {
		return
	}
	if l.take("(") {
		for !l.take(")") {
			param, at, ok := p.newName(l, "parameter")
			if !ok {
				return
			}
			r.Params = append(r.Params, &Param{Pos: at, Name: param})
			p.values.add(param, value{what: "a parameter", typ: types.Any, at: at})
			if !l.take(",") && !strings.HasPrefix(l.text[l.at:], ")") {
				p.mistake(l.here(), "wanted a comma or a closing parenthesis", "Write: routine NAME(a, b)")
				return
			}
		}
	}
	p.over(l)
}

func (p *parser) readDo(l *line, at Pos) {
	w, nameAt := l.word()
	if w == "" {
		nameAt = l.here()
	}
	var r *Routine
	var names []string
	for _, one := range p.file.Routines {
		names = append(names, one.Name)
		if one.Name == w {
			r = one
		}
	}
	switch {
	case w == "":
		p.mistake(nameAt, "wanted the name of a routine", "Write: do NAME(x, y)")
		return
	case r == nil && p.routine != nil && p.routine.Name == w:
		p.mistake(nameAt, "a routine cannot do itself", "Write repeat for what is to be done several times.")
		return
	case r == nil:
		p.mistake(nameAt, fmt.Sprintf("there is no routine %q above", w), nearest(w, names, "Write it above, between routine "+w+" and end."))
		for _, one := range p.file.Routines { // what it gives is not missing besides
			if near, is := p.mistakes[len(p.mistakes)-1].Instead(); is && near == one.Name {
				for name, v := range one.gives {
					p.values.add(name, *v)
				}
			}
		}
		return
	}
	d := &Do{Pos: at, Routine: r}
	if v := p.values.values[w]; v != nil {
		p.note(Use{Pos: nameAt, Name: w, Kind: RoutineUse, What: r.form(), bind: v.bind})
	}
	args := p.arguments(l)
	p.over(l)
	if len(args) != len(r.Params) {
		p.mistake(nameAt, fmt.Sprintf("%s takes %d values, not %d", w, len(r.Params), len(args)), fmt.Sprintf("It is written as: do %s", r.form()))
		return
	}
	for i, a := range args {
		if r.Params[i].Port {
			if !p.isPort(a.text) {
				p.mistake(l.pos(a.at, len(a.text)), fmt.Sprintf("%s of %s is a port, and %q is none", r.Params[i].Name, w, a.text), source.DidYouMeanOr(a.text, p.portNames(), "Write the name of a port."))
				return
			}
			p.portUse(a.text, l.pos(a.at, len(a.text)))
			d.Args = append(d.Args, Arg{Port: a.text})
			continue
		}
		e, _ := p.compile(l, a.text, a.at, false)
		d.Args = append(d.Args, Arg{Expr: e})
	}
	for name, v := range r.gives {
		if old, ok := p.values.find(name); ok && old.what != v.what {
			p.mistake(nameAt, fmt.Sprintf("%s gives %s a value, which is the name of %s here", w, name, old.what), "Choose another name in one of the two.")
			return
		}
		p.values.add(name, *v)
	}
	p.put(d)
}

func (r *Routine) form() string {
	var names []string
	for _, p := range r.Params {
		names = append(names, p.Name)
	}
	return r.Name + "(" + strings.Join(names, ", ") + ")"
}

type argument struct {
	text string
	at   int
}

// arguments takes expressions in parentheses with commas between them.
func (p *parser) arguments(l *line) []argument {
	if !l.take("(") {
		return nil
	}
	var args []argument
	depth, quote, start := 0, byte(0), l.at
	add := func(end int) {
		text := l.text[start:end]
		lead := len(text) - len(strings.TrimLeft(text, " \t"))
		if text = strings.TrimSpace(text); text != "" || len(args) > 0 {
			args = append(args, argument{text, start + lead})
		}
	}
	for ; l.at < len(l.text); l.at++ {
		c := l.text[l.at]
		switch {
		case quote != 0:
			if c == '\\' && quote != '`' {
				l.at++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'' || c == '`':
			quote = c
		case strings.IndexByte("([{", c) >= 0:
			depth++
		case depth > 0 && strings.IndexByte(")]}", c) >= 0:
			depth--
		case depth == 0 && c == ',':
			add(l.at)
			start = l.at + 1
		case c == ')':
			add(l.at)
			l.at++
			return args
		}
	}
	l.at = min(l.at, len(l.text))
	p.mistake(l.pos(len(l.text)-1, 1), "the parenthesis is not closed", "Write ) after the last value.")
	return args
}

// quotedText takes text in quotes in which {expression} is its value.
func (p *parser) quotedText(l *line, what string) (*Wording, bool) {
	at := l.here()
	start := l.at + 1
	text, ok := p.title(l, what)
	if !ok {
		return nil, false
	}
	said, err := pattern.CompileSaid(text)
	if err != nil {
		e := err.(*pattern.SyntaxError)
		p.mistake(at, e.What, e.Mend)
		return nil, false
	}
	return &Wording{said, p.exprs(l, said.Exprs(), start)}, true
}
