package text

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

// FindEnd is the place of the first byte in b that ends a line, or -1.
func FindEnd(b []byte) int {
	for i, c := range b {
		if c <= '\r' && (c == '\n' || c == '\r') {
			return i
		}
	}
	return -1
}

// Trim is a line without its line end.
func Trim(line []byte) []byte {
	for len(line) > 0 && (line[len(line)-1] == '\n' || line[len(line)-1] == '\r') {
		line = line[:len(line)-1]
	}
	return line
}
