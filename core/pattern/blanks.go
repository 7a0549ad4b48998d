package pattern

import (
	"slices"
	"strings"
)

// Spaced is the pattern for a line in which a run of blanks that was typed between words, numbers, hex, word
// and ipv4 stands for one blank or tab or more: modules align what they print. Beside other open places and
// expressions, blanks are exact, and in a regular expression.
func (p *Pattern) Spaced() *Pattern {
	if p.re != nil || !strings.ContainsAny(p.source, " ") {
		return p
	}
	spaced := &Pattern{source: p.source}
	for i, q := range p.parts {
		if q.kind != literal {
			spaced.parts = append(spaced.parts, q)
			continue
		}
		left, right := i > 0 && p.parts[i-1].bounded(), i+1 < len(p.parts) && p.parts[i+1].bounded()
		spaced.parts = append(spaced.parts, q.spaced(left, right)...)
	}
	spaced.prepare()
	return spaced
}

// bounded reports whether blanks beside a part are none of its own.
func (p part) bounded() bool {
	return slices.Contains([]kind{integer, number, hexNumber, word, ipv4}, p.kind)
}

const blank = " \t"

// spaced cuts a literal at its runs of blanks. At its ends they are cut only beside a part that is bounded.
func (p part) spaced(left, right bool) (parts []part) {
	for at := 0; at < len(p.lit); {
		from := at + len(p.lit[at:]) - len(strings.TrimLeft(p.lit[at:], blank))
		switch run := p.lit[at:from]; {
		case run == "":
		case strings.Contains(run, "\t"), at == 0 && !left, from == len(p.lit) && !right:
			parts = append(parts, part{kind: literal, lit: run, at: p.at + at})
		default:
			parts = append(parts, part{kind: blanks, lit: run, at: p.at + at})
		}
		to := from + strings.IndexAny(p.lit[from:]+" ", blank)
		if to > from {
			parts = append(parts, part{kind: literal, lit: p.lit[from:to], at: p.at + from})
		}
		at = to
	}
	return parts
}

// ButForBlanks reports whether a line that does not match would if runs of blanks were all alike: one blank
// for any number, and none at the ends.
func (p *Pattern) ButForBlanks(line []byte) bool {
	if _, ok := p.Match(line); ok || p.re != nil {
		return false
	}
	alike := &Pattern{source: p.source}
	for _, q := range p.parts {
		if q.kind == literal || q.kind == blanks {
			q.kind, q.lit = literal, oneBlank(q.lit)
		}
		alike.parts = append(alike.parts, q)
	}
	alike.prepare()
	_, ok := alike.Match([]byte(oneBlank(string(line))))
	return ok
}

// oneBlank is text with one blank for each run of them.
func oneBlank(s string) string {
	var b strings.Builder
	for i, c := range []byte(s) {
		if c == '\t' {
			c = ' '
		}
		if c == ' ' && i > 0 && strings.IndexByte(blank, s[i-1]) >= 0 {
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}
