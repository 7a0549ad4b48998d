package procedure

import (
	"encoding"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
	"uparrot/core/uart"
)

// Read reads a procedure and the phrasebooks that it names. Mistakes are
// returned as source.Mistakes, all of them.
func Read(path string) (*File, error) { return ReadWith(path, nil) }

// ReadWith is Read where phrasebooks of ports are known that the header does not name, by the
// names of the ports.
func ReadWith(path string, books map[string]*phrasebook.Phrasebook) (*File, error) {
	text, err := source.ReadFile(path)
	if err != nil {
		return nil, source.Unreadable(path, err)
	}
	return ParseWith(path, string(text), books)
}

// Parse is Read on text that has been read already.
func Parse(path, text string) (*File, error) { return ParseWith(path, text, nil) }

// ParseWith is ReadWith on such text.
func ParseWith(path, text string, books map[string]*phrasebook.Phrasebook) (*File, error) {
	f, mistakes := Study(path, text, books, source.ReadFile)
	if err := mistakes.Err(); err != nil {
		return nil, err
	}
	return f, nil
}

// Study is ParseWith for a text that is being written: the procedure is there as far as it can be
// read, with its mistakes beside it. Read reads the files that it names.
func Study(path, text string, books map[string]*phrasebook.Phrasebook, read func(path string) ([]byte, error)) (*File, source.Mistakes) {
	names := &bindings{roots: []int{0}} // 0 is none
	p := &parser{
		books:    books,
		readFile: read,
		names:    names,
		file:     &File{Path: path, Answers: defaultAnswers, Texts: map[string]source.Lines{}},
		values:   newScope(names),
		header:   map[string]bool{},
		used:     map[string]bool{},
		titles:   map[string]*Step{},
		compiled: map[string]compiled{},
		times:    map[string]bool{},
	}
	if m, is := source.Unfit(path, text, source.Procedure); is {
		return p.file, source.Mistakes{m}
	}
	p.values.given = p.given
	p.text(path, text)
	p.whole()
	p.inspect()
	if len(p.mistakes) == 0 { // else it may be needed by what could not be read
		p.warn()
	}
	_ = p.mistakes.Err() // puts them in order
	for _, u := range names.uses {
		u.bind = names.root(u.bind)
		p.file.Uses = append(p.file.Uses, u)
	}
	p.file.sortUses()
	return p.file, p.mistakes
}

// given notes where a name gets a value.
func (p *parser) given(name string, v *value) {
	kind := ValueUse
	switch {
	case v.what == "a routine":
		kind = RoutineUse
	case v.port:
		kind = PortUse
	}
	p.note(Use{Pos: v.at, Name: name, Kind: kind, Gives: true, Type: typeWord(v.typ), What: v.what, bind: v.bind})
}

// broken reports whether a line of a file from one on to before another has a mistake.
func (p *parser) broken(file string, from, to int) bool {
	return slices.ContainsFunc(p.mistakes, func(m source.Mistake) bool { return m.File == file && m.Line >= from && m.Line < to })
}

// noValue is what is said of a name that has no value; a line with that alone is read all the same.
const noValue = "has no value here"

// meant reports whether a line that could not be read has a word, so that whatever is missing of it is told
// already.
func (p *parser) meant(word string) bool {
	for _, m := range p.mistakes {
		if strings.HasSuffix(m.What, noValue) {
			continue
		}
		for _, w := range strings.FieldsFunc(m.Text, func(r rune) bool { return !pattern.IsName("a" + string(r)) }) {
			if w == word {
				return true
			}
		}
	}
	return false
}

type parser struct {
	file     *File
	readFile func(path string) ([]byte, error)
	names    *bindings
	books    map[string]*phrasebook.Phrasebook // of ports, that the header does not name
	mistakes source.Mistakes
	values   *scope
	blocks   []*block // open ones, the innermost last
	step     *Step    // being read, nil outside
	routine  *Routine // being read, nil outside
	titles   map[string]*Step
	header   map[string]bool
	used     map[string]bool // ports that some statement uses
	reading  []string        // files being read, for includes
	atEnd    []func()        // what can be read only once all steps have been
	compiled map[string]compiled
	times    map[string]bool // names that hold seconds
}

