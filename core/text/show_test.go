package text

import (
	"strings"
	"testing"
	"time"
)

// Nothing that a module sends steers a terminal or turns text over; on one line
// it stays on its line.
func TestTextAndLine(t *testing.T) {
	for _, c := range []struct{ in, text, line string }{
		{"", "", ""},
		{"plain", "plain", "plain"},
		{"Größe 4 µs", "Größe 4 µs", "Größe 4 µs"},
		{"a\tb\nc", "a\tb\nc", `a\tb\nc`},
		{"a\rb", `a\x0db`, `a\rb`},
		{"\x1b[2Jgone", `\x1b[2Jgone`, `\x1b[2Jgone`},
		{"bell\a\x7f", `bell\x07\x7f`, `bell\x07\x7f`},
		{"\u202eabc", `\xe2\x80\xaeabc`, `\xe2\x80\xaeabc`},
		{"\u009b31m", `\xc2\x9b31m`, `\xc2\x9b31m`},
		{"\xffé", `\xff\xc3\xa9`, `\xff\xc3\xa9`}, // bytes, of which some look like a letter
		{"\x00", `\x00`, `\x00`},
	} {
		if got := Text(c.in); got != c.text {
			t.Errorf("Text(%q) = %q, want %q", c.in, got, c.text)
		}
		if got := Line(c.in); got != c.line {
			t.Errorf("Line(%q) = %q, want %q", c.in, got, c.line)
		}
	}
}

// What cannot be seen is shown as escapes: marks of direction, zero widths, tags, joiners,
// fillers, selectors, private and unassigned characters.
func TestInvisible(t *testing.T) {
	for _, r := range "\u061c\u200b\u200e\u202e\u2028\u2060\u2066\ufeff\u00ad\u034f\u115f\u3164\uffa0\u17b4\u180e\ufe0f\U000e0041\U000e0100\ue000\U000f0000\u0378\uffff" {
		if s := "ab" + string(r) + "c"; Showable(r) || !strings.Contains(Text(s), `\x`) || !strings.Contains(Line(s), `\x`) || strings.ContainsRune(Shown([]byte(s)), r) {
			t.Errorf("%U is shown as it is", r)
		}
	}
	for _, r := range "é€你µ°±→│▶ " {
		if !Showable(r) {
			t.Errorf("%q is not shown", r)
		}
	}
}

// A message that is too wide is broken at blanks; the command that ends it is not.
func TestFold(t *testing.T) {
	long := strings.Repeat("word ", 25)
	for _, c := range []struct{ line, want string }{
		{"short", "short"},
		{strings.TrimSpace(long), strings.TrimSpace(strings.Repeat("word ", 20)) + "\n    " + strings.TrimSpace(strings.Repeat("word ", 5))},
		{"    " + strings.TrimSpace(long), "    " + strings.TrimSpace(strings.Repeat("word ", 19)) + "\n    " + strings.TrimSpace(strings.Repeat("word ", 6))},
		{"start it with: uparrot " + strings.TrimSpace(long), "start it with:\n    uparrot " + strings.TrimSpace(long)},
		{"uparrot: uparrot run " + strings.TrimSpace(long), "uparrot: uparrot run " + strings.TrimSpace(strings.Repeat("word ", 16)) + "\n    " + strings.TrimSpace(strings.Repeat("word ", 9))},
		{strings.Repeat("x", 150), strings.Repeat("x", 150)},
		{strings.TrimSpace(strings.Repeat("ä", 99) + " b c"), strings.Repeat("ä", 99) + "\n    b c"},
	} {
		if got := Fold(c.line); got != c.want {
			t.Errorf("%q:\n%s\nwanted\n%s", c.line, got, c.want)
		}
	}
}

func TestTookAndCount(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0: "0 µs", 999 * time.Microsecond: "999 µs", 12345 * time.Microsecond: "12 ms", 2340 * time.Millisecond: "2.3 s", 90*time.Second + 400*time.Millisecond: "1m30s",
	} {
		if got := Took(d); got != want {
			t.Errorf("Took(%v) = %q, want %q", d, got, want)
		}
	}
	if FromMS(1.5) != 1500*time.Microsecond || Count(1, "step") != "1 step" || Count(0, "step") != "0 steps" {
		t.Errorf("%v, %s, %s", FromMS(1.5), Count(1, "step"), Count(0, "step"))
	}
}
