package pattern

import (
	"bytes"
	"strings"
	"sync"
	"unicode/utf8"
)

// Match holds a whole line against the pattern. The line comes without its
// line end. A pattern with unbound expressions matches nothing.
func (p *Pattern) Match(line []byte) ([]Capture, bool) {
	if p.re != nil {
		return p.matchRegexp(line)
	}
	var spans [maxInline]int
	starts := spans[:0]
	starts, ok := p.walk(line, starts)
	if !ok {
		return nil, false
	}
	return p.captures(line, starts)
}

const maxInline = 24

func (p *Pattern) matchRegexp(line []byte) ([]Capture, bool) {
	m := p.re.FindSubmatch(line)
	if m == nil {
		return nil, false
	}
	var out []Capture
	for i, n := range p.re.SubexpNames() {
		if n != "" {
			out = append(out, Capture{n, string(m[i]), string(m[i])})
		}
	}
	return out, true
}

// captures turns the places where the parts begin into values. The place after
// the last part is the line's end.
func (p *Pattern) captures(line []byte, starts []int) ([]Capture, bool) {
	var out []Capture
	for i, q := range p.parts {
		if q.name == "" {
			continue
		}
		end := len(line)
		if i+1 < len(starts) {
			end = starts[i+1]
		}
		c, ok := q.capture(string(line[starts[i]:end]))
		if !ok {
			return nil, false
		}
		if out == nil {
			out = make([]Capture, 0, len(p.parts)-i)
		}
		out = append(out, c)
	}
	return out, true
}

// walk appends the place where each part begins, from the left, and reports
// whether the whole line is used up.
func (p *Pattern) walk(line []byte, starts []int) ([]int, bool) {
	if !p.simple {
		// A cheap look at the front first: most lines fail there.
		if q := p.parts[0]; q.kind == literal && !hasPrefix(line, q.lit) {
			return nil, false
		}
		if eager, ok := p.eager(line, starts); ok {
			return eager, true
		}
	}
	return p.tabled(line, starts)
}

// tabled is walk with a table of what can be reached from where, unless one walk decides.
func (p *Pattern) tabled(line []byte, starts []int) ([]int, bool) {
	var reach *table
	if !p.simple {
		reach = newTable(len(p.parts)+1, len(line)+1)
		defer reach.free()
		p.fill(reach, line)
		if !reach.get(0, 0) {
			return nil, false
		}
	}
	at := 0
	for i, q := range p.parts {
		starts = append(starts, at)
		switch {
		case q.kind == exactly:
			at += p.count(q, line, starts)
			if at > len(line) {
				return nil, false
			}
		case !q.open():
			if at = q.end(line, at); at < 0 {
				return nil, false
			}
		case reach == nil: // the last part takes the rest
			if !q.accepts(line[at:]) {
				return nil, false
			}
			at = len(line)
		default:
			least := at
			if q.kind == word {
				at++
			}
			for at <= len(line) && !reach.get(i+1, at) {
				at++
			}
			if at > len(line) || !q.accepts(line[least:at]) {
				return nil, false
			}
		}
		// bytes(n) was not known when the table was made, so the way on from
		// its real end may be shut.
		if reach != nil && !reach.get(i+1, at) {
			return nil, false
		}
	}
	return starts, at == len(line)
}

// eager is walk without a table, where each open part ends at text: the first place where
// that stands is the least that can let the rest match, so what it finds is what walk would.
// It may find nothing where there is something.
func (p *Pattern) eager(line []byte, starts []int) ([]int, bool) {
	at := 0
	for i, q := range p.parts {
		starts = append(starts, at)
		switch {
		case q.kind == exactly:
			return nil, false
		case !q.open():
			if at = q.end(line, at); at < 0 {
				return nil, false
			}
		default:
			from, to := at, len(line)
			if i+1 < len(p.parts) {
				if q.kind == word {
					from++
				}
				if from > len(line) {
					return nil, false
				}
				n := -1
				switch next := p.parts[i+1]; next.kind {
				case literal:
					n = bytes.Index(line[from:], []byte(next.lit))
				case blanks:
					n = bytes.IndexAny(line[from:], blank)
				}
				if n < 0 {
					return nil, false
				}
				to = from + n
			}
			if !q.accepts(line[at:to]) {
				return nil, false
			}
			at = to
		}
	}
	return starts, at == len(line)
}

// count is the n of bytes(n), out of the parts walked already.
func (p *Pattern) count(q part, line []byte, starts []int) int {
	if q.from == "" {
		return q.size
	}
	for i := range starts[:len(starts)-1] {
		if p.parts[i].name == q.from {
			c, ok := p.parts[i].capture(string(line[starts[i]:starts[i+1]]))
			n, _ := c.Value.(int)
			if !ok || n < 0 || n > MaxBytes {
				return MaxBytes + 1<<20 // no line is that long
			}
			return n
		}
	}
	return MaxBytes + 1<<20 // nobody has filled it in
}

