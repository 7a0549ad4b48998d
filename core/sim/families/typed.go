package families

import "uparrot/core/text"

// typed gathers what a host types into lines that end with CR or LF.
type typed struct {
	line []byte
	ends text.Ends
}

// longestLine bounds what a module keeps of a line; the rest of it is dropped.
const longestLine = 400

// take takes one byte. It returns a line once its end has come. The LF of a CR LF
// belongs to the line before.
func (t *typed) take(c byte) (line string, over bool) {
	switch part := t.ends.Take(c); {
	case part == text.Second:
	case part == text.End:
		line = string(t.line)
		t.line = t.line[:0]
		return line, true
	case c == '\b' || c == 0x7f:
		t.line = t.line[:max(0, len(t.line)-1)]
	case len(t.line) < longestLine:
		t.line = append(t.line, c)
	}
	return "", false
}
