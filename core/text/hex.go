package text

import "fmt"

// Hexed is bytes in hexadecimal and as text, on one line. Of more than most the first are
// shown, and how many there are; 0 shows all.
func Hexed(b []byte, most int) string {
	more := ""
	if most > 0 && len(b) > most {
		b, more = b[:most], fmt.Sprintf("  and %d bytes more", len(b)-most)
	}
	return fmt.Sprintf("% X  %s%s", b, Dots(b), more)
}

// Dots is bytes as ASCII with a dot for each that is none.
func Dots(b []byte) string {
	out := make([]byte, len(b))
	for i, c := range b {
		if out[i] = c; c < ' ' || c > '~' {
			out[i] = '.'
		}
	}
	return string(out)
}
