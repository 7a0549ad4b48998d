package pattern

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
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
	low, high := int64(0), int64(1)<<bits-1
	if p.signed {
		low, high = -1<<(bits-1), 1<<(bits-1)-1
	}
	if n := int64(n); n < low || n > high {
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
	n := int64(0)
	for i := range len(b) {
		at := i
		if p.little {
			at = len(b) - 1 - i
		}
		n = n<<8 | int64(b[at])
	}
	if p.signed && n >= 1<<(8*p.size-1) {
		n -= 1 << (8 * p.size)
	}
	return Int(n)
}

// Int is a whole number as procedures have it; an error where this machine's are too small.
func Int(n int64) (int, error) {
	if n < math.MinInt || n > math.MaxInt {
		return 0, fmt.Errorf("%d is too great for the whole numbers of this machine, which end at %d", n, math.MaxInt)
	}
	return int(n), nil
}

// packValue is the value of an expression as the bytes of a type.
func packValue(typ, v string) (string, error) {
	n, err := strconv.Atoi(v)
	if err != nil {
		return "", fmt.Errorf("%q is no whole number, which %s needs", v, typ)
	}
	return Pack(typ, n)
}

// Field is a named part of a packet, as it was heard or is to be said.
type Field struct {
	Capture
	Start int // where it begins, in bytes from the packet's first
}

// Fields are the named parts of a packet that the pattern matches whole.
func (p *Pattern) Fields(packet []byte) ([]Field, bool) {
	starts, ok := p.walk(packet, nil)
	if !ok {
		return nil, false
	}
	caps, ok := p.captures(packet, starts)
	var fields []Field
	for i, q := range p.parts {
		if q.name != "" && ok {
			fields = append(fields, Field{caps[len(fields)], starts[i]})
		}
	}
	return fields, ok
}

// Fixed reports whether the pattern is nothing but bytes, numbers as bytes and bytes(n), so
// that its end is known by what it holds.
func (p *Pattern) Fixed() bool {
	return p.re == nil && !slices.ContainsFunc(p.parts, func(q part) bool { return q.kind != literal && q.kind != blanks && q.kind != exactly })
}

// Counts is the field that bytes(n) of another is counted by: its name by the name of the
// field that it counts.
func (p *Pattern) Counts() map[string]string {
	counts := map[string]string{}
	for _, q := range p.parts {
		if q.from != "" {
			counts[q.from] = q.name
		}
	}
	return counts
}

// Wanting is the pattern, to be shown in other words, with some of its fields no longer
// open: Bind asks for each by its name.
func (p *Pattern) Wanting(words string, fields func(name string) bool) *Pattern {
	w := &Pattern{source: words, parts: slices.Clone(p.parts)}
	for i, q := range w.parts {
		if q.name != "" && fields(q.name) {
			w.parts[i] = part{kind: value, lit: q.name, pack: q.pack, at: q.at}
		}
	}
	w.prepare()
	return w
}

// Build makes a packet: field is asked for the value of each, an int or a text, from the
// left, and told the bytes before it. The pattern must be Fixed.
func (p *Pattern) Build(field func(name string, before string) (any, error)) (string, error) {
	var b strings.Builder
	lengths := map[string]int{}
	for _, q := range p.parts {
		if q.kind == literal {
			b.WriteString(q.lit)
			continue
		}
		v, err := field(q.name, b.String())
		if err != nil {
			return "", err
		}
		n, number := v.(int)
		text, isText := v.(string)
		switch {
		case q.pack != "" && number:
			if text, err = Pack(q.pack, n); err != nil {
				return "", fmt.Errorf("%s: %w", q.name, err)
			}
			lengths[q.name] = n
		case q.pack != "" || !isText:
			return "", fmt.Errorf("%s is %v, wanted %s", q.name, v, map[bool]string{true: "a whole number", false: "bytes"}[q.pack != ""])
		case q.from == "" && len(text) != q.size || q.from != "" && len(text) != lengths[q.from]:
			return "", fmt.Errorf("%s has %d bytes, and the packet has room for %d", q.name, len(text), max(q.size, lengths[q.from]))
		}
		b.WriteString(text)
	}
	return b.String(), nil
}
