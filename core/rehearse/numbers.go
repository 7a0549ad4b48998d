package rehearse

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/text"
)

var aNumber = text.Regexp(`-?[0-9]+(\.[0-9]+)?`)

// numberSeen is a number in what a module says: in a line, or a field of a packet.
type numberSeen struct {
	port  string
	book  *phrasebook.Phrasebook
	after string  // what was said before it
	like  []byte  // what it came in
	shape string  // of the line but for its numbers, or the packet's name
	at    int     // which number of the line it is, from 0
	field string  // which field of the packet; "" in a line
	unit  float64 // how finely it is told: the step of its last digit
	units float64 // how many of them it was
}

// value is the number as it was.
func (s *numberSeen) value() float64 { return s.units * s.unit }

// same reports whether two are the same number of the same line.
func (s *numberSeen) same(o *numberSeen) bool {
	return s.port == o.port && s.after == o.after && s.shape == o.shape && s.at == o.at && s.field == o.field
}

// numbersIn are the numbers of a line, or of a packet.
func numbersIn(book *phrasebook.Phrasebook, port, after string, text []byte, lines bool) (all []*numberSeen) {
	if !lines {
		p, fields := procedure.PacketIn(book, text)
		if p == nil {
			return nil
		}
		made := procedure.MadeFields(p)
		for _, f := range fields {
			if n, ok := f.Value.(int); ok && !slices.Contains(made, f.Name) {
				all = append(all, &numberSeen{port: port, book: book, after: after, like: text, shape: p.Name, field: f.Name, unit: 1, units: float64(n)})
			}
		}
		return all
	}
	shape := shapeOf(text)
	for i, n := range aNumber().FindAllString(string(text), -1) {
		v, err := strconv.ParseFloat(n, 64)
		if err != nil {
			continue
		}
		unit := 1.0
		if _, after, ok := strings.Cut(n, "."); ok {
			unit = math.Pow10(-len(after))
		}
		all = append(all, &numberSeen{port: port, book: book, after: after, like: text, shape: shape, at: i, unit: unit, units: math.Round(v / unit)})
	}
	return all
}

// shapeOf is what a line is but for its numbers, up to the fifth.
func shapeOf(line []byte) string {
	if at := aNumber().FindAllIndex(line, 5); len(at) == 5 {
		line = line[:at[4][1]]
	}
	return aNumber().ReplaceAllString(string(line), "#")
}

// text is a number of so many units as the module would tell it.
func (s *numberSeen) text(units float64) string {
	digits := max(0, int(math.Round(-math.Log10(s.unit))))
	return strconv.FormatFloat(units*s.unit+0, 'f', digits, 64)
}

// put has the number be another one, wherever it comes.
func (s *numberSeen) put(units float64) func([]byte) ([][]byte, bool) {
	if s.field != "" {
		return s.putField(int(units))
	}
	to := s.text(units)
	return func(line []byte) ([][]byte, bool) {
		at := aNumber().FindAllIndex(line, -1)
		if s.at >= len(at) || shapeOf(line) != s.shape {
			return nil, false
		}
		return [][]byte{append(append(bytes.Clone(line[:at[s.at][0]]), to...), line[at[s.at][1]:]...)}, true
	}
}

// damaged are modules of whose packets a byte is another than was sent: what is made of the bytes
// shows it.
func (m *maker) damaged() (all []*mutant) {
	if m.lines {
		return nil
	}
	seen := map[string]bool{}
	step, last := "", ""
	for _, e := range m.b.log {
		if e.step != "" {
			step = e.step
		}
		if e.port != m.port || e.out {
			continue
		}
		p, fields := procedure.PacketIn(m.book, e.text)
		if p == nil || seen[p.Name] || len(p.Made) == 0 {
			continue
		}
		made := procedure.MadeFields(p)
		at := -1
		for _, f := range fields {
			if !slices.Contains(made, f.Name) {
				at = f.Start
			}
		}
		if seen[p.Name], last = true, step; at < 0 {
			continue
		}
		all = append(all, &mutant{kind: ofAnswers, name: "a byte of a packet is changed", port: m.port, about: p.Name, step: last, touched: true, anyway: true, mend: &mend{Step: last, Lines: []string{fmt.Sprintf("hear packet %s: %s", m.port, p.Name)}}, make: func() (tamper, *trigger) {
			on := &trigger{}
			return &rewrittenAnswer{do: func(b []byte) ([][]byte, bool) {
				is, _ := procedure.PacketIn(m.book, b)
				if is == nil || is.Name != p.Name || at >= len(b) {
					return nil, false
				}
				out := bytes.Clone(b)
				out[at] ^= 0x10
				return [][]byte{out}, true
			}, trigger: on}, on
		}})
	}
	return all
}

// putField has the field of a packet be another, and what is made of it too.
func (s *numberSeen) putField(to int) func([]byte) ([][]byte, bool) {
	return func(b []byte) ([][]byte, bool) {
		p, fields := procedure.PacketIn(s.book, b)
		if p == nil || p.Name != s.shape {
			return nil, false
		}
		i := slices.IndexFunc(fields, func(f pattern.Field) bool { return f.Name == s.field })
		if i < 0 {
			return nil, false
		}
		fields[i].Value = to
		out, err := procedure.Packed(p, fields)
		if err != nil {
			return nil, false // there is no room for so much
		}
		return [][]byte{[]byte(out)}, true
	}
}
