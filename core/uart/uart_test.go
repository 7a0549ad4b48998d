package uart

import (
	"testing"
	"time"
)

func TestFrame(t *testing.T) {
	for _, c := range []struct {
		text string
		half int
	}{
		{"8N1", 20}, {"7E1", 20}, {"8E1", 22}, {"8N2", 22}, {"5N1.5", 15}, {"5N1", 14}, {"6O2", 20}, {"8M1", 22}, {"7S2", 22},
	} {
		f, err := ParseFrame(c.text)
		if err != nil || f.String() != c.text || f.HalfBits() != c.half {
			t.Errorf("%s: got %s, %d half bits, %v; want %d", c.text, f, f.HalfBits(), err, c.half)
		}
	}
	if got := (Frame{}).String(); got != "8N1" {
		t.Errorf("zero frame is %s", got)
	}
	for _, bad := range []string{"", "8", "8N", "9N1", "4N1", "8X1", "8N3", "8N1.50", "N81", "8N1 "} {
		if f, err := ParseFrame(bad); err == nil {
			t.Errorf("%q read as %s", bad, f)
		}
	}
}

func TestLineTimes(t *testing.T) {
	frame := func(s string) Frame { f, _ := ParseFrame(s); return f }
	for _, c := range []struct {
		line Line
		n    int
		want time.Duration
	}{
		{Line{9600, frame("8N1")}, 1, 1041666 * time.Nanosecond},
		{Line{9600, frame("8N1")}, 960, time.Second},
		{Line{115200, frame("8N1")}, 11520 * 86400, 86400 * time.Second}, // a day gathers no error
		{Line{1200, frame("7E1")}, 120, time.Second},
		{Line{110, frame("8N2")}, 10, time.Second},
		{Line{50, frame("5N1.5")}, 20, 3 * time.Second},
		{Line{0, Frame{}}, 5, 0},
	} {
		if got := c.line.Time(c.n); got != c.want {
			t.Errorf("%v: %d characters take %v, want %v", c.line, c.n, got, c.want)
		}
		if c.line.Speed > 0 {
			if got := c.line.Chars(c.want + time.Microsecond); got != c.n {
				t.Errorf("%v: %v holds %d characters, want %d", c.line, c.want, got, c.n)
			}
		}
	}
	if got := (Line{1000, Frame{}}).BitTime(); got != time.Millisecond {
		t.Errorf("bit time %v", got)
	}
}
