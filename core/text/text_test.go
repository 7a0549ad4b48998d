package text

import (
	"bytes"
	"strings"
	"testing"
)

// However a stream is cut into pieces, its lines are the same.
func TestEnds(t *testing.T) {
	const stream = "a\rb\nc\r\nd\r\r\n\n\re"
	want := "a|b|c|d||||e"
	lines := func(pieces ...string) string {
		var e Ends
		var out strings.Builder
		for _, p := range pieces {
			for b := []byte(p); len(b) > 0; {
				n := FindEnd(b)
				if n < 0 {
					e.Pass()
					out.Write(b)
					break
				}
				if n > 0 {
					e.Pass()
				}
				out.Write(b[:n])
				if second := e.Pairs(b[n]); e.Take(b[n]) == End {
					out.WriteByte('|')
				} else if !second {
					t.Errorf("%q ends nothing", b[n])
				}
				b = b[n+1:]
			}
		}
		return out.String()
	}
	for i := range stream {
		if got := lines(stream[:i], stream[i:]); got != want {
			t.Errorf("cut at %d: %s, want %s", i, got, want)
		}
	}
	if got := lines(strings.Split(stream, "")...); got != want {
		t.Errorf("byte by byte: %s, want %s", got, want)
	}
	if got := string(Trim([]byte("x\r\r\n"))); got != "x" {
		t.Errorf("%q", got)
	}
}

// Escape sequences go, whatever stands beside them; what is none of them stays, and
// one whose end has not come is known.
func TestPlain(t *testing.T) {
	for in, want := range map[string]string{
		"plain":                         "plain",
		"\x1b[32mok\x1b[0m":             "ok",
		"a\x1b[2J\x1b[1;1Hb":            "ab",
		"\x1b]0;title\x07x":             "x",
		"\x1b]0;title\x1b\\x":           "x",
		"\x1bP1$r\x1b\\y":               "y",
		"\x1b(Bz":                       "z",
		"\x1bcq":                        "q",
		"cut \x1b[3":                    "cut \x1b[3",
		"cut \x1b":                      "cut \x1b",
		"\x1b\x00n":                     "\x00n",
		"\x1b[3\x1b[0mm":                "m",
		"\x90noise\x9b31m\x1b[0m stays": "\x90noise\x9b31m stays",
	} {
		if got := string(Plain([]byte(in))); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
		if got := Unfinished([]byte(in)); got != strings.HasPrefix(in, "cut") {
			t.Errorf("%q is unfinished: %v", in, got)
		}
	}
	if got := Shown([]byte("\x1b[1m4\t7 \x07\x1b[0m\r\n")); got != `4    7 \x07` {
		t.Errorf("%q", got)
	}
}

// Nothing that comes out of Shown can steer a terminal, and without an escape
// nothing is lost.
func FuzzShown(f *testing.F) {
	f.Add([]byte("\x1b[31mred\x1b[0m \x00\xff"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, r := range Shown(b) {
			if !Showable(r) {
				t.Fatalf("%q shows %q", b, r)
			}
		}
		if p := Plain(b); bytes.IndexByte(b, esc) < 0 && !bytes.Equal(p, b) || len(p) > len(b) {
			t.Errorf("%q became %q", b, p)
		}
	})
}
