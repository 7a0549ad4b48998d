package learn

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"uparrot/core/procedure"
)

// A checksum is bytes at the end of a packet that prove it whole: a sum of those before.
type checksum struct {
	size int    // bytes
	typ  string // how it is written as a number
	expr string // of the bytes before, as %s
	of   func(b []byte) string
}

// checksums are those that are looked for: each that the language knows, either byte first.
var checksums = func() (all []checksum) {
	for _, sum := range procedure.Sums() {
		for _, order := range []string{"", "le"}[:min(2, sum.Bytes)] {
			all = append(all, checksum{sum.Bytes, fmt.Sprintf("u%d%s", 8*sum.Bytes, order), sum.Call, func(b []byte) string {
				n, out := sum.Of(b), make([]byte, sum.Bytes)
				for i := range out {
					out[len(out)-1-i] = byte(n >> (8 * i))
				}
				if order == "le" {
					slices.Reverse(out)
				}
				return string(out)
			}})
		}
	}
	return all
}()

// holds reports whether a packet ends with the checksum of what stands before, from a byte on.
func (s checksum) holds(packet []byte, from int) bool {
	n := len(packet) - s.size
	return n >= from+2 && string(packet[n:]) == s.of(packet[from:n])
}

// checksumOf finds the checksum of a turn's answers. It must hold for all of them, and for two
// different ones at the port at least: for one it may be chance.
func (w *writer) checksumOf(t *turn, answers [][]byte) (checksum, int, bool) {
	seen := map[string][]byte{}
	for _, other := range w.turns {
		if other.port == t.port {
			for _, raw := range append([][]byte{other.raw}, other.rawAlso...) {
				seen[string(raw)] = raw
			}
		}
	}
	for from := range 3 {
		for _, s := range checksums {
			all := true
			for _, raw := range answers {
				all = all && s.holds(raw, from)
			}
			times := 0
			for _, raw := range seen {
				if s.holds(raw, from) {
					times++
				}
			}
			if all && times >= 2 {
				return s, from, true
			}
		}
	}
	return checksum{}, 0, false
}

// packetPart is a stretch of an answer in bytes: the same every time, or a field.
type packetPart struct {
	bytes []byte // the same every time; nil of a field
	name  string
	typ   string // how the field is written, such as bytes(4)
}

// binary checks an answer in bytes. Those that the phrasebook describes are heard by name;
// of others what was the same every time stands as it is, the rest are fields, and a checksum
// that holds is checked.
func (w *writer) binary(t *turn, say func(string, ...any)) {
	if len(t.raw) == 0 {
		return
	}
	if p, _ := procedure.PacketIn(t.port.book, t.raw); p != nil {
		say("hear packet %s: %s", t.port.name, p.Name)
		return
	}
	answers := slices.DeleteFunc(append([][]byte{t.raw}, t.rawAlso...), func(raw []byte) bool { return len(raw) == 0 })
	s, from, summed := w.checksumOf(t, answers)
	if lengths(answers) > 1 && counted(answers, s.size) < 0 { // nothing tells where it would stand
		s, summed = checksum{}, false
	}
	parts := w.layout(answers, s.size)
	if summed {
		parts = append(parts, packetPart{name: nameFor("sum", "sum", w.names), typ: s.typ})
	}
	text := ""
	for _, p := range parts {
		if p.bytes != nil {
			text += fmt.Sprintf("{hex % X}", p.bytes)
		} else {
			text += "{" + p.name + ":" + p.typ + "}"
		}
	}
	say("hear bytes %s: %s", t.port.name, text)
	if summed {
		say("check %s == %s \"the sum of the answer\"", parts[len(parts)-1].name, fmt.Sprintf(s.expr, before(parts[:len(parts)-1], from)))
	}
}

