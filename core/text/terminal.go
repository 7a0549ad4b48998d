package text

import (
	"bytes"
	"strconv"
	"unicode/utf8"
)

// Terminal is what a line looks like on a terminal: backspaces and carriage returns move back and what follows
// is written over what stood there, erased text is gone, and the sequences of ECMA-48 by which consoles redraw
// what is typed are followed (CUF, CUB, CHA, EL, DCH, ICH); others, colours among them, are left out, as are NUL and
// BEL. It takes one line, without its line end.
func Terminal(line []byte) []byte {
	if bytes.IndexFunc(line, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) < 0 {
		return line
	}
	var s screenLine
	for i := 0; i < len(line); {
		switch c := line[i]; {
		case c == esc:
			n, whole := sequence(line[i:])
			if !whole {
				return s.bytes()
			}
			s.follow(line[i : i+n])
			i += n
			continue
		case c == '\b':
			s.at = max(0, s.at-1)
		case c == '\r':
			s.at = 0
		case c < ' ' && c != '\t' || c == 0x7f:
		default:
			_, n := utf8.DecodeRune(line[i:])
			s.put(string(line[i : i+n]))
			i += n
			continue
		}
		i++
	}
	return s.bytes()
}

// widestLine is how far to the right a cursor is followed.
const widestLine = 64 << 10

// screenLine is a line of a terminal: a character each, and where the cursor stands.
type screenLine struct {
	cells []string
	at    int
}

func (s *screenLine) put(c string) {
	for len(s.cells) < s.at {
		s.cells = append(s.cells, " ")
	}
	if s.at == len(s.cells) {
		s.cells = append(s.cells, c)
	} else {
		s.cells[s.at] = c
	}
	s.at++
}

// follow does what a control sequence asks for.
func (s *screenLine) follow(seq []byte) {
	if len(seq) < 3 || seq[1] != '[' {
		return
	}
	number, err := strconv.Atoi(string(seq[2 : len(seq)-1]))
	if err != nil {
		number = 0
	}
	n, size := max(1, min(number, widestLine)), len(s.cells)
	switch seq[len(seq)-1] {
	case 'C':
		s.at = min(s.at+n, widestLine)
	case 'D':
		s.at = max(0, s.at-n)
	case 'G':
		s.at = n - 1
	case 'P':
		if s.at < size {
			s.cells = append(s.cells[:s.at], s.cells[min(size, s.at+n):]...)
		}
	case '@':
		if s.at < size && size+n <= widestLine {
			rest := append([]string(nil), s.cells[s.at:]...)
			s.cells = s.cells[:s.at]
			for range n {
				s.cells = append(s.cells, " ")
			}
			s.cells = append(s.cells, rest...)
		}
	case 'K':
		switch {
		case number == 0 && s.at < size:
			s.cells = s.cells[:s.at]
		case number == 2:
			s.cells = s.cells[:0]
		case number == 1:
			for i := range min(size, s.at+1) {
				s.cells[i] = " "
			}
		}
	}
}

func (s *screenLine) bytes() []byte {
	var b []byte
	for _, c := range s.cells {
		b = append(b, c...)
	}
	return b
}
