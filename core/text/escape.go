package text

import "bytes"

const esc = 0x1b

// Plain is text without the escape sequences by which consoles colour it and move
// the cursor: the control sequences, strings and two-character escapes of ECMA-48
// in their seven-bit form. A sequence whose end has not come yet stays. Text without
// any is returned as it is.
func Plain(b []byte) []byte {
	i := bytes.IndexByte(b, esc)
	if i < 0 {
		return b
	}
	out, _ := plain(b, i, nil)
	return out
}

// PlainAt is Plain that also says where each byte stood. Where text has no escape
// sequences, at is nil.
func PlainAt(b []byte) (out []byte, at []int) {
	i := bytes.IndexByte(b, esc)
	if i < 0 {
		return b, nil
	}
	at = make([]int, i, len(b))
	for j := range at {
		at[j] = j
	}
	return plain(b, i, at)
}

// plain is Plain from the first escape byte on; it adds to at unless that is nil.
func plain(b []byte, i int, at []int) ([]byte, []int) {
	out := append([]byte(nil), b[:i]...)
	keep := func(from, to int) {
		out = append(out, b[from:to]...)
		for ; at != nil && from < to; from++ {
			at = append(at, from)
		}
	}
	for i < len(b) {
		if b[i] != esc {
			keep(i, i+1)
			i++
			continue
		}
		n, whole := sequence(b[i:])
		if !whole {
			n = len(b) - i
			keep(i, len(b))
		}
		i += n
	}
	return out, at
}

// Unfinished reports whether text ends within an escape sequence, whose end is still
// to come.
func Unfinished(b []byte) bool {
	for {
		i := bytes.IndexByte(b, esc)
		if i < 0 {
			return false
		}
		n, whole := sequence(b[i:])
		if !whole {
			return true
		}
		b = b[i+n:]
	}
}

// Escape is the length of the escape sequence at the beginning of b, and whether its end
// has come.
func Escape(b []byte) (n int, whole bool) { return sequence(b) }

// sequence is the length of the escape sequence at the beginning of b, and whether
// it is whole. What is none has length 1 only if nothing can make it one.
func sequence(b []byte) (n int, whole bool) {
	if len(b) < 2 {
		return len(b), false
	}
	switch c := b[1]; {
	case c == '[': // parameters, intermediates, one final byte
		for i := 2; i < len(b); i++ {
			switch {
			case b[i] >= 0x40 && b[i] <= 0x7e:
				return i + 1, true
			case b[i] < ' ' || b[i] > 0x7e: // it breaks off here
				return i, true
			}
		}
		return len(b), false
	case bytes.IndexByte([]byte("]P^_X"), c) >= 0: // a string, ended by BEL or ST
		for i := 2; i < len(b); i++ {
			switch {
			case b[i] == 0x07:
				return i + 1, true
			case b[i] == esc && i+1 < len(b) && b[i+1] == '\\':
				return i + 2, true
			case b[i] == esc && i+1 < len(b):
				return i, true
			}
		}
		return len(b), false
	case c >= ' ' && c <= '/': // intermediates, one final byte
		for i := 2; i < len(b); i++ {
			if b[i] < ' ' || b[i] > '/' {
				return i + 1, true
			}
		}
		return len(b), false
	case c >= '0' && c <= '~':
		return 2, true
	}
	return 1, true
}
