// Package pattern is the notation for text that is heard from a module.
//
// A pattern is the module's own text with places left open:
//
//	...            anything
//	{}             any text
//	{name}         any text, captured
//	{name:int}     captured as a type: int, num, hex, word, text, quoted,
//	               ipv4 or bytes(n), n being a number, an earlier capture or
//	               a value, filled in by Bind
//	{name:u16}     bytes of a packet that are a number: u8 u16 u32 i8 i16 i32,
//	               the highest first, or u16le u32le i16le i32le, the lowest
//	{=expression}  the value of an expression, filled in by Bind
//	{cr} {lf} {tab} {esc} {nul} {ctrl-a}..{ctrl-z} {hex 04 A4}   bytes
//	{{ and }}      braces
//	/.../          around the whole: a regular expression (RE2)
//
// Matching a line of n bytes against a pattern of m parts takes time in
// proportion to n times m at most, whatever the line holds: nothing is tried
// twice. Open text takes the least that lets the rest match; numbers take
// every digit there is, and a word before an open place the whole word.
package pattern

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// A kind says what a part of a pattern accepts.
type kind int

const (
	literal   kind = iota
	value          // {=expression}, before Bind
	gap            // ...: any bytes
	text           // printable text, may be empty
	word           // printable, no blank, at least one
	integer        // sign and digits
	number         // with fraction and exponent
	hexNumber      // hexadecimal digits, 0x allowed
	quoted         // "..." with the quotes left out of the value
	ipv4           // dotted quad
	exactly        // bytes(n)
	blanks         // one blank or tab or more
)

var kinds = map[string]kind{
	"int": integer, "num": number, "hex": hexNumber, "word": word, "text": text, "quoted": quoted, "ipv4": ipv4, "bytes": exactly,
}

// typeNames are the types that a capture may have, as written.
var typeNames = append([]string{"int", "num", "hex", "word", "text", "quoted", "ipv4", "bytes(n)"}, Packings()...)

type part struct {
	kind kind
	lit  string // literal: its bytes; value: the expression
	name string // capture; "" if unnamed
	size int    // exactly: the count, where sizeOf is ""
	from string // exactly: the capture that holds the count
	pack string // exactly and value: the number that the bytes are, as a type; "" if they are none
	full bool   // word: an open place follows, so it takes the whole word
	far  bool   // exactly: the count is none of the pattern's own captures, and filled in by Bind
	at   int    // offset in the source
}

func (p part) open() bool { return p.kind == gap || p.kind == text || p.kind == word && !p.full }

// Pattern is compiled heard text. It is immutable and safe for use by several
// goroutines.
type Pattern struct {
	source string
	parts  []part
	re     *regexp.Regexp // instead of parts, for /.../

	// simple is set if a single walk from the left decides: no open part
	// stands before another part.
	simple bool
}

// SyntaxError says what is wrong in a pattern's text, and where.
type SyntaxError struct {
	Offset int // bytes from the start of the text
	Width  int // bytes concerned
	What   string
	Mend   string
}

func (e *SyntaxError) Error() string { return e.What }

// Compile reads a pattern. An error is a *SyntaxError.
func Compile(source string) (*Pattern, error) {
	p := &Pattern{source: source}
	if len(source) >= 2 && source[0] == '/' && source[len(source)-1] == '/' {
		re, err := regexp.Compile("^(?:" + source[1:len(source)-1] + ")$")
		if err != nil {
			return nil, &SyntaxError{0, len(source), "the regular expression cannot be read: " + RegexpWords(err), "The syntax is RE2's: no look-around, no back-references."}
		}
		p.re = re
		return p, nil
	}
	parts, err := scan(source, heardText)
	if err != nil {
		return nil, err
	}
	p.parts = parts
	p.prepare()
	return p, nil
}

// Must compiles a pattern that the program itself holds.
func Must(source string) *Pattern {
	p, err := Compile(source)
	if err != nil {
		panic(fmt.Sprintf("pattern %q: %v", source, err))
	}
	return p
}

