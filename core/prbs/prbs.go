// Package prbs makes the pseudo-random bit sequences of ITU-T O.150.
package prbs

import "fmt"

// Sequence is one sequence at one place. Bits fill bytes from the lowest on,
// the order in which a serial line sends them.
type Sequence struct {
	state  uint32
	length uint
	tap    uint
	invert byte
}

// Shape is how the sequence of 2^n-1 bits is made: n is 9 (O.150, 5.1), 15 (5.3)
// or 23 (5.6). Each bit is the sum of those n and tap places before it; the longer
// two are sent inverted, as the recommendation says.
func Shape(n int) (tap uint, inverted bool, err error) {
	tap, ok := map[int]uint{9: 5, 15: 14, 23: 18}[n]
	if !ok {
		return 0, false, fmt.Errorf("there is no sequence of 2^%d-1 bits: there are 9, 15 and 23", n)
	}
	return tap, n > 9, nil
}

// New begins the sequence of 2^n-1 bits from its start; see Shape.
func New(n int) (*Sequence, error) {
	tap, inverted, err := Shape(n)
	if err != nil {
		return nil, err
	}
	s := &Sequence{state: 1<<n - 1, length: uint(n), tap: tap}
	if inverted {
		s.invert = 1
	}
	return s, nil
}

// bit is the next bit: the sum of stages n and tap is fed back into the first.
func (s *Sequence) bit() byte {
	out := s.state >> (s.length - 1) & 1
	next := out ^ s.state>>(s.tap-1)&1
	s.state = (s.state<<1 | next) & (1<<s.length - 1)
	return byte(out) ^ s.invert
}

// Fill writes the next bits into b.
func (s *Sequence) Fill(b []byte) {
	for i := range b {
		b[i] = 0
		for k := range 8 {
			b[i] |= s.bit() << k
		}
	}
}