func (p *parser) mistake(at Pos, what, mend string) {
	p.mistakes = append(p.mistakes, p.finding(at, what, mend))
}

func (p *parser) finding(at Pos, what, mend string) source.Mistake {
	return source.Mistake{File: at.File, Line: at.Line, Column: at.Column, Width: at.Width, Text: p.file.Text(at), What: what, Mend: mend}
}

// A reader reads what follows the word that a statement begins with. The line
// stands behind that word; at is the word's place.
type reader func(p *parser, l *line, at Pos)

// text reads the lines of a file.
func (p *parser) text(path, text string) {
	p.reading = append(p.reading, path)
	defer func() { p.reading = p.reading[:len(p.reading)-1] }()
	lines := source.SplitLines(strings.TrimPrefix(text, "\ufeff"))
	p.file.Texts[path] = lines
	for i, text := range lines {
		l := &line{file: path, number: i + 1, text: strings.TrimRight(text, " \t")}
		if len(text) > maxLine { // an expression is read by calls within calls
			p.mistake(Pos{path, i + 1, 1, 1}, fmt.Sprintf("the line is longer than %d bytes", maxLine), "Take it apart with let.")
			if b := p.block(); b != nil {
				b.tried++
			}
			continue
		}
		if l.done() || l.text[l.at] == '#' {
			continue
		}
		if !p.plainText(l) {
			if b := p.block(); b != nil {
				b.tried++
			}
			continue
		}
		words, where := header, "outside a step"
		if b := p.block(); b != nil {
			words, where = inBlock, "in a "+b.word
		}
		w, at := l.word()
		known := find(words, w)
		if known == nil {
			p.unknownWord(l, w, at, words, where)
			continue
		}
		if p.mayStand(w, at) {
			known.read(p, l, at)
		}
	}
	p.closeAll()
}

// maxLine is how many bytes a line has at most.
const maxLine = 16 << 10

// closeAll reports the blocks that a file has left open.
func (p *parser) closeAll() {
	for b := p.block(); b != nil; b = p.block() {
		p.mistake(b.at, b.what()+" has no end", "Write end on a line of its own after its last statement.")
		p.closeBlock()
	}
}

// whole checks what only the whole file shows. A file with routines and no
// steps is there to be included.
func (p *parser) whole() {
	for _, do := range p.atEnd {
		do()
	}
	if len(p.file.Steps) == 0 && (len(p.file.Routines) > 0 || len(p.mistakes) > 0) {
		return
	}
	if p.file.Title == "" && !p.header["procedure"] && !p.meant("procedure") && !slices.ContainsFunc(p.mistakes, func(m source.Mistake) bool { return strings.HasPrefix(m.Mend, "Here it is called procedure") }) {
		p.mistake(Pos{p.file.Path, 1, 1, 1}, "the procedure has no title", `Begin with: procedure "What it does"`)
	}
	if len(p.file.Steps) == 0 {
		p.mistake(Pos{File: p.file.Path}, "the procedure has no steps", `Write step "what must hold", its statements, and end.`)
	}
}

// plainText refuses what cannot be typed: bytes that are no UTF-8, control
// bytes, and characters that a word processor slipped in.
func (p *parser) plainText(l *line) bool {
	if !utf8.ValidString(l.text) {
		p.mistake(Pos{l.file, l.number, 1, 1}, "the line is not UTF-8 text", "Save the file as UTF-8; write bytes as {hex 04 A4}.")
		return false
	}
	ok := true
	for i, r := range l.text {
		if why, is := pasted[r]; is {
			p.mistake(l.pos(i, utf8.RuneLen(r)), "this is "+why, "It comes from copying out of a document.")
			ok = false
		} else if r < ' ' && r != '\t' || r == 0x7f {
			p.mistake(l.pos(i, 1), fmt.Sprintf("a control byte %#02x", r), "Write it by name, such as {esc} or {ctrl-z}.")
			ok = false
		}
	}
	return ok
}

