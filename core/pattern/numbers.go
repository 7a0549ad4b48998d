package pattern

import "strconv"

// Numeric reports whether all that the pattern captures are numbers, of the types int and num.
func (p *Pattern) Numeric() bool {
	if p.re != nil {
		return false
	}
	for _, q := range p.parts {
		if q.name != "" && q.kind != integer && q.kind != number {
			return false
		}
	}
	return true
}

// Numbers is Match of a Numeric pattern, for lines that come by the thousands: the numbers are
// put into a slice, in the order of Names, and nothing is made anew.
func (p *Pattern) Numbers(line []byte, into []float64) ([]float64, bool) {
	var spans [maxInline]int
	starts, ok := p.walk(line, spans[:0])
	if !ok {
		return into, false
	}
	into = into[:0]
	for i, q := range p.parts {
		if q.name == "" {
			continue
		}
		end := len(line)
		if i+1 < len(starts) {
			end = starts[i+1]
		}
		v, ok := decimal(line[starts[i]:end])
		if !ok {
			return into, false
		}
		into = append(into, v)
	}
	return into, true
}

// powers are the powers of ten that a number holds exactly, up to the digits that it does.
var powers = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// decimal is the number that text is. One of at most 15 digits is a whole number over a power of
// ten, both of which are exact, and so is rounded rightly; for others there is the library.
func decimal(b []byte) (float64, bool) {
	i, negative := 0, false
	if len(b) > 0 && (b[0] == '-' || b[0] == '+') {
		i, negative = 1, b[0] == '-'
	}
	whole, digits, places, dotted := int64(0), 0, 0, false
	for ; i < len(b); i++ {
		switch c := b[i]; {
		case c >= '0' && c <= '9':
			whole = 10*whole + int64(c-'0')
			if digits++; dotted {
				places++
			}
		case c == '.' && !dotted:
			dotted = true
		default:
			digits = len(powers) // an exponent
		}
		if digits >= len(powers) {
			v, err := strconv.ParseFloat(string(b), 64)
			return v, err == nil
		}
	}
	if digits == 0 {
		return 0, false
	}
	v := float64(whole) / powers[places]
	if negative {
		v = -v
	}
	return v, true
}
