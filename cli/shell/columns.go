package shell

import (
	"strings"

	"charm.land/lipgloss/v2"
)

// Width is how many columns a text takes: mostly as many as it has bytes.
func Width(s string) int {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return lipgloss.Width(s)
		}
	}
	return len(s)
}

// Cut is as much of a text as fits.
func Cut(s string, w int) string {
	for n := Width(s); n > w; n = Width(s) {
		if n == len(s) {
			return s[:w]
		}
		r := []rune(s)
		s = string(r[:len(r)-max(1, (n-w)/2)])
	}
	return s
}

// Pad makes a text exactly so wide.
func Pad(s string, w int) string {
	s = Cut(s, w)
	return s + strings.Repeat(" ", max(0, w-Width(s)))
}