// fill sets, for every part and place, whether the rest of the pattern can
// match the rest of the line, going from the right. bytes(n) counts as any
// number of bytes here; the walk then holds it to n.
func (p *Pattern) fill(reach *table, line []byte) {
	n := len(line)
	reach.set(len(p.parts), n)
	for i := len(p.parts) - 1; i >= 0; i-- {
		q := p.parts[i]
		next := false // whether some place from here on can go on with part i+1
		for at := n; at >= 0; at-- {
			switch {
			case q.kind == gap, q.kind == exactly:
				next = next || reach.get(i+1, at)
			case q.kind == text:
				next = reach.get(i+1, at) || next && printableAt(line, at)
			case q.kind == word && !q.full:
				// At least one character, so look one place on.
				ok := at < n && wordAt(line, at)
				next = ok && (reach.get(i+1, at+1) || next)
			default:
				end := q.end(line, at)
				next = end >= 0 && reach.get(i+1, end)
			}
			if next {
				reach.set(i, at)
			}
		}
	}
}

// end is where a part that begins at a place must end, or -1.
func (p part) end(line []byte, at int) int {
	rest := line[at:]
	n := -1
	switch p.kind {
	case literal:
		if hasPrefix(rest, p.lit) {
			n = len(p.lit)
		}
	case blanks:
		if n = len(rest) - len(bytes.TrimLeft(rest, blank)); n == 0 {
			n = -1
		}
	case word: // that is full
		for n = 0; wordAt(rest, n); {
			n++
		}
		if n == 0 || !printable(rest[:n]) {
			n = -1
		}
	case integer:
		n = intLen(rest)
	case number:
		n = numLen(rest)
	case hexNumber:
		n = hexLen(rest)
	case quoted:
		if len(rest) > 0 && rest[0] == '"' {
			if j := bytes.IndexByte(rest[1:], '"'); j >= 0 && printable(rest[1:1+j]) {
				n = j + 2
			}
		}
	case ipv4:
		n = ipv4Len(rest)
	}
	if n < 0 {
		return -1
	}
	return at + n
}

func (p part) accepts(b []byte) bool {
	switch p.kind {
	case text:
		return printable(b)
	case word:
		return len(b) > 0 && printable(b) && !bytes.ContainsAny(b, " \t")
	}
	return true
}

func hasPrefix(b []byte, s string) bool { return len(b) >= len(s) && string(b[:len(s)]) == s }

// Numbers longer than these do not fit the value they stand for.
const (
	maxInt = 18
	maxHex = 15
	maxNum = 40
)

func digits(b []byte, most int) int {
	n := 0
	for n < len(b) && b[n] >= '0' && b[n] <= '9' {
		if n == most {
			return -1
		}
		n++
	}
	return n
}

func sign(b []byte) int {
	if len(b) > 0 && (b[0] == '-' || b[0] == '+') {
		return 1
	}
	return 0
}

func intLen(b []byte) int {
	s := sign(b)
	n := digits(b[s:], maxInt)
	if n < 1 {
		return -1
	}
	return s + n
}

func numLen(b []byte) int {
	n := sign(b)
	whole := digits(b[n:], maxNum)
	if whole < 0 {
		return -1
	}
	n += whole
	frac := 0
	if n < len(b) && b[n] == '.' {
		if frac = digits(b[n+1:], maxNum); frac < 0 {
			return -1
		}
		if frac > 0 {
			n += 1 + frac
		}
	}
	if whole+frac == 0 {
		return -1
	}
	if n < len(b) && b[n]|0x20 == 'e' {
		s := sign(b[n+1:])
		if e := digits(b[n+1+s:], 3); e > 0 {
			n += 1 + s + e
		}
	}
	return n
}

func hexLen(b []byte) int {
	skip := 0
	if len(b) > 2 && b[0] == '0' && b[1]|0x20 == 'x' {
		skip = 2
	}
	n := skip
	for n < len(b) && isHex(b[n]) {
		if n-skip == maxHex {
			return -1
		}
		n++
	}
	if n == skip {
		return -1
	}
	return n
}

