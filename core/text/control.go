package text

import "fmt"

// Control is where the first control byte of a text stands, a line end among them; below zero if there is none.
func Control(s string) int {
	for i := range len(s) {
		if s[i] < ' ' || s[i] == 0x7f {
			return i
		}
	}
	return -1
}

// ControlName is a control byte in words.
func ControlName(c byte) string {
	switch c {
	case '\r':
		return "a line end (CR)"
	case '\n':
		return "a line end (LF)"
	}
	return fmt.Sprintf("a control byte (%02X)", c)
}