// prepare joins neighbouring literals and finds out how the rest is matched.
func (p *Pattern) prepare() {
	joined := p.parts[:0:0]
	for _, q := range p.parts {
		if n := len(joined); n > 0 && q.kind == literal && joined[n-1].kind == literal {
			joined[n-1].lit += q.lit
			continue
		}
		joined = append(joined, q)
	}
	p.parts = joined
	for i := range p.parts[:max(0, len(p.parts)-1)] {
		next := p.parts[i+1].kind
		p.parts[i].full = p.parts[i].kind == word && (next == gap || next == text)
	}
	p.simple = true
	for i, q := range p.parts {
		if q.open() && i < len(p.parts)-1 {
			p.simple = false
		}
	}
}

// String is the pattern as written.
func (p *Pattern) String() string { return p.source }

// Name is a capture and where it stands in the source.
type Name struct {
	Name   string
	Type   string
	Offset int
}

// Names are the captures, from the left.
func (p *Pattern) Names() []Name {
	var names []Name
	if p.re != nil {
		for _, n := range p.re.SubexpNames() {
			if n != "" {
				names = append(names, Name{Name: n, Type: "text", Offset: max(0, strings.Index(p.source, "<"+n+">")+1)})
			}
		}
		return names
	}
	for _, q := range p.parts {
		if q.name != "" {
			typ := typeName(q.kind)
			if q.pack != "" {
				typ = "int"
			}
			names = append(names, Name{q.name, typ, q.at + 1})
		}
	}
	return names
}

func typeName(k kind) string {
	for name, kk := range kinds {
		if kk == k {
			return name
		}
	}
	return ""
}

// Expr is an expression inside a text and where it stands.
type Expr struct {
	Source string
	Offset int
	Count  bool // it is how many bytes a bytes(n) has
}

// Exprs are the expressions that Bind will ask for, from the left.
func (p *Pattern) Exprs() []Expr {
	var out []Expr
	for _, q := range p.parts {
		switch {
		case q.kind == value:
			out = append(out, Expr{Source: q.lit, Offset: q.at + 2})
		case q.far:
			out = append(out, Expr{q.from, q.at + strings.LastIndex(p.source[q.at:q.at+strings.IndexByte(p.source[q.at:], '}')], q.from), true})
		}
	}
	return out
}

// Bind fills in the expressions. Where there are none it returns p itself.
func (p *Pattern) Bind(eval func(expr string) (string, error)) (*Pattern, error) {
	bound := p
	for i, q := range p.parts {
		if q.kind != value && !q.far {
			continue
		}
		if bound == p {
			bound = &Pattern{source: p.source, parts: append([]part(nil), p.parts...)}
		}
		if q.far {
			v, err := eval(q.from)
			if err != nil {
				return nil, err
			}
			n, err := strconv.Atoi(v)
			if err != nil || n < 0 || n > MaxBytes {
				return nil, fmt.Errorf("bytes(%s): %s is %s, wanted a whole number from 0 to %d", q.from, q.from, v, MaxBytes)
			}
			bound.parts[i].size, bound.parts[i].from, bound.parts[i].far = n, "", false
			continue
		}
		v, err := eval(q.lit)
		if err == nil && q.pack != "" {
			v, err = packValue(q.pack, v)
		}
		if err != nil {
			return nil, err
		}
		bound.parts[i].kind, bound.parts[i].lit = literal, v
	}
	if bound != p {
		bound.source = bound.filled(p)
		bound.prepare()
	}
	return bound, nil
}

// filled is the pattern as written, with the values in their places.
func (p *Pattern) filled(open *Pattern) string {
	var b strings.Builder
	at := 0
	for i, q := range open.parts {
		if q.kind != value {
			continue
		}
		if q.at < at || q.at >= len(open.source) || open.source[q.at] != '{' { // it is shown in other words, as a packet is
			return open.source
		}
		b.WriteString(open.source[at:q.at])
		b.WriteString(strings.NewReplacer("{", "{{", "}", "}}").Replace(p.parts[i].lit))
		at = q.at + strings.IndexByte(open.source[q.at:], '}') + 1
	}
	return b.String() + open.source[at:]
}

