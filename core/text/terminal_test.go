package text

import (
	"strings"
	"testing"
)

func TestTerminal(t *testing.T) {
	for _, c := range []struct{ line, want string }{
		{"plain text", "plain text"},
		{"s\bseq 1 2000", "seq 1 2000"},
		{"tower# \r\x1b[7Cls", "tower# ls"},
		{"10 %\r20 %\r100 %", "100 %"},
		{"copying\rdone", "doneing"},
		{"copying\r\x1b[Kdone", "done"},
		{"abc\b\b\x1b[K", "a"},
		{"abcd\x1b[3D\x1b[P", "acd"},
		{"ad\b\x1b[2@bc", "abcd"},
		{"abc\x1b[2Kx", "   x"},
		{"abc\x1b[1Kx", "   x"},
		{"ab\x1b[1Gc", "cb"},
		{"\x1b[31mred\x1b[0m", "red"},
		{"\x00OK\x07", "OK"},
		{"Türe\b\b\bor", "Tore"},
		{"cut \x1b[3", "cut "},
		{"\b\bx", "x"},
		{"a\tb", "a\tb"},
	} {
		if got := string(Terminal([]byte(c.line))); got != c.want {
			t.Errorf("%q: %q, want %q", c.line, got, c.want)
		}
	}
}

// Whatever comes, a line stays within bounds, and one without control bytes is as it came.
func FuzzTerminal(f *testing.F) {
	for _, s := range []string{"a\x1b[99999999C\x1b[99999@b", "a\bb\rc\x1b[1K", "ü\b\xff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		got := string(Terminal([]byte(s)))
		if len(got) > 4*(len(s)+1)*(widestLine+1) || strings.ContainsAny(got, "\x00\b\r\x1b") {
			t.Errorf("%q becomes %q", s, got)
		}
	})
}
