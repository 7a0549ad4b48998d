package pattern

import (
	"fmt"
	"strconv"
)

// packed is a whole number as bytes of a packet: so many, with a sign (two's complement)
// or without, the highest byte first or last.
type packed struct {
	size   int
	signed bool
	little bool
}

// packings are the numbers by how they are written as a type.
var packings = map[string]packed{
	"u8": {size: 1}, "u16": {size: 2}, "u32": {size: 4}, "u16le": {size: 2, little: true}, "u32le": {size: 4, little: true},
	"i8": {size: 1, signed: true}, "i16": {size: 2, signed: true}, "i32": {size: 4, signed: true},
	"i16le": {size: 2, signed: true, little: true}, "i32le": {size: 4, signed: true, little: true},
}

// Packings are the names of the types that are numbers as bytes.
func Packings() []string {
	return []string{"u8", "u16", "u32", "u16le", "u32le", "i8", "i16", "i32", "i16le", "i32le"}
}

// Pack is a whole number as the bytes of a type; an error if it does not fit.
func Pack(typ string, n int) (string, error) {
	p := packings[typ]
	bits := 8 * p.size
	low, high := 0, 1<<bits-1
	if p.signed {
		low, high = -1<<(bits-1), 1<<(bits-1)-1
	}
	if n < low || n > high {
		return "", fmt.Errorf("%d does not fit into %s, which holds %d to %d", n, typ, low, high)
	}
	b := make([]byte, p.size)
	for i := range b {
		at := p.size - 1 - i
		if p.little {
			at = i
		}
		b[i] = byte(n >> (8 * at))
	}
	return string(b), nil
}

// Unpack is the whole number that bytes of a type stand for; an error if they are too few
// or too many.
func Unpack(typ string, b string) (int, error) {
	p := packings[typ]
	if len(b) != p.size {
		return 0, fmt.Errorf("%s has %d bytes, not %d", typ, p.size, len(b))
	}
	n := 0
	for i := range len(b) {
		at := i
		if p.little {
			at = len(b) - 1 - i
		}
		n = n<<8 | int(b[at])
	}
	if p.signed && n >= 1<<(8*p.size-1) {
		n -= 1 << (8 * p.size)
	}
	return n, nil
}

// packValue is the value of an expression as the bytes of a type.
func packValue(typ, v string) (string, error) {
	n, err := strconv.Atoi(v)
	if err != nil {
		return "", fmt.Errorf("%q is no whole number, which %s needs", v, typ)
	}
	return Pack(typ, n)
}
