// Package uart does the sums of asynchronous serial lines: how a character is
// framed and how long it takes. It computes only and touches no hardware.
//
// A character is one start bit, the data bits, an optional parity bit and the
// stop bits; the line rests between characters. At a speed of n baud a bit
// takes 1/n second.
package uart

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Parity is the rule for the bit after the data bits.
type Parity byte

// The parity rules, named by the letter that stands for them in a frame.
const (
	None  Parity = 'N'
	Odd   Parity = 'O'
	Even  Parity = 'E'
	Mark  Parity = 'M' // the bit is always 1
	Space Parity = 'S' // the bit is always 0
)

// Frame says how one character is laid out on the line. The zero value is 8N1.
type Frame struct {
	DataBits int    // 5 to 8; 0 means 8
	Parity   Parity // 0 means None
	Stop     int    // in half bits: 2, 3 or 4; 0 means 2 (one stop bit)
}

// Speeds from MinSpeed to MaxSpeed are accepted, in baud; which of them a port
// can really do is for its hardware to say.
const (
	MinSpeed = 45 // the slowest that is in use, of teletypes
	MaxSpeed = 20_000_000
)

// ParseFrame reads a frame as people write it: data bits, parity letter, stop
// bits, such as 8N1, 7E1 or 5N1.5.
func ParseFrame(s string) (Frame, error) {
	bad := fmt.Errorf("invalid frame %q: write data bits, parity N O E M S, stop bits, such as 8N1", s)
	if len(s) < 3 {
		return Frame{}, bad
	}
	f := Frame{DataBits: int(s[0] - '0'), Parity: Parity(strings.ToUpper(s[1:2])[0])}
	switch s[2:] {
	case "1":
		f.Stop = 2
	case "1.5":
		f.Stop = 3
	case "2":
		f.Stop = 4
	default:
		return Frame{}, bad
	}
	if f.DataBits < 5 || f.DataBits > 8 || !strings.ContainsRune("NOEMS", rune(f.Parity)) {
		return Frame{}, bad
	}
	return f, nil
}

// Filled is the frame with its zero fields set to their meaning.
func (f Frame) Filled() Frame {
	if f.DataBits == 0 {
		f.DataBits = 8
	}
	if f.Parity == 0 {
		f.Parity = None
	}
	if f.Stop == 0 {
		f.Stop = 2
	}
	return f
}

// String is the frame as ParseFrame reads it.
func (f Frame) String() string {
	f = f.Filled()
	stop := map[int]string{2: "1", 3: "1.5", 4: "2"}[f.Stop]
	return strconv.Itoa(f.DataBits) + string(f.Parity) + stop
}

// UnmarshalText reads a frame from a file; see [ParseFrame].
func (f *Frame) UnmarshalText(text []byte) (err error) {
	*f, err = ParseFrame(string(text))
	return err
}

// MarshalText is String.
func (f Frame) MarshalText() ([]byte, error) { return []byte(f.String()), nil }

// HalfBits is the length of one character in half bits: 20 for 8N1.
func (f Frame) HalfBits() int {
	f = f.Filled()
	n := 2 * (1 + f.DataBits)
	if f.Parity != None {
		n += 2
	}
	return n + f.Stop
}

// Line is a serial line's speed and frame.
type Line struct {
	Speed int // baud
	Frame Frame
}

// String is the line as people write it, such as "115200 8N1".
func (l Line) String() string { return fmt.Sprintf("%d %s", l.Speed, l.Frame) }

// BitTime is the length of one bit, rounded down to the nanosecond.
func (l Line) BitTime() time.Duration { return l.halfBits(2) }

// CharTime is the length of one character.
func (l Line) CharTime() time.Duration { return l.halfBits(int64(l.Frame.HalfBits())) }

// Time is the length of n characters sent without a gap. It is rounded once,
// so that long stretches gather no error.
func (l Line) Time(n int) time.Duration { return l.halfBits(int64(n) * int64(l.Frame.HalfBits())) }

// Chars is how many characters have gone by whole after d.
func (l Line) Chars(d time.Duration) int {
	if d <= 0 || l.Speed <= 0 {
		return 0
	}
	whole := int64(d/time.Second) * 2 * int64(l.Speed)
	rest := int64(d%time.Second) * 2 * int64(l.Speed) / int64(time.Second)
	return int((whole + rest) / int64(l.Frame.HalfBits()))
}

// halfBits is the time of n half bits. Seconds and the rest are computed
// apart, so that no product overflows.
func (l Line) halfBits(n int64) time.Duration {
	if l.Speed <= 0 {
		return 0
	}
	per := 2 * int64(l.Speed) // half bits a second
	return time.Duration(n/per)*time.Second + time.Duration(n%per*int64(time.Second)/per)
}
