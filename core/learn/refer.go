package learn

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/record/conversation"
	"uparrot/core/secret"
)

// elsewhere gives lines that came at one port because of what was said at another
// to the turn that made them come: they share a word with it.
func (w *writer) elsewhere() {
	w.extra = map[*turn][]line{}
	cause := func(l line) *turn {
		var latest *turn
		for _, t := range w.turns {
			if t.said.At.After(l.at) {
				break
			}
			latest = t
		}
		if latest == nil || latest.port == l.port || l.at.Sub(latest.said.At) > 10*time.Second {
			return nil
		}
		for _, tok := range tokensOf(latest.text) {
			if len(tok.text) >= 3 && strings.Contains(l.text, tok.text) {
				return latest
			}
		}
		return nil
	}
	move := func(lines []line) (rest []line) {
		for _, l := range lines {
			if t := cause(l); t != nil {
				l.after = l.at.Sub(t.said.At)
				w.extra[t] = append(w.extra[t], l)
				continue
			}
			if l.notice == nil {
				rest = append(rest, l)
			}
		}
		return rest
	}
	for _, t := range w.turns {
		t.lines = move(t.lines)
	}
	for _, p := range w.ports { // what came where nothing had been said yet
		first := &turn{port: p, said: conversation.Turn{Heard: p.talk.First}}
		if len(p.talk.First) == 0 {
			continue
		}
		first.said.At = p.talk.OpenedAt
		p.answer(first)
		move(first.lines)
	}
}

// settings names the settings that were written, where one value was.
func (w *writer) settings() {
	w.values, w.written, w.titles = map[string]string{}, map[string]bool{}, map[string]int{}
	values := map[string]map[string]bool{}
	for _, t := range w.turns {
		if t.set != nil && t.left == "" {
			key := t.port.name + " " + t.set.Name
			if values[key] == nil {
				values[key] = map[string]bool{}
			}
			values[key][t.value] = true
		}
	}
	for _, t := range w.turns {
		key := ""
		if t.set != nil {
			key = t.port.name + " " + t.set.Name
		}
		if t.left != "" || len(values[key]) != 1 || w.values[key+" "+t.value] != "" || strings.Contains(t.value, secret.Hidden) {
			continue
		}
		base := t.set.Name
		if len(w.ports) > 1 {
			base = t.port.name + "_" + base
		}
		name := nameFor(base, "setting", w.names)
		w.values[key+" "+t.value] = name
		w.inputs = append(w.inputs, input{name, t.set.Type, t.set.Range, t.value, t.set.Meaning})
	}
}

// reform is a way in which a value is written anew between an answer and a later command,
// as an expression of the language.
type reform struct {
	expr string
	do   func(string) string
}

// reforms are the ways, the plainest first: as it is, with other marks between its parts or
// none, in the other case, and as a number in hexadecimal digits or read from them.
var reforms = func() []reform {
	all := []reform{{"%s", func(s string) string { return s }}}
	for _, from := range []string{":", "-", ".", "_"} {
		for _, to := range []string{"", ":", "-", ".", "_"} {
			if from != to {
				all = append(all, reform{fmt.Sprintf("replace(%%s, %q, %q)", from, to), func(s string) string { return strings.ReplaceAll(s, from, to) }})
			}
		}
	}
	for _, c := range []reform{{"upper(%s)", strings.ToUpper}, {"lower(%s)", strings.ToLower}} {
		for _, r := range all[:17] {
			all = append(all, reform{fmt.Sprintf(c.expr, r.expr), func(s string) string { return c.do(r.do(s)) }})
		}
	}
	digits := func(base int, as func(int64) string) func(string) string {
		return func(s string) string {
			n, err := strconv.ParseInt(s, base, 64)
			if err != nil || n < 0 {
				return ""
			}
			return as(n)
		}
	}
	return append(all,
		reform{"hex(int(%s))", digits(10, func(n int64) string { return fmt.Sprintf("%X", n) })},
		reform{"lower(hex(int(%s)))", digits(10, func(n int64) string { return fmt.Sprintf("%x", n) })},
		reform{"unhex(%s)", digits(16, func(n int64) string { return fmt.Sprint(n) })})
}()

// references finds words that were made of earlier answers: a part of what is
// said that nobody had said before, and that an answer held.
func (w *writer) references() {
	known := map[string]bool{} // said before anything told it
	w.made = map[string]origin{}
	for i, t := range w.turns {
		for _, tok := range tokensOf(t.text) {
			if len(tok.text) >= 3 && !known[tok.text] && t.left == "" && (t.set == nil || w.values[t.port.name+" "+t.set.Name+" "+t.value] == "") {
				w.source(i, tok.text)
			}
			known[tok.text] = true
		}
	}
}

// source marks the part of an answer that a word came from.
func (w *writer) source(before int, word string) {
	if strings.Contains(word, secret.Hidden) || !strings.ContainsAny(word, "0123456789") && len(word) < 5 {
		return
	}
	for i := before - 1; i >= 0; i-- {
		t := w.turns[i]
		if t.left != "" {
			continue
		}
		for _, lines := range [][]line{t.lines, w.extra[t]} {
			for k := range lines {
				l := &lines[k]
				if l.final {
					continue
				}
				for _, tok := range tokensOf(l.text) {
					text := strings.TrimRight(tok.text, ":")
					for _, r := range reforms {
						if r.do(text) != word || len(text) < 3 || !t.sameOfUnits(w.turns[before], k, tok, r, word) {
							continue
						}
						tok.text, tok.end = text, tok.start+len(text)
						name := ""
						for _, u := range l.uses {
							if u.start == tok.start {
								name = u.name
							}
						}
						if name == "" {
							name = nameFor(wordBefore(l.text, tok.start), "value", w.names)
							chosen := others(lines, k)
							if chosen { // a person chose one of several: which, the procedure must be told
								w.inputs = append(w.inputs, input{name, "text", nil, text, "which one is meant"})
							}
							l.uses = append(l.uses, use{tok, name, chosen})
						}
						w.made[word] = origin{i, fmt.Sprintf(r.expr, name)}
						return
					}
				}
			}
		}
	}
}

// wordBefore is the word before a part of a line, which often names it.
func wordBefore(text string, at int) string {
	list := tokensOf(text[:at])
	if len(list) == 0 { // then its own text must do
		return tokensOf(text[at:])[0].text
	}
	return list[len(list)-1].text
}
