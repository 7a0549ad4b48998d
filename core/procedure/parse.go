package procedure

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	serial "uparrot/core/port"
	"uparrot/core/source"
	"uparrot/core/uart"
)

// Read reads a procedure and the phrasebooks that it names. Mistakes are
// returned as source.Mistakes, all of them.
func Read(path string) (*File, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read the procedure: %w", err)
	}
	return Parse(path, string(text))
}

// Parse is Read on text that has been read already.
func Parse(path, text string) (*File, error) {
	text = strings.TrimPrefix(text, "\ufeff")
	p := &parser{
		file:   &File{Path: path, Answers: DefaultAnswers, Lines: source.SplitLines(text)},
		values: newScope(),
	}
	p.run()
	if err := p.mistakes.Err(); err != nil {
		return nil, err
	}
	p.warn()
	return p.file, nil
}

type parser struct {
	file     *File
	mistakes source.Mistakes
	values   *scope
	step     *Step // open block, nil outside
	tried    int   // statements in it, also those that could not be read
	titles   map[string]*Step
	header   map[string]bool
	used     map[string]bool // ports that some statement uses
}

func (p *parser) mistake(at Pos, what, mend string) {
	p.mistakes = append(p.mistakes, p.finding(at, what, mend))
}

func (p *parser) finding(at Pos, what, mend string) source.Mistake {
	return source.Mistake{File: p.file.Path, Line: at.Line, Column: at.Column, Width: at.Width, Text: p.file.Lines.At(at.Line), What: what, Mend: mend}
}

// A reader reads what follows the word that a statement begins with. The line
// stands behind that word; at is the word's place.
type reader func(p *parser, l *line, at Pos)

// The statements of the header and of a step. A new statement is one entry
// here, one node in tree.go and one case where procedures are performed.
var (
	headerWords map[string]reader
	stepWords   map[string]reader
)

func init() {
	headerWords = map[string]reader{
		"procedure": (*parser).readProcedure,
		"about":     (*parser).readAbout,
		"port":      (*parser).readPort,
		"input":     (*parser).readInput,
		"secret":    (*parser).readSecret,
		"let":       (*parser).readLet,
		"answers":   (*parser).readAnswers,
		"keep":      (*parser).readKeepGoing,
		"step":      (*parser).readStep,
	}
	stepWords = map[string]reader{
		"say":   (*parser).readSay,
		"hear":  func(p *parser, l *line, at Pos) { p.readHear(l, at, false) },
		"not":   (*parser).readNot,
		"check": (*parser).readCheck,
		"limit": (*parser).readLimit,
		"let":   (*parser).readLet,
		"pause": (*parser).readPause,
		"quiet": (*parser).readQuiet,
		"end":   (*parser).readEnd,
	}
}

func (p *parser) run() {
	p.header, p.used, p.titles = map[string]bool{}, map[string]bool{}, map[string]*Step{}
	for i, text := range p.file.Lines {
		l := &line{number: i + 1, text: strings.TrimRight(text, " \t")}
		if l.done() || l.text[l.at] == '#' {
			continue
		}
		if !p.plainText(l) {
			continue
		}
		words, where := headerWords, "outside a step"
		if p.step != nil {
			words, where = stepWords, "in a step"
		}
		w, at := l.word()
		read, ok := words[w]
		if p.step != nil && w != "end" {
			p.tried++
		}
		if !ok {
			p.unknownWord(l, w, at, words, where)
			continue
		}
		read(p, l, at)
	}
	if p.step != nil {
		p.mistake(p.step.Pos, fmt.Sprintf("the step %q has no end", p.step.Title), "Write end on a line of its own after its last statement.")
	}
	if p.file.Title == "" && len(p.mistakes) == 0 {
		p.mistake(Pos{1, 1, 1}, "the procedure has no title", `Begin with: procedure "What it does"`)
	}
	if len(p.file.Steps) == 0 && len(p.mistakes) == 0 {
		p.mistake(Pos{max(1, len(p.file.Lines)), 1, 1}, "the procedure has no steps", `Write step "what must hold", its statements, and end.`)
	}
}

