package frame

import (
	"bytes"
	"encoding/binary"
	"time"

	"uparrot/core/phrasebook"
)

// Transparent links carry frames as binary: COBS framing (S. Cheshire, M. Baker,
// IEEE/ACM Transactions on Networking 7(2), 1999) between zero bytes, a CRC-32C
// at the end. A zero also stands before each frame, so that what somebody else has
// sent before it does not take it along.

// MinBinary is the least size of a binary frame, in bytes before framing.
const MinBinary = phrasebook.LeastBinary

// Stamped is a binary frame with its times, in microseconds since the run began
// on the clock of whoever wrote them; 0 where there is none.
type Stamped struct {
	Frame
	Planned, Sent    int64 // by the sender
	FarCame, FarWent int64 // by the far end that repeats it
}

// Answered is set in the way of a frame that a far end has repeated.
const Answered = 8

// Append appends the frame, framed, with filler up to size bytes before framing.
func (f Stamped) Append(dst []byte, size int) []byte {
	var few [96]byte // as much as most frames need: clearing more shows in the rate
	raw := few[:]
	if size = max(size, MinBinary); size > len(few) {
		raw = make([]byte, size)
	}
	raw = raw[:size]
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
func decodeBinary(chunk []byte) (Stamped, int, error) {
	raw, ok := uncobs(nil, chunk)
	if !ok {
		return Stamped{}, 0, errNoFrame
	}
	return readBinary(raw)
}

// readBinary reads a frame without its framing.
func readBinary(raw []byte) (Stamped, int, error) {
	if len(raw) < MinBinary {
		return Stamped{}, 0, errNoFrame
	}
	end := len(raw) - 4
	if raw[0]>>4 != version || binary.BigEndian.Uint32(raw[end:]) != checksum(raw[:end], nil) {
		return Stamped{}, 0, errNoFrame
	}
	f := Stamped{Frame: Frame{Way: raw[0] & 15, Run: binary.BigEndian.Uint32(raw) & 0xffffff, Number: binary.BigEndian.Uint32(raw[4:])}}
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

// uncobs takes the framing off again and appends what is left to raw.
func uncobs(raw, b []byte) ([]byte, bool) {
	for len(b) > 0 {
		n := int(b[0])
		if n == 0 || n > len(b) {
			return raw, false
		}
		if bytes.IndexByte(b[1:n], 0) >= 0 {
			return raw, false
		}
		raw = append(raw, b[1:n]...)
		if b = b[n:]; n < 255 && len(b) > 0 {
			raw = append(raw, 0)
		}
	}
	return raw, true
}

// Wire is how many bytes a frame of a size takes on the wire.
func Wire(size int) int { return size + (size+253)/254 + 2 }

// longestChunk bounds what is kept between two zeros; more is no frame.
const longestChunk = 8 << 10

// Decoder takes bytes as they come and gives out frames.
type Decoder struct {
	chunk []byte
	raw   []byte // its content, kept for the next
	over  int    // bytes of an overlong chunk that were not kept

	// Whole is told of each whole frame, with its size; Broken of what stood
	// between two zeros and is none: size bytes, of which b are kept until it returns.
	Whole  func(at time.Time, f Stamped, size int)
	Broken func(b []byte, size int)
}

func (d *Decoder) Feed(at time.Time, b []byte) {
	for len(b) > 0 {
		end := bytes.IndexByte(b, 0)
		piece := b
		if end >= 0 {
			piece = b[:end]
		}
		room := min(len(piece), longestChunk-len(d.chunk))
		d.chunk = append(d.chunk, piece[:room]...)
		d.over += len(piece) - room
		if end < 0 {
			return
		}
		b = b[end+1:]
		if len(d.chunk) == 0 {
			continue
		}
		f, size, err := d.decode()
		if err == nil && d.over == 0 {
			d.Whole(at, f, size)
		} else {
			d.Broken(d.chunk, len(d.chunk)+d.over)
		}
		d.chunk, d.over = d.chunk[:0], 0
	}
}

// decode reads the chunk, into memory that is kept.
func (d *Decoder) decode() (Stamped, int, error) {
	raw, ok := uncobs(d.raw[:0], d.chunk)
	d.raw = raw
	if !ok {
		return Stamped{}, 0, errNoFrame
	}
	return readBinary(raw)
}

// Flush gives up what is left at the end.
func (d *Decoder) Flush() {
	if n := len(d.chunk) + d.over; n > 0 {
		d.Broken(d.chunk, n)
	}
	d.chunk, d.over = d.chunk[:0], 0
}