// Starved are the captures that take nothing, or of a word one character, since an open place stands right
// behind them.
func (p *Pattern) Starved() (names []Name) {
	for i, q := range p.parts[:max(0, len(p.parts)-1)] {
		if q.name != "" && (q.kind == text || q.kind == word && !q.full) && p.parts[i+1].open() {
			names = append(names, Name{q.name, typeName(q.kind), q.at + 1})
		}
	}
	return names
}

// LineEnd is where a line end stands in the text of the pattern itself, which no line holds; below zero if
// none does.
func (p *Pattern) LineEnd() int {
	for _, q := range p.parts {
		if i := strings.IndexAny(q.lit, "\r\n"); q.kind == literal && i >= 0 {
			return q.at
		}
	}
	return -1
}

// HasWord reports whether the pattern demands at least one letter or digit of
// its own, and so is about something in particular.
func (p *Pattern) HasWord() bool {
	if p.re != nil {
		return true
	}
	for _, q := range p.parts {
		if q.kind == value {
			return true
		}
		if q.kind == literal && strings.IndexFunc(q.lit, isWord) >= 0 {
			return true
		}
	}
	return false
}

func isWord(r rune) bool {
	return r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 0x7f
}

// Literal is the text of a pattern that leaves nothing open.
func (p *Pattern) Literal() (string, bool) {
	if p.re != nil || len(p.parts) == 0 {
		return "", false
	}
	all := ""
	for _, q := range p.parts {
		if q.kind != literal && q.kind != blanks {
			return "", false
		}
		all += q.lit
	}
	return all, true
}

// Capture is one value taken from heard text.
type Capture struct {
	Name  string
	Text  string
	Value any // int for int and hex, float64 for num, string for all else
}

func (p part) capture(s string) (Capture, bool) {
	c := Capture{Name: p.name, Text: s, Value: s}
	var err error
	switch p.kind {
	case exactly:
		if p.pack != "" {
			c.Value, err = Unpack(p.pack, s)
		}
	case integer:
		c.Value, err = strconv.Atoi(s)
	case number:
		c.Value, err = strconv.ParseFloat(s, 64)
	case hexNumber:
		var v int64
		v, err = strconv.ParseInt(strings.TrimPrefix(strings.TrimPrefix(s, "0x"), "0X"), 16, strconv.IntSize)
		c.Value = int(v)
	case quoted:
		c.Value = s[1 : len(s)-1]
	}
	return c, err == nil
}

// samples stand for what a capture of a type may hold.
var samples = map[kind]string{integer: "1", number: "1.5", hexNumber: "1A", word: "word", text: "text", quoted: `""`, ipv4: "192.0.2.1"}

// Outline is the pattern's own text, with open in each place that it leaves open.
// It is "" for a regular expression.
func (p *Pattern) Outline(open string) string {
	var b strings.Builder
	for _, q := range p.parts {
		if q.kind == literal || q.kind == blanks {
			b.WriteString(q.lit)
		} else {
			b.WriteString(open)
		}
	}
	return b.String()
}

// Example is a line that the pattern matches: captures have the values given by
// name, and otherwise some value of their type. The length of a payload follows
// the payload. It is "" for a regular expression.
func (p *Pattern) Example(values map[string]string) string {
	lengths := map[string]string{} // of payloads, by the capture that tells it
	for _, q := range p.parts {
		if v, ok := values[q.name]; ok && q.kind == exactly && q.from != "" {
			lengths[q.from] = strconv.Itoa(len(v))
		}
	}
	var b strings.Builder
	sizes := map[string]string{}
	for _, q := range p.parts {
		text, given := values[q.name]
		switch {
		case q.kind == literal, q.kind == blanks:
			text = q.lit
		case lengths[q.name] != "" && q.name != "":
			text = lengths[q.name]
		case given && q.kind == quoted:
			text = `"` + text + `"`
		case given:
		case q.kind == exactly && q.from != "":
			n, _ := strconv.Atoi(sizes[q.from]) // a sample of ours, or a given number
			text = strings.Repeat("x", max(0, min(n, MaxBytes)))
		case q.kind == exactly:
			text = strings.Repeat("x", q.size)
		default:
			text = samples[q.kind]
		}
		if q.name != "" {
			sizes[q.name] = text
		}
		b.WriteString(text)
	}
	return b.String()
}
