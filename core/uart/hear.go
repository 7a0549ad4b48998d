package uart

// Errors counts what a receiver found wrong with characters.
type Errors struct {
	Frame  int // no stop bit where one had to be
	Parity int // the parity bit did not fit
}

// Hear is what a receiver set to one line makes of a burst of characters sent
// with another. The burst is sent without gaps from an idle line and the line
// is idle afterwards. Where both lines are alike that is the burst itself, data
// bits that the frame has no room for left out.
//
// The receiver works as UARTs do: it waits for a falling edge, looks again half
// a bit later whether that is a start bit, then takes each bit in its middle.
// A character with an error is handed on as it was read, which is what serial
// drivers do unless told otherwise. Without a stop bit the receiver waits for
// the line to rest before it looks for the next edge.
func Hear(sent Line, set Line, burst []byte) ([]byte, Errors) {
	sf, rf := sent.Frame.Filled(), set.Frame.Filled()
	if sent.Speed == set.Speed && sf == rf {
		mask := byte(1<<sf.DataBits - 1)
		out := make([]byte, len(burst))
		for i, b := range burst {
			out[i] = b & mask
		}
		return out, Errors{}
	}
	r := receiver{wave: wave{halfBits(sf, burst), int64(set.Speed)}, frame: rf, half: int64(sent.Speed)}
	return r.run()
}

// HearChecking is Hear of a host that checks parity where its frame has one: a character
// with an error is then read as 0 (POSIX.1-2024, 11.2.2, INPCK without IGNPAR and PARMRK).
func HearChecking(sent Line, set Line, burst []byte) ([]byte, Errors) {
	sf, rf := sent.Frame.Filled(), set.Frame.Filled()
	if rf.Parity == None || sent.Speed == set.Speed && sf == rf {
		return Hear(sent, set, burst)
	}
	r := receiver{wave: wave{halfBits(sf, burst), int64(set.Speed)}, frame: rf, half: int64(sent.Speed), checks: true}
	return r.run()
}

// wave is the line's level over time. Time is counted in units of which both
// sides' half bits are whole numbers: a sender's half bit is as many units as
// the receiver has baud, and the other way round, so nothing is rounded.
type wave struct {
	levels []bool // by the sender's half bits; idle (high) outside
	half   int64  // units in one of them
}

func (w wave) high(t int64) bool {
	i := t / w.half
	return i >= int64(len(w.levels)) || w.levels[i]
}

// fall is the first falling edge at or after t, -1 if there is none.
func (w wave) fall(t int64) int64 {
	for i := max(1, (t+w.half-1)/w.half); i < int64(len(w.levels)); i++ {
		if !w.levels[i] && w.levels[i-1] {
			return i * w.half
		}
	}
	return -1
}

// halfBits draws a burst, after two half bits of rest.
func halfBits(f Frame, burst []byte) []bool {
	levels := []bool{true, true}
	bit := func(high bool) { levels = append(levels, high, high) }
	for _, b := range burst {
		bit(false)
		for i := range f.DataBits {
			bit(b>>i&1 == 1)
		}
		if f.Parity != None {
			bit(f.parityBit(b))
		}
		for range f.Stop {
			levels = append(levels, true)
		}
	}
	return levels
}

// parityBit is the parity bit of a character.
func (f Frame) parityBit(b byte) bool {
	odd := false
	for i := range f.DataBits {
		odd = odd != (b>>i&1 == 1)
	}
	switch f.Parity {
	case Odd:
		return !odd
	case Even:
		return odd
	}
	return f.Parity == Mark
}

type receiver struct {
	wave  wave
	frame Frame
	half  int64 // units in half a bit of the receiver

	checks bool // a character with an error is 0
}

func (r receiver) run() (out []byte, errs Errors) {
	out = []byte{}
	for t := r.wave.fall(0); t >= 0; {
		mid := func(bit int) bool { return r.wave.high(t + r.half*int64(2*bit+1)) }
		if mid(0) { // a spike, no start bit
			t = r.wave.fall(t + r.half)
			continue
		}
		var b byte
		for i := range r.frame.DataBits {
			if mid(1 + i) {
				b |= 1 << i
			}
		}
		bits := 1 + r.frame.DataBits
		before := errs
		if r.frame.Parity != None {
			if mid(bits) != r.frame.parityBit(b) {
				errs.Parity++
			}
			bits++
		}
		if !mid(bits) {
			errs.Frame++
		}
		if r.checks && errs != before {
			b = 0
		}
		out = append(out, b)
		// From the middle of the stop bit on the next edge may come; where the
		// line is low there it must rise first, which fall sees to.
		t = r.wave.fall(t + r.half*int64(2*bits+1))
	}
	return out, errs
}