// layout cuts answers, without their last bytes, into what was the same every time and
// fields. Of a single answer only the first byte is taken to be so.
func (w *writer) layout(answers [][]byte, checksum int) (parts []packetPart) {
	first := answers[0][:len(answers[0])-checksum]
	field := func(n int) {
		if n > 0 {
			parts = append(parts, packetPart{name: nameFor("answer", "answer", w.names), typ: fmt.Sprintf("bytes(%d)", n)})
		}
	}
	distinct := slices.CompactFunc(slices.SortedFunc(slices.Values(answers), bytes.Compare), bytes.Equal)
	if len(distinct) == 1 && len(answers) == 1 {
		parts = append(parts, packetPart{bytes: first[:1]})
		field(len(first) - 1)
		return parts
	}
	if at := counted(distinct, checksum); at >= 0 {
		length := nameFor("length", "length", w.names)
		if at > 0 {
			parts = append(parts, packetPart{bytes: first[:at]})
		}
		return append(parts, packetPart{name: length, typ: "u8"}, packetPart{name: nameFor("answer", "answer", w.names), typ: "bytes(" + length + ")"})
	}
	same := func(i int) bool {
		return !slices.ContainsFunc(answers, func(raw []byte) bool { return i >= len(raw)-checksum || raw[i] != first[i] })
	}
	equalLength := lengths(answers) == 1
	for i := 0; i < len(first); {
		j := i + 1
		for j < len(first) && same(j) == same(i) {
			j++
		}
		switch {
		case same(i):
			parts = append(parts, packetPart{bytes: first[i:j]})
		case equalLength:
			field(j - i)
		case i == 0:
			field(len(shortest(answers)))
			return parts
		default: // nothing tells where it ends: what was the same at the beginning is all that is known
			return parts
		}
		i = j
	}
	return parts
}

func shortest(answers [][]byte) []byte {
	return slices.MinFunc(answers, func(a, b []byte) int { return len(a) - len(b) })
}

// lengths is how many different lengths answers have.
func lengths(answers [][]byte) int {
	seen := map[int]bool{}
	for _, raw := range answers {
		seen[len(raw)] = true
	}
	return len(seen)
}

// counted is the place of a byte that counts those behind it, up to the checksum, in answers of
// several lengths that begin alike; -1 if there is none.
func counted(answers [][]byte, checksum int) int {
	if lengths(answers) == 1 {
		return -1
	}
	for at := range len(shortest(answers)) - checksum {
		counts, alike := true, true
		for _, raw := range answers {
			counts = counts && int(raw[at]) == len(raw)-checksum-at-1
			alike = alike && bytes.Equal(raw[:at], answers[0][:at])
		}
		if counts && alike {
			return at
		}
	}
	return -1
}

// before is the bytes of parts, from one on, as an expression.
func before(parts []packetPart, from int) string {
	var terms []string
	for _, p := range parts {
		switch {
		case p.bytes != nil:
			for _, c := range p.bytes[min(from, len(p.bytes)):] {
				terms = append(terms, fmt.Sprintf("char(0x%02X)", c))
			}
			from = max(0, from-len(p.bytes))
		case p.typ == "u8" && from > 0:
			from--
		case p.typ == "u8":
			terms = append(terms, "u8("+p.name+")")
		case from > 0:
			terms = append(terms, fmt.Sprintf("%s[%d:]", p.name, from))
			from = 0
		default:
			terms = append(terms, p.name)
		}
	}
	return strings.Join(terms, " + ")
}

// saidPacket is what was said as a packet of the phrasebook with its fields; "" if it is
// none.
func (w *writer) saidPacket(t *turn) string {
	if t.said.Ending || len(t.inputs) > 0 {
		return ""
	}
	p, fields := procedure.PacketIn(t.port.book, []byte(t.text))
	if p == nil {
		return ""
	}
	made := procedure.MadeFields(p)
	var given []string
	for _, f := range fields {
		switch v := f.Value.(type) {
		case int:
			if !slices.Contains(made, f.Name) {
				given = append(given, fmt.Sprintf("%s = %d", f.Name, v))
			}
		case string:
			if slices.Contains(made, f.Name) {
				continue
			}
			if v != printed(v) || strings.ContainsAny(v, "\"\\") {
				return ""
			}
			given = append(given, f.Name+" = "+strconv.Quote(v))
		}
	}
	if len(given) == 0 {
		return p.Name
	}
	return p.Name + "(" + strings.Join(given, ", ") + ")"
}
