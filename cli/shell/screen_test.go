package shell

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

func TestTook(t *testing.T) {
	for d, want := range map[time.Duration]string{
		12 * time.Microsecond: "12 µs", 1500 * time.Microsecond: "1 ms", 999 * time.Millisecond: "999 ms", 1500 * time.Millisecond: "1.5 s", 90 * time.Second: "1m30s", 26 * time.Hour: "26h0m0s",
	} {
		if got := Took(d); got != want {
			t.Errorf("%v: %s, want %s", d, got, want)
		}
	}
}

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
		if got := Safe(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	if got := OneLine("a\r\nb\tc"); got != `a\r\nb\tc` {
		t.Errorf("one line: %q", got)
	}
}

// Without a terminal nothing is drawn over and nothing is coloured.
func TestScreenInAPipe(t *testing.T) {
	var b bytes.Buffer
	s := NewScreen(&b)
	s.Draw("progress")
	s.Line("%s %s", s.Bold("head"), s.Verdict("passed", 0))
	if got := b.String(); got != "head passed\n" {
		t.Errorf("%q", got)
	}
	b.Reset()
	Table(&b, [][]string{{"step", "verdict"}, {"a", "passed"}, {"größer", ""}})
	if got := b.String(); got != "step    verdict\na       passed\ngrößer\n" || strings.Contains(got, "\x1b") {
		t.Errorf("%q", got)
	}
}