func isHex(c byte) bool { return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f' }

func ipv4Len(b []byte) int {
	n := 0
	for quad := range 4 {
		if quad > 0 {
			if n >= len(b) || b[n] != '.' {
				return -1
			}
			n++
		}
		d := digits(b[n:], 3)
		if d < 1 {
			return -1
		}
		v := 0
		for _, c := range b[n : n+d] {
			v = v*10 + int(c-'0')
		}
		if v > 255 {
			return -1
		}
		n += d
	}
	return n
}

// printable reports whether b is text: valid UTF-8 without control bytes,
// tabs apart.
func printable(b []byte) bool {
	for i := 0; i < len(b); {
		if c := b[i]; c < utf8.RuneSelf {
			if c < ' ' && c != '\t' || c == 0x7f {
				return false
			}
			i++
			continue
		}
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n == 1 || r < 0xa0 {
			return false
		}
		i += n
	}
	return true
}

// printableAt and wordAt judge one byte on a walk from the right; bytes of a
// longer character pass here and are held to UTF-8 by accepts.
func printableAt(line []byte, at int) bool {
	return at < len(line) && (line[at] >= ' ' && line[at] != 0x7f || line[at] == '\t')
}

func wordAt(line []byte, at int) bool {
	return printableAt(line, at) && line[at] != ' ' && line[at] != '\t'
}

// Find looks for the pattern anywhere in bytes that are still coming. It
// returns where the first match begins and ends; more is true if what is there
// could become a match, or a longer one, once more has come. Open text takes
// the least.
func (p *Pattern) Find(b []byte) (start, end int, caps []Capture, more bool) {
	if p.re != nil {
		return p.findRegexp(b)
	}
	for start = 0; start <= len(b); start++ {
		if q := p.parts; len(q) > 0 && q[0].kind == literal {
			i := indexPartial(b[start:], q[0].lit)
			if i < 0 {
				return -1, -1, nil, more
			}
			start += i
		}
		end, starts, short := p.forward(b, start)
		if end >= 0 {
			caps, ok := p.captures(b[:end], starts)
			if ok {
				return start, end, caps, short
			}
		}
		more = more || short
		if end == noFurther {
			break
		}
	}
	return -1, -1, nil, more
}

// noFurther is the end of a walk that missed a part which no later start can
// find either, since all that has come was searched for it.
const noFurther = -2

// findRegexp drops the anchors that Compile put around the expression, which
// RE2 cannot do after the fact, by looking at each line of what has come.
func (p *Pattern) findRegexp(b []byte) (start, end int, caps []Capture, more bool) {
	for start <= len(b) {
		n := bytes.IndexAny(b[start:], "\r\n")
		line := b[start:]
		if n >= 0 {
			line = line[:n]
		}
		if caps, ok := p.matchRegexp(line); ok {
			return start, start + len(line), caps, n < 0
		}
		if n < 0 {
			break
		}
		start += n + 1
	}
	return -1, -1, nil, true
}

// forward walks the parts from a place, each taking the least (open parts) or
// all it can (numbers).
func (p *Pattern) forward(b []byte, at int) (end int, starts []int, short bool) {
	for i, q := range p.parts {
		starts = append(starts, at)
		switch {
		case q.kind == exactly:
			at += p.count(q, b, starts)
			if at > len(b) {
				return -1, nil, true
			}
		case q.open():
			from := at
			if q.kind == word {
				from++
			}
			if i+1 == len(p.parts) {
				at = from
				if at > len(b) {
					return -1, nil, true
				}
				break
			}
			found := false
			for at = from; at <= len(b); at++ {
				if e := p.parts[i+1].end(b, at); e >= 0 {
					found = true
					break
				}
			}
			if !found {
				return noFurther, nil, true
			}
			if !q.accepts(b[starts[i]:at]) {
				return -1, nil, false
			}
		default:
			e := q.end(b, at)
			if e < 0 {
				// What is there may be the beginning of what is wanted.
				return -1, nil, len(b)-at < 64 && (q.kind != literal || strings.HasPrefix(q.lit, string(b[at:])))
			}
			if at = e; e == len(b) && q.kind != literal && q.kind != quoted {
				short = true // more digits may follow
			}
		}
	}
	return at, starts, short
}

// indexPartial is the first place where s stands in b, or where b ends within
// the beginning of s; -1 if neither.
func indexPartial(b []byte, s string) int {
	if i := bytes.Index(b, []byte(s)); i >= 0 {
		return i
	}
	for i := max(0, len(b)-len(s)+1); i < len(b); i++ {
		if strings.HasPrefix(s, string(b[i:])) {
			return i
		}
	}
	return -1
}

// Wants is how many bytes a line must have, its beginning being known, before
// it can be over: a payload of stated length may hold line ends. It is 0 where
// the pattern does not say.
func (p *Pattern) Wants(line []byte) int {
	if p.re != nil {
		return 0
	}
	at := 0
	var starts []int
	for i, q := range p.parts {
		starts = append(starts, at)
		switch {
		case q.kind == exactly:
			return at + p.count(q, line, starts)
		case q.open():
			return 0 // where the payload begins is not certain
		default:
			at = q.end(line, at)
			if begun := i+1 == len(p.parts) || p.parts[i+1].kind == exactly; at < 0 || at == len(line) && !begun {
				return 0
			}
		}
	}
	return 0
}

// HasPayload reports whether the pattern holds a bytes(n).
func (p *Pattern) HasPayload() bool {
	for _, q := range p.parts {
		if q.kind == exactly {
			return true
		}
	}
	return false
}

// table is a grid of yes and no, kept for use again.
type table struct {
	bits []bool
	wide int
}

var tables = sync.Pool{New: func() any { return new(table) }}

func newTable(rows, wide int) *table {
	t := tables.Get().(*table)
	t.wide = wide
	if need := rows * wide; cap(t.bits) < need {
		t.bits = make([]bool, need)
	} else {
		t.bits = t.bits[:need]
		clear(t.bits)
	}
	return t
}

func (t *table) get(row, at int) bool { return t.bits[row*t.wide+at] }
func (t *table) set(row, at int)      { t.bits[row*t.wide+at] = true }
func (t *table) free()                { tables.Put(t) }