// plainText refuses what cannot be typed: bytes that are no UTF-8, control
// bytes, and characters that a word processor slipped in.
func (p *parser) plainText(l *line) bool {
	if !utf8.ValidString(l.text) {
		p.mistake(Pos{l.number, 1, 1}, "the line is not UTF-8 text", "Save the file as UTF-8; write bytes as {hex 04 A4}.")
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

func (p *parser) unknownWord(l *line, w string, at Pos, words map[string]reader, where string) {
	if w == "" {
		at = l.here()
		w, _ = l.token()
	}
	_, other := headerWords[w]
	if _, inStep := stepWords[w]; other || inStep {
		mend := "It belongs between step and end."
		if p.step != nil {
			mend = fmt.Sprintf("The step %q, line %d, is still open: close it with end.", p.step.Title, p.step.Line)
		} else if w == "end" {
			mend = "There is no open step here: delete it, or look for an end too many above."
		}
		p.mistake(at, fmt.Sprintf("%s cannot stand %s", w, where), mend)
		if p.step != nil && w == "step" {
			p.closeStep() // go on as if the end were there
			headerWords[w](p, l, at)
		}
		return
	}
	p.mistake(at, fmt.Sprintf("unknown word %q", w), source.DidYouMean(w, keys(words)))
}

func keys[V any](m map[string]V) []string {
	var list []string
	for k := range m {
		list = append(list, k)
	}
	sort.Strings(list)
	return list
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
	if s, ok := p.title(l, "the title"); ok {
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
	if reserved[t] {
		p.mistake(at, fmt.Sprintf("%s is a word of the language", t), "Choose another name.")
		return "", at, false
	}
	return t, at, true
}

// reserved are words that stand where a name could stand too.
var reserved = map[string]bool{"bytes": true, "next": true, "within": true, "for": true, "not": true, "in": true, "and": true, "or": true, "true": true, "false": true, "nil": true}

var portWords = []string{"dialect", "speed", "frame", "ending", "flow", "phrasebook"}

func (p *parser) readPort(l *line, _ Pos) {
	name, at, ok := p.newName(l, "port")
	if !ok {
		return
	}
	port := &Port{Pos: at, Name: name}
	p.file.Ports = append(p.file.Ports, port)
	p.values.add(name, value{what: "a port", port: true})
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

func (p *parser) portWord(l *line, port *Port) bool {
	w, at := l.word()
	arg := func() (string, Pos) {
		l.blanks()
		start := l.at
		for l.at < len(l.text) && l.text[l.at] != ',' && l.text[l.at] != ' ' {
			l.at++
		}
		return l.text[start:l.at], l.pos(start, l.at-start)
	}
	switch w {
	case "dialect":
		v, at := arg()
		if _, ok := dialog.ParseDialect(v); !ok {
			p.mistake(at, fmt.Sprintf("there is no dialect %q", v), source.DidYouMean(v, dialog.DialectNames))
			return false
		}
		port.Setup.Dialect = v
	case "speed":
		v, at := arg()
		n, ok := number(v)
		if !ok || n < uart.MinSpeed || n > uart.MaxSpeed {
			p.mistake(at, fmt.Sprintf("%q is no speed", v), fmt.Sprintf("A speed is %d to %d baud, such as 115200.", uart.MinSpeed, uart.MaxSpeed))
			return false
		}
		port.Setup.Speed = n
	case "frame":
		v, at := arg()
		f, err := uart.ParseFrame(v)
		if err != nil {
			p.mistake(at, err.Error(), "")
			return false
		}
		port.Setup.Frame = &f
	case "ending":
		v, at := arg()
		if !isOneOf(v, phrasebook.EndingNames) {
			p.mistake(at, fmt.Sprintf("there is no line ending %q", v), source.DidYouMean(v, phrasebook.EndingNames))
			return false
		}
		port.Setup.Ending = v
	case "flow":
		v, at := arg()
		if _, ok := serial.ParseFlow(v); !ok {
			p.mistake(at, fmt.Sprintf("there is no flow control %q", v), source.DidYouMean(v, serial.FlowNames))
			return false
		}
		port.Setup.Flow = v
	case "phrasebook":
		at := l.here()
		file, ok := p.title(l, "the phrasebook's file")
		if !ok {
			return false
		}
		p.readPhrasebook(port, file, at)
	default:
		if w == "" {
			at = l.here()
			w, _ = arg()
		}
		p.mistake(at, fmt.Sprintf("%q says nothing about a port", w), source.DidYouMean(w, portWords))
		return false
	}
	return true
}

func (p *parser) readPhrasebook(port *Port, file string, at Pos) {
	path := file
	if !filepath.IsAbs(path) {
		path = filepath.Join(filepath.Dir(p.file.Path), file)
	}
	pb, err := phrasebook.Read(path)
	if m, ok := errors.AsType[source.Mistakes](err); ok {
		p.mistakes = append(p.mistakes, m...)
	} else if err != nil {
		p.mistake(at, fmt.Sprintf("the phrasebook cannot be read: %v", errors.Unwrap(err)), "A path is taken from the folder of the procedure.")
	}
	port.Phrasebook = pb
}
