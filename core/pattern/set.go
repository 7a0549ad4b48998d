package pattern

import (
	"bytes"
	"strings"
)

// Set holds many patterns and finds those that match a line without trying
// each: the literal text that every match must begin with, or must hold, is
// looked up in one pass over the line (the automaton of Aho and Corasick,
// Communications of the ACM 18(6), 1975).
type Set struct {
	patterns []*Pattern
	begin    tree  // by the text a line must begin with
	within   tree  // by a text that a line must hold somewhere
	always   []int // patterns that demand no text
}

// NewSet makes a set. A pattern is known by its place in the list.
func NewSet(patterns []*Pattern) *Set {
	s := &Set{patterns: patterns}
	var begin, within []entry
	for i, p := range patterns {
		switch lit, first := p.anchor(); {
		case lit == "":
			s.always = append(s.always, i)
		case first:
			begin = append(begin, entry{lit, i})
		default:
			within = append(within, entry{lit, i})
		}
	}
	s.begin = newTree(begin)
	s.within = newTree(within)
	s.within.link()
	return s
}

// anchor is the literal by which a line is sorted out: the first part, or else
// the longest part.
func (p *Pattern) anchor() (lit string, first bool) {
	for i, q := range p.parts {
		if q.kind != literal {
			continue
		}
		if i == 0 {
			return q.lit, true
		}
		if len(q.lit) > len(lit) {
			lit = q.lit
		}
	}
	return lit, false
}

// Match calls found for the patterns that match the line, lowest place first,
// until found returns false.
func (s *Set) Match(line []byte, found func(i int, caps []Capture) bool) {
	var few [16]int
	hits := append(few[:0], s.always...)
	hits = s.begin.prefixes(line, hits)
	if len(s.within.nodes) > 1 {
		hits = s.within.search(line, hits)
	}
	// Insertion sort: there are hardly ever more than a few.
	for i := 1; i < len(hits); i++ {
		for j := i; j > 0 && hits[j] < hits[j-1]; j-- {
			hits[j], hits[j-1] = hits[j-1], hits[j]
		}
	}
	last := -1
	for _, i := range hits {
		if i == last {
			continue
		}
		last = i
		if caps, ok := s.patterns[i].Match(line); ok && !found(i, caps) {
			return
		}
	}
}

type entry struct {
	lit string
	id  int
}

// tree is a trie over classes of bytes: all bytes that occur in no literal
// share class 0, on which every walk ends.
type tree struct {
	class [256]uint16
	wide  int
	nodes []int32 // nodes[node*wide+class] is the next node, 0 for none
	ids   [][]int // what ends at a node
	fail  []int32 // for link: the longest other beginning that ends here
}

func newTree(entries []entry) tree {
	t := tree{wide: 1}
	for _, e := range entries {
		for i := range len(e.lit) {
			if t.class[e.lit[i]] == 0 {
				t.class[e.lit[i]] = uint16(t.wide)
				t.wide++
			}
		}
	}
	t.grow()
	for _, e := range entries {
		node := int32(0)
		for i := range len(e.lit) {
			slot := int(node)*t.wide + int(t.class[e.lit[i]])
			if t.nodes[slot] == 0 {
				t.nodes[slot] = t.grow()
			}
			node = t.nodes[slot]
		}
		t.ids[node] = append(t.ids[node], e.id)
	}
	return t
}

// grow adds a node and returns its number.
func (t *tree) grow() int32 {
	t.nodes = append(t.nodes, make([]int32, t.wide)...)
	t.ids = append(t.ids, nil)
	return int32(len(t.ids) - 1)
}

// prefixes appends what ends along the line's beginning.
func (t *tree) prefixes(line []byte, hits []int) []int {
	node := int32(0)
	for _, c := range line {
		node = t.nodes[int(node)*t.wide+int(t.class[c])]
		if node == 0 {
			break
		}
		if ids := t.ids[node]; ids != nil {
			hits = append(hits, ids...)
		}
	}
	return hits
}

// link turns the trie into an automaton that finds its literals anywhere.
func (t *tree) link() {
	t.fail = make([]int32, len(t.ids))
	var queue []int32
	for c := 1; c < t.wide; c++ {
		if n := t.nodes[c]; n != 0 {
			queue = append(queue, n)
		}
	}
	for len(queue) > 0 {
		node := queue[0]
		queue = queue[1:]
		back := t.fail[node]
		t.ids[node] = append(t.ids[node], t.ids[back]...)
		for c := 1; c < t.wide; c++ {
			slot, other := int(node)*t.wide+c, t.nodes[int(back)*t.wide+c]
			if n := t.nodes[slot]; n != 0 {
				t.fail[n] = other
				queue = append(queue, n)
			} else {
				t.nodes[slot] = other
			}
		}
	}
}

// search appends what stands anywhere in the line.
func (t *tree) search(line []byte, hits []int) []int {
	node := int32(0)
	for _, c := range line {
		node = t.nodes[int(node)*t.wide+int(t.class[c])]
		hits = append(hits, t.ids[node]...)
	}
	return hits
}

// NearMiss is how many bytes of the line agree with the pattern before they
// part, for showing a person where. It is 0 where nothing agrees.
func (p *Pattern) NearMiss(line []byte) int {
	at, _ := p.nearMiss(line)
	return at
}

// Alike is NearMiss, if a word, a number or the like of the pattern stands in the line before that: below zero
// if none does.
func (p *Pattern) Alike(line []byte) int {
	at, sure := p.nearMiss(line)
	if !sure {
		return -1
	}
	return at
}

// nearMiss is how many bytes agree, and whether something in particular was among them.
func (p *Pattern) nearMiss(line []byte) (at int, sure bool) {
	for _, q := range p.parts {
		if q.kind == literal {
			if rest := line[at:]; !hasPrefix(rest, q.lit) {
				same := 0
				for same < len(rest) && same < len(q.lit) && rest[same] == q.lit[same] {
					same++
				}
				return at + same, sure
			}
		}
		if next := bytes.IndexAny(line[at:], blank); q.kind == word && p.after(q) == "" && next > 0 {
			at += next
			continue
		}
		if q.open() || q.kind == exactly {
			i := strings.Index(string(line[at:]), p.after(q))
			if i < 0 {
				return at, sure
			}
			at += i
			continue
		}
		e := q.end(line, at)
		if e < 0 {
			return at, sure
		}
		sure = sure || q.kind != literal && q.kind != blanks || strings.IndexFunc(q.lit, isWord) >= 0
		at = e
	}
	return at, sure
}

// after is the literal that follows a part, "" if none does.
func (p *Pattern) after(q part) string {
	for i, r := range p.parts {
		if r == q && i+1 < len(p.parts) && p.parts[i+1].kind == literal {
			return p.parts[i+1].lit
		}
	}
	return ""
}
