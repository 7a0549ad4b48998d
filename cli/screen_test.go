package cli

import (
	"bytes"
	"strings"
	"testing"
)

// Nothing that a module sends may steer the terminal.
func TestSafe(t *testing.T) {
	for in, want := range map[string]string{
		"~NODE: 5":           "~NODE: 5",
		"Größe 5 µm\n\tnext": "Größe 5 µm\n    \tnext",
		"\x1b[2J\x07":        `\x1b[2J\x07`,
		"a\rb\x00":           `a\x0db\x00`,
		"\xff\xfe":           `\xff\xfe`,
		"\u009b31m":          `\xc2\x9b31m`,
		"a\u202eb":           `a\xe2\x80\xaeb`,
	} {
		if got := safe(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	if got := oneLine("a\r\nb\tc"); got != `a\r\nb\tc` {
		t.Errorf("one line: %q", got)
	}
}

// Without a terminal nothing is drawn over and nothing is coloured.
func TestScreenInAPipe(t *testing.T) {
	var b bytes.Buffer
	s := newScreen(&b)
	s.draw("progress")
	s.line("%s %s", s.bold("head"), s.verdict("passed", 0))
	if got := b.String(); got != "head passed\n" {
		t.Errorf("%q", got)
	}
	b.Reset()
	table(&b, [][]string{{"step", "verdict"}, {"a", "passed"}, {"größer", ""}})
	if got := b.String(); got != "step    verdict\na       passed\ngrößer\n" || strings.Contains(got, "\x1b") {
		t.Errorf("%q", got)
	}
}