func (p *parser) unknownWord(l *line, w string, at Pos, words []Word, where string) {
	if w == "" {
		at = l.here()
		w, _ = l.token()
	}
	b := p.block()
	switch {
	case find(header, w) == nil && find(inBlock, w) == nil:
		p.mistake(at, fmt.Sprintf("unknown word %q", w), hint(l, w, words))
		if b != nil {
			b.tried++
		}
	case b == nil && w == "end":
		p.mistake(at, "there is no open block for this end", "Delete it, or look for an end too many above.")
	case b == nil:
		p.mistake(at, fmt.Sprintf("%s cannot stand %s", w, where), "It belongs between step and end.")
	default:
		p.mistake(at, fmt.Sprintf("%s cannot stand %s", w, where), fmt.Sprintf("T%s, line %d, is still open: close it with end.", b.what()[1:], b.at.Line))
		b.tried++
		if w == "step" || w == "routine" {
			for p.block() != nil { // go on as if the ends were there
				p.closeBlock()
			}
			find(header, w).read(p, l, at)
		}
	}
}

// over reports what is left on a line where nothing may be.
func (p *parser) over(l *line) {
	if !l.done() {
		rest, at := l.rest()
		p.mistake(l.pos(at, len(rest)), fmt.Sprintf("%q is too much here", rest), "Delete it, or put it on a line of its own.")
	}
}

// title takes a text in quotes.
func (p *parser) title(l *line, what string) (string, bool) {
	at := l.here()
	s, ok := l.quoted()
	if !ok {
		p.mistake(at, "wanted "+what+" in double quotes", `Write it between " and ".`)
	}
	return s, ok
}

// name takes a text in quotes that something is called by.
func (p *parser) name(l *line, what string) (string, bool) {
	at := l.here()
	s, ok := p.title(l, what)
	if ok && strings.TrimSpace(s) == "" {
		p.mistake(at, what+" is empty", "Records, reports and the ledger know it by that: write what it is.")
	}
	return s, ok
}

// span takes a time.
func (p *parser) span(l *line) (time.Duration, bool) {
	l.blanks()
	start := l.at
	for l.at < len(l.text) && !strings.ContainsRune(" \t:", rune(l.text[l.at])) {
		l.at++
	}
	t := l.text[start:l.at]
	at := l.pos(start, len(t))
	d, err := span(t)
	if t == "" {
		err = errors.New("wanted a time")
	}
	if err != nil {
		p.mistake(at, err.Error(), spanHint)
		return 0, false
	}
	return d, true
}

// once reports a header line that may stand only once.
func (p *parser) once(word string, at Pos) {
	if p.header[word] {
		p.mistake(at, word+" stands twice", "Keep one of the two.")
	}
	p.header[word] = true
}

func (p *parser) readProcedure(l *line, at Pos) {
	p.once("procedure", at)
	if s, ok := p.name(l, "the title"); ok {
		p.file.Title = s
		p.over(l)
	}
}

func (p *parser) readAbout(l *line, at Pos) {
	p.once("about", at)
	if s, ok := p.title(l, "a sentence"); ok {
		p.file.About = s
		p.over(l)
	}
}

func (p *parser) readAnswers(l *line, at Pos) {
	p.once("answers", at)
	if !l.takeWord("within") {
		p.mistake(l.here(), "wanted within", "Write: answers within 2s")
		return
	}
	if d, ok := p.span(l); ok {
		p.file.Answers = d
		p.over(l)
	}
}

func (p *parser) readKeepGoing(l *line, at Pos) {
	if !l.takeWord("going") {
		p.mistake(l.here(), "wanted going", "Write: keep going")
		return
	}
	p.file.KeepGoing = true
	p.over(l)
}

// newName takes a name and checks that it is free.
func (p *parser) newName(l *line, what string) (string, Pos, bool) {
	t := l.peekWord()
	at := l.here()
	if !pattern.IsName(t) {
		p.mistake(at, "wanted a name for the "+what, "A name is letters, digits and underscores, and begins with a letter.")
		return "", at, false
	}
	_, at = l.word()
	if old, ok := p.values.find(t); ok {
		p.mistake(at, fmt.Sprintf("%s is the name of %s already", t, old.what), "Choose another name.")
		return "", at, false
	}
	if reserved[t] || placed[t] && (what == "port" || what == "parameter") {
		p.mistake(at, fmt.Sprintf("%s is a word of the language", t), "Choose another name.")
		return "", at, false
	}
	if isFunction(t) {
		p.mistake(at, fmt.Sprintf("%s is the name of a function", t), "Choose another name.")
		return "", at, false
	}
	return t, at, true
}

