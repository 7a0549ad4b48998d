package learn

import (
	"fmt"
	"strings"
	"time"
	"unicode"

	"uparrot/core/phrasebook"
	"uparrot/core/secret"
	"uparrot/core/text"
)

// mostLines is how many lines of an answer are checked one by one; of a longer
// one only the first, and those that something is taken from.
const mostLines = 5

// heard writes what must come; ended says that the answer had ended before these lines.
func (w *writer) heard(t *turn, lines []line, ended bool, say func(string, ...any)) {
	for i := range lines {
		l := &lines[i]
		form := "hear"
		if ended && l.port == t.port {
			form = "hear later"
		}
		ended = ended || l.final && l.port == t.port
		if l.final || l.dropped || len(lines) > mostLines && i > 0 && len(l.uses) == 0 {
			continue
		}
		within := ""
		if l.after > 1200*time.Millisecond {
			within = " within " + (3 * l.after).Round(time.Second).String()
		}
		say("%s %s%s: %s", form, l.port.name, within, w.pattern(t, l, i))
	}
}

// said is what is said, with names for what is known by name.
func (w *writer) said(t *turn) string {
	if name := w.values["secret "+t.text]; name != "" {
		return strings.ReplaceAll(escaped(t.text), secret.Hidden, "{"+name+"}")
	}
	if t.set != nil {
		if name := w.values[t.port.name+" "+t.set.Name+" "+t.value]; name != "" {
			return strings.ReplaceAll(t.set.Write, "{value}", "{"+name+"}")
		}
	}
	var b strings.Builder
	at := 0
	for _, tok := range tokensOf(t.text) {
		expr := w.madeOf(t, tok.text)
		for _, in := range t.inputs {
			if in.start == tok.start {
				expr = in.name
			}
		}
		if expr != "" {
			b.WriteString(escaped(t.text[at:tok.start]) + "{" + expr + "}")
			at = tok.end
		}
	}
	return edges(b.String() + escaped(t.text[at:]))
}

// edges keeps the blanks round a text, and what would be read as a mark round the
// whole.
func edges(text string) string {
	if strings.HasPrefix(text, " ") {
		text = "{hex 20}" + text[1:]
	}
	if strings.HasSuffix(text, " ") {
		text = text[:len(text)-1] + "{hex 20}"
	}
	for mark, code := range map[string]string{`"`: "{hex 22}", "/": "{hex 2F}"} {
		if len(text) > 1 && strings.HasPrefix(text, mark) && strings.HasSuffix(text, mark) {
			text = code + text[1:]
		}
	}
	return text
}

// escaped is text with braces doubled and with names for bytes that are none.
func escaped(text string) string {
	var b strings.Builder
	for i, r := range text {
		switch {
		case r == '{' || r == '}':
			b.WriteString(string(r) + string(r))
		case r >= ' ' && r < 0x7f || r > 0x7f && r != unicode.ReplacementChar && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			b.WriteRune(r)
		case r == unicode.ReplacementChar && text[i] != 0xef:
			fmt.Fprintf(&b, "{hex %02X}", text[i])
		default:
			fmt.Fprintf(&b, "{hex % X}", string(r))
		}
	}
	return b.String()
}

var (
	fraction = text.Regexp(`^-?[0-9]+\.[0-9]+$`)
	whole    = text.Regexp(`^-?[0-9]{1,18}$`)
	clock    = text.Regexp(`^[0-9]{1,2}:[0-9]{2}:[0-9]{2}(\.[0-9]+)?$`)
)

// kindOf is how a value that varies is written in heard text.
func kindOf(text string) string {
	switch {
	case whole().MatchString(text):
		return ":int"
	case fraction().MatchString(text):
		return ":num"
	}
	return ":word"
}

// varies reports whether a part of a line is another the next time: it was another
// when the same was said before, or it is a number such as is measured.
func (t *turn) varies(i, k int, tok token) bool {
	seen := false
	for _, other := range t.variant {
		if i >= len(other) || i >= len(t.lines) {
			continue
		}
		list := tokensOf(other[i].text)
		if !alike(list, tokensOf(t.lines[i].text)) {
			continue
		}
		seen = true
		if list[k].text != tok.text {
			return true
		}
	}
	if seen {
		return false
	}
	return fraction().MatchString(tok.text) || clock().MatchString(tok.text) || whole().MatchString(tok.text) && strings.HasPrefix(tok.text, "-")
}

