package link

import (
	"encoding/binary"
	"time"
)

// Transparent links carry frames as binary: COBS framing (S. Cheshire, M. Baker,
// IEEE/ACM Transactions on Networking 7(2), 1999) between zero bytes, a CRC-32C
// at the end. A zero also stands before each frame, so that what somebody else has
// sent before it does not take it along.

// MinBinary is the least size of a binary frame, in bytes before framing.
const MinBinary = 36

// stamped is a binary frame with its times, in microseconds since the run began
// on the clock of whoever wrote them; 0 where there is none.
type stamped struct {
	Frame
	Planned, Sent    int64 // by the sender
	FarCame, FarWent int64 // by the far end that repeats it
}

// answered is set in the way of a frame that a far end has repeated.
const answered = 8

// append appends the frame, framed, with filler up to size bytes before framing.
func (f stamped) append(dst []byte, size int) []byte {
	raw := make([]byte, max(size, MinBinary))
	binary.BigEndian.PutUint32(raw[0:], uint32(version<<4|f.Way&15)<<24|f.Run&0xffffff)
	binary.BigEndian.PutUint32(raw[4:], f.Number)
	for i, v := range []int64{f.Planned, f.Sent, f.FarCame, f.FarWent} {
		put48(raw[8+6*i:], v)
	}
	end := len(raw) - 4
	fill(raw[32:end], f.Frame)
	binary.BigEndian.PutUint32(raw[end:], checksum(raw[:end], nil))
	return append(cobs(append(dst, 0), raw), 0)
}

// fill writes what a receiver can foretell, so that damage anywhere shows.
func fill(b []byte, f Frame) {
	x := f.Number*2654435761 ^ f.Run | 1
	for i := range b {
		x ^= x << 13
		x ^= x >> 17
		x ^= x << 5
		b[i] = byte(x >> 24)
	}
}

func put48(b []byte, v int64) {
	binary.BigEndian.PutUint16(b, uint16(v>>32))
	binary.BigEndian.PutUint32(b[2:], uint32(v))
}

func get48(b []byte) int64 {
	return int64(binary.BigEndian.Uint16(b))<<32 | int64(binary.BigEndian.Uint32(b[2:]))
}

// decodeBinary reads what stands between two zeros.
func decodeBinary(chunk []byte) (stamped, int, error) {
	raw, ok := uncobs(chunk)
	if !ok || len(raw) < MinBinary {
		return stamped{}, 0, errNoFrame
	}
	end := len(raw) - 4
	if raw[0]>>4 != version || binary.BigEndian.Uint32(raw[end:]) != checksum(raw[:end], nil) {
		return stamped{}, 0, errNoFrame
	}
	f := stamped{Frame: Frame{Way: raw[0] & 15, Run: binary.BigEndian.Uint32(raw) & 0xffffff, Number: binary.BigEndian.Uint32(raw[4:])}}
	f.Planned, f.Sent, f.FarCame, f.FarWent = get48(raw[8:]), get48(raw[14:]), get48(raw[20:]), get48(raw[26:])
	return f, len(raw), nil
}

// cobs appends raw without zero bytes.
func cobs(dst, raw []byte) []byte {
	for {
		n := 0
		for n < len(raw) && n < 254 && raw[n] != 0 {
			n++
		}
		dst = append(dst, byte(n+1))
		dst = append(dst, raw[:n]...)
		switch {
		case n == len(raw):
			return dst
		case n == 254:
			raw = raw[n:] // a full block stands for no zero
		default:
			if raw = raw[n+1:]; len(raw) == 0 {
				return append(dst, 1)
			}
		}
	}
}

// uncobs takes the framing off again.
func uncobs(b []byte) ([]byte, bool) {
	raw := make([]byte, 0, len(b))
	for len(b) > 0 {
		n := int(b[0])
		if n == 0 || n > len(b) {
			return nil, false
		}
		for _, c := range b[1:n] {
			if c == 0 {
				return nil, false
			}
		}
		raw = append(raw, b[1:n]...)
		if b = b[n:]; n < 255 && len(b) > 0 {
			raw = append(raw, 0)
		}
	}
	return raw, true
}

// framedSize is how many bytes a frame of a size takes on the wire.
func framedSize(size int) int { return size + (size+253)/254 + 2 }

// longestChunk bounds what is kept between two zeros; more is no frame.
const longestChunk = 8 << 10

// decoder takes bytes as they come and gives out frames.
type decoder struct {
	chunk []byte
	over  int // bytes of an overlong chunk that were not kept

	// whole is told of each whole frame, with its size; broken of what stood
	// between two zeros and is none.
	whole  func(at time.Time, f stamped, size int)
	broken func(size int)
}

func (d *decoder) feed(at time.Time, b []byte) {
	for _, c := range b {
		if c != 0 {
			if len(d.chunk) < longestChunk {
				d.chunk = append(d.chunk, c)
			} else {
				d.over++
			}
			continue
		}
		if len(d.chunk) == 0 {
			continue
		}
		if f, size, err := decodeBinary(d.chunk); err == nil && d.over == 0 {
			d.whole(at, f, size)
		} else {
			d.broken(len(d.chunk) + d.over)
		}
		d.chunk, d.over = d.chunk[:0], 0
	}
}

// flush gives up what is left at the end.
func (d *decoder) flush() {
	if n := len(d.chunk) + d.over; n > 0 {
		d.broken(n)
	}
	d.chunk, d.over = d.chunk[:0], 0
}
