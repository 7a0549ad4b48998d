package learn

import (
	"fmt"
	"slices"
	"strings"
)

// unit holds the turns of another unit against those of the first, in their order.
func (w *writer) unit(record string, ports []*port) {
	theirs := gather(ports)
	fold(theirs)
	counts := func(t *turn) bool { return t.left == "" }
	ours := slices.DeleteFunc(slices.Clone(w.turns), func(t *turn) bool { return !counts(t) })
	theirs = slices.DeleteFunc(theirs, func(t *turn) bool { return !counts(t) })
	pairs := aligned(ours, theirs)
	met := map[*turn]bool{}
	for _, t := range ours {
		o := pairs[t]
		t.units = append(t.units, o)
		if o == nil {
			w.alone = append(w.alone, fmt.Sprintf("Not said in %s: %s", record, t.text))
			continue
		}
		met[o] = true
		t.variant = append(t.variant, o.lines)
		t.rawAlso = append(t.rawAlso, o.raw)
	}
	for _, o := range theirs {
		if !met[o] {
			w.alone = append(w.alone, fmt.Sprintf("Said only in %s, and left out: %s", record, o.text))
		}
	}
}

// aligned finds which of their turns are ours: in the same order, at the same port, in the
// same words, or those with most in common. Ours without one are not in it.
func aligned(ours, theirs []*turn) map[*turn]*turn {
	like := func(a, b *turn) int {
		as, bs := tokensOf(a.text), tokensOf(b.text)
		switch {
		case a.port.name != b.port.name || a.said.Ending != b.said.Ending:
			return 0
		case a.text == b.text:
			return 3
		case a.set != nil && b.set != nil && a.set.Name == b.set.Name || alike(as, bs) && as[0].text == bs[0].text: // another command is not the same one for another unit
			return 2
		}
		return 0
	}
	best := make([][]int, len(ours)+1)
	for i := range best {
		best[i] = make([]int, len(theirs)+1)
	}
	for i := len(ours) - 1; i >= 0; i-- {
		for j := len(theirs) - 1; j >= 0; j-- {
			best[i][j] = max(best[i+1][j], best[i][j+1])
			if n := like(ours[i], theirs[j]); n > 0 {
				best[i][j] = max(best[i][j], n+best[i+1][j+1])
			}
		}
	}
	pairs := map[*turn]*turn{}
	for i, j := 0, 0; i < len(ours) && j < len(theirs); {
		switch n := like(ours[i], theirs[j]); {
		case n > 0 && best[i][j] == n+best[i+1][j+1]:
			pairs[ours[i]] = theirs[j]
			i, j = i+1, j+1
		case best[i][j] == best[i+1][j]:
			i++
		default:
			j++
		}
	}
	return pairs
}

// told are the units that were told a turn.
func (t *turn) told() []*turn {
	return slices.DeleteFunc(slices.Clone(t.units), func(o *turn) bool { return o == nil })
}

// differences names the parts of what is said that were others for other units: they are
// inputs, one for each row of values.
func (w *writer) differences() {
	for _, t := range w.turns {
		if t.left != "" || t.set != nil && w.values[t.port.name+" "+t.set.Name+" "+t.value] != "" {
			continue
		}
		list := tokensOf(t.text)
		for k, tok := range list {
			row := []string{tok.text}
			for _, o := range t.told() {
				if theirs := tokensOf(o.text); len(theirs) == len(list) {
					row = append(row, theirs[k].text)
				}
			}
			if !differ(row) || w.madeOf(t, tok.text) != "" {
				continue
			}
			key := strings.Join(row, "\x00")
			name := w.tuples[key]
			if name == "" {
				name = nameFor(wordBefore(t.text, tok.start), "value", w.names)
				w.tuples[key] = name
				kind := "int"
				for _, v := range row {
					if !whole().MatchString(v) || len(v) > 1 && strings.HasPrefix(strings.TrimPrefix(v, "-"), "0") {
						kind = "text" // as a number it would lose its zeros
					}
				}
				w.inputs = append(w.inputs, input{name, kind, nil, tok.text, "another for each unit"})
			}
			t.inputs = append(t.inputs, use{token: tok, name: name})
		}
	}
}

func differ(row []string) bool {
	return slices.ContainsFunc(row, func(s string) bool { return s != row[0] })
}

// tuple is what each unit said at a place of an answer, as a key of inputs; "" if they said
// the same.
func (t *turn) tuple(i, k int) string {
	if i >= len(t.lines) {
		return ""
	}
	list := tokensOf(t.lines[i].text)
	row := []string{list[k].text}
	for _, o := range t.told() {
		if i < len(o.lines) {
			if theirs := tokensOf(o.lines[i].text); alike(theirs, list) {
				row = append(row, theirs[k].text)
			}
		}
	}
	if !differ(row) {
		return ""
	}
	return strings.Join(row, "\x00")
}

// sameOfUnits reports whether what would make a word of an answer does so for every unit:
// for one it may be chance.
func (t *turn) sameOfUnits(later *turn, line int, tok token, r reform, word string) bool {
	if len(t.units) != len(later.units) {
		return true
	}
	ours, at := tokensOf(t.lines[min(line, len(t.lines)-1)].text), -1
	for k, one := range ours {
		if one.start == tok.start {
			at = k
		}
	}
	said := slices.IndexFunc(tokensOf(later.text), func(one token) bool { return one.text == word })
	for i, o := range t.units {
		l := later.units[i]
		if o == nil || l == nil || line >= len(o.lines) || at < 0 || said < 0 {
			continue
		}
		theirs, words := tokensOf(o.lines[line].text), tokensOf(l.text)
		if at < len(theirs) && said < len(words) && r.do(strings.TrimRight(theirs[at].text, ":")) != words[said].text {
			return false
		}
	}
	return true
}