// alike reports whether two lines are the same but for some values.
func alike(a, b []token) bool {
	if len(a) != len(b) {
		return false
	}
	same := 0
	for i := range a {
		if a[i].text == b[i].text {
			same++
		}
	}
	return len(a) > 0 && 3*same >= len(a)
}

// pattern is the heard text for a line.
func (w *writer) pattern(t *turn, l *line, i int) string {
	if s := t.read; s != nil && s.AnswerPattern != nil {
		if caps, ok := s.AnswerPattern.Match([]byte(l.text)); ok {
			for _, c := range caps {
				if c.Name == "value" {
					return w.settingPattern(t, s, fmt.Sprint(c.Value), l)
				}
			}
		}
	}
	if s := t.set; s != nil && s.WrittenPattern != nil {
		if _, ok := s.WrittenPattern.Match([]byte(l.text)); ok {
			return w.settingPattern(t, s, t.value, l)
		}
	}
	if l.notice != nil {
		return w.noticePattern(t, l)
	}
	var b strings.Builder
	at := 0
	list := tokensOf(l.text)
	for k, tok := range list {
		text := ""
		for _, u := range l.uses {
			if u.start == tok.start {
				text, tok.end = "{"+u.name+":word}", u.end // as a number it would lose its zeros
				if u.chosen {
					text = "{=" + u.name + "}"
				}
			}
		}
		if text == "" {
			if expr := w.madeOf(t, tok.text); expr != "" && strings.Contains(t.text, tok.text) {
				text = "{=" + expr + "}"
			} else if in := w.tuples[t.tuple(i, k)]; in != "" {
				text = "{=" + in + "}"
			} else if t.varies(i, k, tok) {
				name := ""
				if k > 0 {
					name = list[k-1].text
				}
				text = "{" + nameFor(name, "value", w.names) + kindOf(tok.text) + "}"
			}
		}
		if text != "" {
			b.WriteString(escaped(l.text[at:tok.start]) + text)
			at = tok.end
		}
	}
	return edges(b.String() + escaped(l.text[at:]))
}

// settingPattern is the answer to reading or writing a setting: its value is that
// which was written; before anything was, what is found may be another next time.
func (w *writer) settingPattern(t *turn, s *phrasebook.Setting, value string, l *line) string {
	source := s.Answer
	if t.set != nil {
		source = s.Written
	}
	text := escaped(value)
	key := t.port.name + " " + s.Name
	willBe := false
	for _, other := range w.turns {
		willBe = willBe || other.left == "" && other.set == s && other.port == t.port
	}
	switch name := w.values[key+" "+value]; {
	case name != "" && (w.written[key] || t.set != nil):
		text = "{=" + name + "}"
	case willBe && !w.written[key] || len(l.uses) > 0:
		name := ""
		if len(l.uses) > 0 {
			name = l.uses[0].name
			source = strings.NewReplacer("{value:int}", "{value:word}", "{value:num}", "{value:word}").Replace(source)
		} else {
			name = nameFor(s.Name+"_found", "found", w.names)
		}
		return valuePlace().ReplaceAllString(source, "{"+name+"$1}")
	}
	return valuePlace().ReplaceAllLiteralString(source, text)
}

var valuePlace = text.Regexp(`\{value(:[^}]*)?\}`)

var anyPlace = text.Regexp(`\{([a-z_0-9]+)(:[^}]*)?\}`)

// noticePattern is a line that the module sent by itself because of what was said:
// what was said in it must come so, the rest varies.
func (w *writer) noticePattern(t *turn, l *line) string {
	caps, _ := l.notice.Pattern.Match([]byte(l.text))
	values := map[string]string{}
	for _, c := range caps {
		values[c.Name] = fmt.Sprint(c.Value)
	}
	renamed := map[string]string{}
	return anyPlace().ReplaceAllStringFunc(l.notice.Heard, func(place string) string {
		found := anyPlace().FindStringSubmatch(place)
		name, kind := found[1], found[2]
		v, ok := values[name]
		if ok && v != "" && strings.Contains(t.text, v) {
			return escaped(v)
		}
		if renamed[name] == "" {
			renamed[name] = nameFor(name, "value", w.names)
		}
		for from, to := range renamed { // a length that another part refers to
			kind = strings.ReplaceAll(kind, "("+from+")", "("+to+")")
		}
		return "{" + renamed[name] + kind + "}"
	})
}
