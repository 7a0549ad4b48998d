package frame

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
)

// What is left of a frame is known by its head, which names its run and number; by its
// end, which is compared with the end of what was sent; or, where both were altered, by
// what else it has in common with that.

// endSize is how many bytes at the end of a frame tell it from others.
const endSize = 8

// beginSize is how many at its beginning do: the number, and some that follow from it.
const beginSize = 16

// Image is a frame as it goes out, without what stands before and behind it.
func (c Carriage) Image(f Stamped, size int) []byte {
	if c.Binary {
		return bytes.Trim(f.Append(nil, size), "\x00")
	}
	return f.Frame.Append(nil, size)
}

// Head is the head of a frame and where it stands.
type Head struct {
	Frame
	At int
}

// Heads are those of frames of a run that stand in bytes which are no whole frame.
func (c Carriage) Heads(b []byte, run uint32) []Head {
	read := textHead
	if c.Binary {
		read = binaryHead
	}
	var all []Head
	for i := range b {
		if f, ok := read(b[i:]); ok && f.Run == run {
			all = append(all, Head{f, i})
		}
	}
	return all
}

// BeginsLike reports whether bytes begin as a frame does, beyond its number.
func BeginsLike(b, image []byte) bool {
	return len(b) >= beginSize && bytes.HasPrefix(b, image[:beginSize])
}

// EndsLike reports whether bytes end as a frame does.
func EndsLike(b, image []byte) bool {
	return len(b) >= endSize && bytes.HasSuffix(b, image[len(image)-endSize:])
}

// Alike is how much bytes have in common with the beginning of a frame, as a share of
// them or of it; chance gives a 64th.
func Alike(b, image []byte) float64 {
	same, n := 0, min(len(b), len(image))
	for i := range n {
		if b[i] == image[i] {
			same++
		}
	}
	return float64(same) / float64(max(1, n))
}

func textHead(b []byte) (Frame, bool) {
	const text = 11 // characters that hold the version, way, run and number
	var head [8]byte
	if len(b) < text {
		return Frame{}, false
	}
	n, err := base64.RawURLEncoding.Decode(head[:], b[:text])
	return headOf(head), err == nil && n == len(head) && head[0]>>4 == version
}

func binaryHead(b []byte) (Frame, bool) {
	var head [8]byte
	n := 0
	for n < len(head) && len(b) > 0 { // as uncobs does, but what follows may be altered
		k := int(b[0])
		n += copy(head[n:], b[1:min(max(1, k), len(b))])
		if k == 0 || k > len(b) {
			break
		}
		if k < 255 && n < len(head) {
			n++ // a zero
		}
		b = b[k:]
	}
	return headOf(head), n == len(head) && head[0]>>4 == version
}

func headOf(b [8]byte) Frame {
	return Frame{Way: b[0] & 15, Run: binary.BigEndian.Uint32(b[:]) & 0xffffff, Number: binary.BigEndian.Uint32(b[4:])}
}