// reserved are words of expressions, which cannot name a value. A port may also
// not be named as a word that can stand in its place.
var (
	reserved = setOf("not", "in", "and", "or", "true", "false", "nil", "let", "if", "else", "matches", "contains", "startsWith", "endsWith")
	placed   = setOf("bytes", "next", "later", "earlier", "without", "restarts", "within", "took", "for", "until", "operator", "hear", "nothing", "speed", "frame", "ending", "dialect", "dtr", "rts", "break", "reopen")
)

// Reserved reports whether a word cannot be the name of a port or a value, because
// it is a word or a function of the language.
func Reserved(word string) bool {
	return reserved[word] || placed[word] || isFunction(word)
}

// isFunction reports whether a word is a function of ours.
func isFunction(word string) bool {
	return ourFunctions[word].do != nil // those of the clock are told from a value by their parentheses
}

func setOf(words ...string) map[string]bool {
	m := map[string]bool{}
	for _, w := range words {
		m[w] = true
	}
	return m
}

var portWords = append([]string{"dialect", "speed", "frame", "ending", "flow", "phrasebook", "tcp", "udp"}, phrasebook.SignWords...)

func (p *parser) readPort(l *line, _ Pos) {
	name, at, ok := p.newName(l, "port")
	if !ok {
		return
	}
	port := &PortDecl{Pos: at, Name: name}
	p.file.Ports = append(p.file.Ports, port)
	p.values.add(name, value{what: "a port", port: true, at: at})
	if l.done() {
		return
	}
	if !l.take(":") {
		p.mistake(l.here(), "wanted a colon after the port's name", "Write: port "+name+": dialect at, speed 115200")
		return
	}
	for !l.done() {
		if !p.portWord(l, port) {
			return
		}
		if !l.take(",") {
			p.over(l)
			return
		}
	}
}

func (p *parser) portWord(l *line, port *PortDecl) bool {
	w, at := l.word()
	switch w {
	case "speed":
		v, at := l.until(", ")
		n, ok := number(v)
		if !ok || n < uart.MinSpeed || n > uart.MaxSpeed {
			p.mistake(at, fmt.Sprintf("%q is no speed", v), fmt.Sprintf("A speed is %d to %d baud, such as 115200.", uart.MinSpeed, uart.MaxSpeed))
			return false
		}
		port.Setup.Speed = n
	case "phrasebook":
		at := l.here()
		file, ok := p.title(l, "the phrasebook's file")
		if !ok {
			return false
		}
		p.readPhrasebook(port, file, at)
	case "tcp", "udp":
		port.Socket = w
		if port.To = l.takeWord("to"); port.To {
			return p.connects(l, port)
		}
		var ok bool
		if port.At, ok = p.quotedText(l, "the host and port number where it listens, such as \"127.0.0.1:7000\","); !ok {
			return false
		}
	default:
		if list := port.Setup.Of(w); list != nil {
			return p.sign(l, w, port, list)
		}
		if !p.setupWord(l, w, at, &port.Setup) {
			return false
		}
	}
	return true
}

// connects takes where a port connects to. Its values may be given by steps, so they are
// looked for once the whole file is read.
func (p *parser) connects(l *line, port *PortDecl) bool {
	at, start := l.here(), l.at+1
	text, ok := p.title(l, "the host and port number that it connects to, such as \"192.0.2.7:23\",")
	if !ok {
		return false
	}
	said, err := pattern.CompileSaid(text)
	if e, ok := errors.AsType[*pattern.SyntaxError](err); ok {
		p.mistake(at, e.What, e.Mend)
		return false
	}
	own := *l
	p.atEnd = append(p.atEnd, func() { port.At = &Wording{said, p.exprs(&own, said.Exprs(), start)} })
	return true
}

