// Package frame is the frames of a link test: numbered, they are sent at one end, and what arrives
// at the other is counted and timed.
//
// The wire format of frames, what each count means, and the formulas with their
// sources are described in docs/link.md.
package frame

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"sync"

	"uparrot/core/phrasebook"
)

// Frame is one test frame. As text it is letters, digits, - and _ only (RFC
// 4648, section 5), so that it passes through carriers that take text alone.
type Frame struct {
	Way    byte   // which direction of a run: 0 to 15
	Run    uint32 // 24 bits that tell runs apart
	Number uint32 // from 0
}

// MinSize is the least size of a frame, in bytes: the head alone.
const MinSize = phrasebook.LeastText

const (
	version  = 1
	headSize = 12 // bytes before encoding: version and way, run, number, CRC-32C
	Alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"
)

// castagnoli is the table of CRC-32C, made when the first frame is.
var castagnoli = sync.OnceValue(func() *crc32.Table { return crc32.MakeTable(crc32.Castagnoli) })

// Append appends the frame as text of the given size, at least MinSize. The
// bytes after the head are filler that the checksum covers.
func (f Frame) Append(dst []byte, size int) []byte {
	start := len(dst)
	dst = append(dst, make([]byte, max(size, MinSize))...)
	text := dst[start:]
	x := f.Number*2654435761 ^ f.Run | 1 // any start will do, if not zero
	for i := MinSize; i < len(text); i++ {
		x ^= x << 13 // xorshift (G. Marsaglia, J. Stat. Software 8(14), 2003)
		x ^= x >> 17
		x ^= x << 5
		text[i] = Alphabet[x>>26]
	}
	var head [headSize]byte
	binary.BigEndian.PutUint32(head[0:4], uint32(version<<4|f.Way&15)<<24|f.Run&0xffffff)
	binary.BigEndian.PutUint32(head[4:8], f.Number)
	binary.BigEndian.PutUint32(head[8:12], checksum(head[:8], text[MinSize:]))
	base64.RawURLEncoding.Encode(text, head[:])
	return dst
}

// timesSize is how many characters the times of a far end take.
const timesSize = 16

// MinAnswered is the least size of a text frame that can bring the far end's times
// back.
const MinAnswered = MinSize + timesSize

// AppendAnswered is Append for a frame that a far end repeats, with the times at
// which it came and went there, in microseconds. They take the place of the first
// of the filler, if there is room.
func (f Frame) AppendAnswered(dst []byte, size int, came, went int64) []byte {
	start := len(dst)
	dst = f.Append(dst, size)
	text := dst[start:]
	if len(text) < MinAnswered {
		return dst
	}
	var times [12]byte
	put48(times[0:], came)
	put48(times[6:], went)
	base64.RawURLEncoding.Encode(text[MinSize:], times[:])
	var head [headSize]byte
	_, _ = base64.RawURLEncoding.Decode(head[:], text[:MinSize]) // just encoded
	binary.BigEndian.PutUint32(head[8:12], checksum(head[:8], text[MinSize:]))
	base64.RawURLEncoding.Encode(text, head[:])
	return dst
}

// FarTimes are the times that AppendAnswered has put into a frame; zero if there
// are none.
func FarTimes(text []byte) (came, went int64) {
	var times [12]byte
	if len(text) < MinAnswered {
		return 0, 0
	}
	if n, err := base64.RawURLEncoding.Decode(times[:], text[MinSize:MinAnswered]); err != nil || n != 12 {
		return 0, 0
	}
	return get48(times[0:]), get48(times[6:])
}

func checksum(head, filler []byte) uint32 {
	return crc32.Update(crc32.Checksum(head, castagnoli()), castagnoli(), filler)
}

// errNoFrame is why Decode refuses.
var errNoFrame = errors.New("this is no whole frame")

// Decode reads a frame. Whatever is not exactly a frame as it was sent is an
// error.
func Decode(b []byte) (Frame, error) {
	var head [headSize]byte
	if len(b) < MinSize {
		return Frame{}, errNoFrame
	}
	if n, err := base64.RawURLEncoding.Decode(head[:], b[:MinSize]); err != nil || n != headSize {
		return Frame{}, errNoFrame
	}
	f := Frame{
		Way:    head[0] & 15,
		Run:    binary.BigEndian.Uint32(head[0:4]) & 0xffffff,
		Number: binary.BigEndian.Uint32(head[4:8]),
	}
	if head[0]>>4 != version || binary.BigEndian.Uint32(head[8:12]) != checksum(head[:8], b[MinSize:]) {
		return Frame{}, errNoFrame
	}
	return f, nil
}
