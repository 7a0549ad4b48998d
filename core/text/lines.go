package text

import "bytes"

// Part is what a byte is in a stream of lines.
type Part int

// What a byte can be.
const (
	Inside Part = iota // of a line
	End                // ends a line
	Second             // the LF of a CR LF, whose CR has ended the line
)

// Ends tells line ends in a stream of bytes that comes in pieces: CR, LF, or CR LF,
// which is one. The zero value is the beginning of a stream.
type Ends struct{ cr bool }

// Take takes in the next byte.
func (e *Ends) Take(c byte) Part {
	after := e.cr
	e.cr = c == '\r'
	switch {
	case c == '\n' && after:
		return Second
	case c == '\n' || c == '\r':
		return End
	}
	return Inside
}

// Pairs reports whether the next byte, if it is c, is the LF of a CR LF.
func (e *Ends) Pairs(c byte) bool { return e.cr && c == '\n' }

// Pass notes that bytes have passed that end no line.
func (e *Ends) Pass() { e.cr = false }

// FindEnd is the place of the first byte in b that ends a line, or -1. It looks at
// a stretch at a time, so that one kind of line end that never comes costs no
// search through all that follows.
func FindEnd(b []byte) int {
	if len(b) > 0 && (b[0] == '\n' || b[0] == '\r') { // the LF of a CR LF, most often
		return 0
	}
	const stretch = 256
	for from := 0; from < len(b); from += stretch {
		part := b[from:min(from+stretch, len(b))]
		lf := bytes.IndexByte(part, '\n')
		if lf >= 0 {
			part = part[:lf]
		}
		if cr := bytes.IndexByte(part, '\r'); cr >= 0 {
			return from + cr
		}
		if lf >= 0 {
			return from + lf
		}
	}
	return -1
}

// TrimBlanks is b without the blanks and tabs at both its ends.
func TrimBlanks(b []byte) []byte {
	for len(b) > 0 && (b[0] == ' ' || b[0] == '\t') {
		b = b[1:]
	}
	for len(b) > 0 && (b[len(b)-1] == ' ' || b[len(b)-1] == '\t') {
		b = b[:len(b)-1]
	}
	return b
}

// Trim is a line without its line end.
func Trim(line []byte) []byte {
	for len(line) > 0 && (line[len(line)-1] == '\n' || line[len(line)-1] == '\r') {
		line = line[:len(line)-1]
	}
	return line
}
