package procedure

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// line is a scanner over one line of a procedure. It knows where it is, so that
// every mistake has its column.
type line struct {
	file   string
	number int
	text   string // without blanks at its end
	at     int    // bytes
	stands *Pos   // where it is told to stand, if it stands in no file
}

func (l *line) blanks() {
	for l.at < len(l.text) && (l.text[l.at] == ' ' || l.text[l.at] == '\t') {
		l.at++
	}
}

// done reports whether only blanks are left.
func (l *line) done() bool {
	l.blanks()
	return l.at == len(l.text)
}

// pos is the place from a byte offset on, width bytes long.
func (l *line) pos(at, width int) Pos {
	if l.stands != nil {
		return *l.stands
	}
	at = min(at, len(l.text))
	end := min(at+width, len(l.text))
	return Pos{l.file, l.number, 1 + utf8.RuneCountInString(l.text[:at]), max(1, utf8.RuneCountInString(l.text[at:end]))}
}

// here is the place of the next word or sign.
func (l *line) here() Pos {
	l.blanks()
	end := l.at
	for end < len(l.text) && !unicode.IsSpace(rune(l.text[end])) {
		end++
	}
	return l.pos(l.at, end-l.at)
}

func isLetter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// peekWord is the next word, "" if something else comes next.
func (l *line) peekWord() string {
	l.blanks()
	end := l.at
	for end < len(l.text) && (isLetter(l.text[end]) || end > l.at && (isDigit(l.text[end]) || l.text[end] == '-')) {
		end++
	}
	return l.text[l.at:end]
}

// word takes the next word.
func (l *line) word() (string, Pos) {
	w := l.peekWord()
	p := l.pos(l.at, len(w))
	l.at += len(w)
	return w, p
}

// takeWord takes the next word if it is the one given.
func (l *line) takeWord(w string) bool {
	if l.peekWord() != w {
		return false
	}
	l.at += len(w)
	return true
}

// take takes a sign if it comes next.
func (l *line) take(sign string) bool {
	l.blanks()
	if !strings.HasPrefix(l.text[l.at:], sign) {
		return false
	}
	l.at += len(sign)
	return true
}

// rest is all that is left.
func (l *line) rest() (string, int) {
	l.blanks()
	at := l.at
	l.at = len(l.text)
	return l.text[at:], at
}

// quoted takes a text in double quotes; \" and \\ stand for themselves.
func (l *line) quoted() (string, bool) {
	l.blanks()
	if l.at == len(l.text) || l.text[l.at] != '"' {
		return "", false
	}
	var b strings.Builder
	for i := l.at + 1; i < len(l.text); i++ {
		switch c := l.text[i]; {
		case c == '\\' && i+1 < len(l.text) && (l.text[i+1] == '"' || l.text[i+1] == '\\'):
			i++
			b.WriteByte(l.text[i])
		case c == '"':
			l.at = i + 1
			return b.String(), true
		default:
			b.WriteByte(c)
		}
	}
	return "", false
}

// token is the text up to the next blank.
func (l *line) token() (string, Pos) {
	p := l.here()
	at := l.at
	for l.at < len(l.text) && l.text[l.at] != ' ' && l.text[l.at] != '\t' {
		l.at++
	}
	return l.text[at:l.at], p
}

// nested takes the text up to the next blank that stands outside parentheses.
func (l *line) nested() (string, Pos) {
	l.blanks()
	start, depth := l.at, 0
	for ; l.at < len(l.text); l.at++ {
		c := l.text[l.at]
		if depth <= 0 && (c == ' ' || c == '\t') {
			break
		}
		if c == '(' {
			depth++
		} else if c == ')' {
			depth--
		}
	}
	return l.text[start:l.at], l.pos(start, l.at-start)
}

// until takes the text up to one of some signs.
func (l *line) until(signs string) (string, Pos) {
	l.blanks()
	start := l.at
	for l.at < len(l.text) && !strings.ContainsRune(signs, rune(l.text[l.at])) {
		l.at++
	}
	return l.text[start:l.at], l.pos(start, l.at-start)
}

// span reads a time such as 500ms or 1m30s.
func span(s string) (time.Duration, error) {
	d, err := time.ParseDuration(s)
	switch {
	case err == nil && d > 0 && d <= maxSpan:
		return d, nil
	case err == nil && d > maxSpan:
		return 0, fmt.Errorf("%s is longer than %v", s, maxSpan)
	case s != "" && strings.Trim(s, "0123456789.") == "":
		return 0, fmt.Errorf("the time %s has no unit", s)
	}
	return 0, fmt.Errorf("%q is no time", s)
}

const maxSpan = 7 * 24 * time.Hour

const spanHint = "Write a number and a unit without a blank: 500ms, 2s, 1m30s, 1h."

// number reads a whole number with sign.
func number(s string) (int, bool) {
	n, err := strconv.Atoi(s)
	return n, err == nil
}

// pasted are characters that word processors put in place of plain ones.
var pasted = map[rune]string{
	'\u201c': `a typographic quote; write "`, '\u201d': `a typographic quote; write "`, '\u201e': `a typographic quote; write "`,
	'\u2018': "a typographic quote; write '", '\u2019': "a typographic quote; write '",
	'\u00a0': "a non-breaking blank; write a plain one", '\u202f': "a non-breaking blank; write a plain one", '\u2007': "a non-breaking blank; write a plain one",
	'\u200b': "an invisible character; delete it", '\ufeff': "an invisible character; delete it",
}
