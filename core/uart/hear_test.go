package uart

import (
	"bytes"
	"testing"
)

func line(t testing.TB, speed int, frame string) Line {
	f, err := ParseFrame(frame)
	if err != nil {
		t.Fatal(err)
	}
	return Line{speed, f}
}

func TestHear(t *testing.T) {
	all := make([]byte, 256)
	for i := range all {
		all[i] = byte(i)
	}
	for _, c := range []struct {
		name            string
		sent, set       Line
		burst, want     []byte
		frame, parity   int
		anything, clean bool
	}{
		{name: "alike", sent: line(t, 9600, "8N1"), set: line(t, 9600, "8N1"), burst: all, want: all},
		{name: "2 % off is still read", sent: line(t, 98_000, "8N1"), set: line(t, 100_000, "8N1"), burst: all, want: all},
		{name: "two stop bits do no harm", sent: line(t, 9600, "8N2"), set: line(t, 9600, "8N1"), burst: all, want: all},
		{name: "even parity read as the eighth bit", sent: line(t, 9600, "7E1"), set: line(t, 9600, "8N1"), burst: []byte("ACK"), want: []byte{'A', 'C' | 0x80, 'K'}},
		{name: "odd parity read as the eighth bit", sent: line(t, 9600, "7O1"), set: line(t, 9600, "8N1"), burst: []byte("AC"), want: []byte{'A' | 0x80, 'C'}},
		{name: "eight bits read with parity", sent: line(t, 9600, "8N1"), set: line(t, 9600, "7E1"), burst: []byte("AC"), want: []byte("AC"), parity: 1},
		// Half the speed, worked by hand: 0x00 is nine low half-bits then high, so
		// the receiver at double speed sees start, eight zeros and a zero for stop.
		{name: "twice as fast", sent: line(t, 4800, "8N1"), set: line(t, 9600, "8N1"), burst: []byte{0x00}, want: []byte{0x00}, frame: 1},
		// Its start bit is over long before the slow receiver looks at its middle.
		{name: "a spike is no start bit", sent: line(t, 115200, "8N1"), set: line(t, 1200, "8N1"), burst: []byte{0xff}, want: []byte{}},
		{name: "another speed is unreadable", sent: line(t, 115200, "8N1"), set: line(t, 76800, "8N1"), burst: []byte("DUNLIN UP 2.4.1\r\n"), anything: true},
	} {
		got, errs := Hear(c.sent, c.set, c.burst)
		if c.anything {
			if bytes.Contains(got, []byte("DUNLIN")) || len(got) == 0 {
				t.Errorf("%s: %q", c.name, got)
			}
			continue
		}
		if !bytes.Equal(got, c.want) || errs != (Errors{c.frame, c.parity}) {
			t.Errorf("%s: %q %+v, want %q with %d and %d errors", c.name, got, errs, c.want, c.frame, c.parity)
		}
	}
}

// A receiver never takes longer than it should nor invents characters: at most
// one a start bit that could be there.
func FuzzHear(f *testing.F) {
	f.Add(uint32(9600), uint32(115200), byte(0), byte(1), []byte("AT\r"))
	frames := []string{"8N1", "7E1", "8O2", "5N1.5", "7S1", "8M1"}
	f.Fuzz(func(t *testing.T, a, b uint32, fa, fb byte, burst []byte) {
		sent := line(t, 1+int(a%2_000_000), frames[int(fa)%len(frames)])
		set := line(t, 1+int(b%2_000_000), frames[int(fb)%len(frames)])
		if len(burst) > 200 {
			burst = burst[:200]
		}
		got, _ := Hear(sent, set, burst)
		if most := len(burst) * sent.Frame.HalfBits(); len(got) > most {
			t.Errorf("%v heard as %v: %d characters became %d", sent, set, len(burst), len(got))
		}
	})
}