// sign takes one phrase of a kind; there may be several of each.
func (p *parser) sign(l *line, word string, port *PortDecl, list *phrasebook.Phrases) bool {
	at := l.here()
	text, ok := p.title(l, "what is heard")
	if !ok {
		return false
	}
	phrase, err := phrasebook.ParsePhrase(text)
	if err != nil {
		p.problem(at, err)
		return false
	}
	*list = append(*list, phrase)
	if word != "pager" || !l.takeWord("with") {
		return true
	}
	at = l.here()
	if text, ok = p.title(l, "what tells the module to go on"); !ok {
		return false
	}
	answer, err := phrasebook.ParseSpoken(text)
	if err != nil {
		p.problem(at, err)
		return false
	}
	port.Setup.PagerAnswer = &answer
	return true
}

// setupWord reads one of the words that say how a port is spoken to.
func (p *parser) setupWord(l *line, w string, at Pos, s *phrasebook.Setup) bool {
	var into encoding.TextUnmarshaler
	var frame uart.Frame
	switch w {
	case "dialect":
		into = &s.Dialect
	case "ending":
		into = &s.Ending
	case "flow":
		into = &s.Flow
	case "frame":
		into, s.Frame = &frame, &frame
	default:
		if w == "" {
			at = l.here()
			w, _ = l.until(", ")
		}
		p.mistake(at, fmt.Sprintf("%q says nothing about a port", w), source.DidYouMean(w, portWords))
		return false
	}
	v, at := l.until(", ")
	if err := into.UnmarshalText([]byte(v)); err != nil || v == "" {
		if v == "" {
			err = &source.Problem{What: "wanted a word behind " + w}
		}
		p.problem(at, err)
		return false
	}
	return true
}

// problem reports what a word's own reader says of it.
func (p *parser) problem(at Pos, err error) {
	what, mend := err.Error(), ""
	if pr, ok := errors.AsType[*source.Problem](err); ok {
		what, mend = pr.What, pr.Mend
	}
	p.mistake(at, what, mend)
}

func (p *parser) readPhrasebook(port *PortDecl, file string, at Pos) {
	path := source.Beside(at.File, file)
	p.note(Use{Pos: inQuotes(at), Name: file, Kind: FileUse, Path: path})
	text, err := p.readFile(path)
	if err != nil {
		p.mistake(at, fmt.Sprintf("the phrasebook cannot be read: %v", errors.Unwrap(err)), source.NearFile(path, file, "A path is taken from the folder of the procedure."))
		return
	}
	if other := source.Other(string(text), source.Phrasebook); other != nil {
		p.mistake(at, other.What, other.Mend)
		return
	}
	pb, err := phrasebook.Parse(path, string(text))
	if m, ok := errors.AsType[source.Mistakes](err); ok {
		p.mistakes = append(p.mistakes, m...)
	}
	port.Phrasebook = pb
}

func (p *parser) readInclude(l *line, _ Pos) {
	at := l.here()
	file, ok := p.title(l, "a file")
	if !ok {
		return
	}
	p.over(l)
	path := source.Beside(at.File, file)
	if isOneOf(path, p.reading) {
		p.mistake(at, fmt.Sprintf("%s includes itself", path), "Take one of the includes out.")
		return
	}
	if _, ok := p.file.Texts[path]; ok {
		p.mistake(at, fmt.Sprintf("%s is included already", path), "Delete this line.")
		return
	}
	p.note(Use{Pos: inQuotes(at), Name: file, Kind: FileUse, Path: path})
	text, err := p.readFile(path)
	if err != nil {
		p.mistake(at, fmt.Sprintf("the file cannot be read: %v", errors.Unwrap(err)), source.NearFile(path, file, "A path is taken from the folder of the file that names it."))
		return
	}
	if len(p.reading) == maxIncludes {
		p.mistake(at, fmt.Sprintf("more than %d files include each other", maxIncludes), "Put them side by side instead.")
		return
	}
	p.text(path, string(text))
}

const maxIncludes = 20

// inQuotes is the place behind a quote.
func inQuotes(at Pos) Pos {
	at.Column++
	return at
}
