// Package learn writes a procedure from a recorded conversation by hand: one that
// says the same again and checks the answers that mattered.
package learn

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"

	"uparrot/core/conversation"
	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/secret"
)

// Book is what is known of the module at a port.
type Book struct {
	Path       string // as the procedure is to name it
	Phrasebook *phrasebook.Phrasebook
}

// Procedure writes the procedure that does again what was done in conversations.
// The books are by the names of the recorded ports; there need not be any. Path is
// where it will lie, for messages. Its layout is the standard one, and it has been
// checked; an error that is source.Mistakes says that it is no good, and the text
// is still handed out.
func Procedure(path, title, about string, talks []*conversation.Port, books map[string]Book) (string, error) {
	w := &writer{names: map[string]bool{}, lines: map[*port]string{}}
	taken := map[string]bool{}
	for _, talk := range talks {
		if len(talk.Turns) == 0 && len(talk.First) == 0 {
			continue
		}
		p := &port{name: nameFor(talk.Name, "port", taken), talk: talk}
		if b, ok := books[talk.Name]; ok {
			p.book, p.bookPath = b.Phrasebook, b.Path
		}
		w.ports = append(w.ports, p)
	}
	w.turns = gather(w.ports)
	if len(w.turns) == 0 {
		return "", errors.New("nothing was said in this record, so there is nothing to learn")
	}
	fold(w.turns)
	w.elsewhere()
	w.settings()
	w.references()
	w.header(title, about)
	w.steps()
	text, err := procedure.Tidy(path, w.b.String())
	if err != nil {
		return w.b.String(), err
	}
	text = strings.TrimRight(text, "\n") + "\n"
	_, err = procedure.Parse(path, text)
	return text, err
}

// writer writes one procedure.
type writer struct {
	b       strings.Builder
	ports   []*port
	turns   []*turn
	names   map[string]bool   // in use
	inputs  []input           // named settings
	lines   map[*port]string  // speed and frame in force
	extra   map[*turn][]line  // lines that came at other ports
	values  map[string]string // inputs by port, setting and value
	written map[string]bool   // settings that were written so far, by port and name
	titles  map[string]int
	made    map[string]origin // words made of earlier answers
}

// origin is where a word comes from: the turn that told it, and an expression.
type origin struct {
	turn int
	expr string
}

// madeOf is the expression that a word of a turn is made by; "" if it is said as it
// is.
func (w *writer) madeOf(t *turn, word string) string {
	if o, ok := w.made[word]; ok && o.turn < t.number {
		return o.expr
	}
	return ""
}

type input struct {
	name    string
	kind    string // int, num or text
	limits  []float64
	value   string
	meaning string
}

// use is a part of a heard line that later words are made of.
type use struct {
	token
	name   string
	chosen bool // the name is that of an input
}

// others reports whether there are more lines like one, such as those of a list,
// and drops them: which of them come, and in which order, is not the matter.
func others(lines []line, k int) bool {
	more := false
	for i := range lines {
		if i != k && alike(tokensOf(lines[i].text), tokensOf(lines[k].text)) && tokensOf(lines[i].text)[0].text == tokensOf(lines[k].text)[0].text {
			lines[i].dropped, more = true, true
		}
	}
	return more
}

// nameFor makes a name of the language out of a text, unlike all that are taken.
func nameFor(text, otherwise string, taken map[string]bool) string {
	if i := strings.LastIndexAny(text, "/\\"); i >= 0 {
		text = text[i+1:]
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r < 0x80 && (unicode.IsLetter(r) || unicode.IsDigit(r)) {
			return unicode.ToLower(r)
		}
		return '_'
	}, text), "_")
	if name == "" || !pattern.IsName(name) || procedure.Reserved(name) {
		name = otherwise
		if !pattern.IsName(name) || procedure.Reserved(name) {
			name = "value"
		}
	}
	for base, n := name, 2; taken[name]; n++ {
		name = base + "_" + strconv.Itoa(n)
	}
	taken[name] = true
	return name
}

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

// reforms are the ways in which a value is written anew between an answer and a
// later command, as expressions of the language.
var reforms = []struct {
	expr string
	do   func(string) string
}{
	{"%s", func(s string) string { return s }},
	{`replace(%s, ".", "")`, func(s string) string { return strings.ReplaceAll(s, ".", "") }},
	{`replace(%s, ":", "")`, func(s string) string { return strings.ReplaceAll(s, ":", "") }},
	{`replace(%s, "-", "")`, func(s string) string { return strings.ReplaceAll(s, "-", "") }},
	{"upper(%s)", strings.ToUpper},
	{"lower(%s)", strings.ToLower},
	{`lower(replace(%s, ":", ""))`, func(s string) string { return strings.ToLower(strings.ReplaceAll(s, ":", "")) }},
	{`upper(replace(%s, ":", ""))`, func(s string) string { return strings.ToUpper(strings.ReplaceAll(s, ":", "")) }},
}

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
						if r.do(text) != word || len(text) < 3 {
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

func (w *writer) header(title, about string) {
	say := func(format string, values ...any) { fmt.Fprintf(&w.b, format+"\n", values...) }
	say("procedure %s", quoted(title))
	say("about %s", quoted(about))
	say("")
	for _, p := range w.ports {
		o := p.talk.Opened
		var words []string
		add := func(format string, values ...any) { words = append(words, fmt.Sprintf(format, values...)) }
		add("dialect %s", p.dialect)
		if p.talk.Line.Speed > 0 {
			add("speed %d", p.talk.Line.Speed)
			add("frame %s", p.talk.Line.Frame)
		}
		if o.Ending != "" {
			add("ending %s", o.Ending)
		}
		if o.Flow != "" && o.Flow != "none" {
			add("flow %s", o.Flow)
		}
		if o.Prompt != "" {
			add("prompt %s", quoted(o.Prompt))
		}
		if p.bookPath != "" {
			add("phrasebook %s", quoted(p.bookPath))
		}
		say("port %s: %s", p.name, strings.Join(words, ", "))
		w.lines[p] = p.talk.Line.String()
	}
	for _, in := range w.inputs {
		kind, value, meaning := in.kind, in.value, ""
		if kind == "text" {
			value = quoted(value)
		} else if len(in.limits) == 2 {
			kind += fmt.Sprintf(" %s..%s", plain(in.limits[0]), plain(in.limits[1]))
		}
		if in.meaning != "" {
			meaning = " " + quoted(in.meaning)
		}
		say("input %s: %s = %s%s", in.name, kind, value, meaning)
	}
	secrets := map[string]bool{}
	for _, t := range w.turns {
		if t.left == "" && strings.Contains(t.text, secret.Hidden) && !secrets[t.text] {
			secrets[t.text] = true
			name := nameFor("password", "password", w.names)
			w.values["secret "+t.text] = name
			say("secret %s \"what was said here stands in no record\"", name)
		}
	}
}

func plain(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(printed(s)) + `"`
}

// printed is text without what must not stand in a procedure: control bytes, and
// marks that come from documents.
func printed(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, " "))
}

// steps writes a step for each thing that was said; reading a setting back
// belongs to writing it.
func (w *writer) steps() {
	open := false
	var before *turn
	for _, t := range w.turns {
		if t.left == "repeated" {
			continue
		}
		if t.left != "" {
			if open {
				fmt.Fprint(&w.b, "end\n")
				open = false
			}
			fmt.Fprintf(&w.b, "\n# Left out: %s (%s)\n", comment(t.text), comment(t.left))
			continue
		}
		together := before != nil && open && t.port == before.port && t.tries == 1 &&
			(before.set != nil && t.read == before.set || before.tail != "")
		if !together {
			if open {
				fmt.Fprint(&w.b, "end\n")
			}
			fmt.Fprintf(&w.b, "\nstep %s%s\n", quoted(w.title(t)), tries(t))
			open = true
		}
		w.turn(t)
		before = t
	}
	if open {
		fmt.Fprint(&w.b, "end\n")
	}
}

func comment(s string) string { return strings.TrimSpace(printed(s)) }

func tries(t *turn) string {
	if t.tries < 2 {
		return ""
	}
	every := max(500*time.Millisecond, t.gap.Round(500*time.Millisecond))
	return fmt.Sprintf(" tries %d every %s", max(3, t.tries), min(every, 30*time.Second))
}

// title says what a step is about.
func (w *writer) title(t *turn) string {
	title := ""
	switch {
	case t.set != nil:
		title = t.set.Name + " is set"
	case t.read != nil && w.written[t.port.name+" "+t.read.Name]:
		title = t.read.Name + " is as it was set"
	case t.read != nil:
		title = t.read.Name + " is as found"
	case t.command != nil && t.command.Meaning != "":
		title, _, _ = strings.Cut(t.command.Meaning, ":")
	case t.carries:
		title = "a message is sent"
	case t.text == "":
		title = "Enter is answered"
	default:
		title = "say " + comment(strings.ReplaceAll(t.text, secret.Hidden, "a secret"))
	}
	if r := []rune(title); len(r) > 60 {
		title = string(r[:57]) + "..."
	}
	if len(w.ports) > 1 {
		title = t.port.name + ": " + title
	}
	w.titles[title]++
	if n := w.titles[title]; n > 1 {
		title += fmt.Sprintf(" (%d)", n)
	}
	return title
}

// turn writes what is said and what must come.
func (w *writer) turn(t *turn) {
	p := t.port
	say := func(format string, values ...any) { fmt.Fprintf(&w.b, "    "+format+"\n", values...) }
	if now := t.said.Line.String(); now != w.lines[p] && t.said.Line.Speed > 0 {
		say("line %s speed %d frame %s", p.name, t.said.Line.Speed, t.said.Line.Frame)
		w.lines[p] = now
	}
	if t.said.Ending {
		say("say %s: %s", p.name, w.said(t))
	} else {
		say("say bytes %s: %s", p.name, w.said(t))
	}
	if p.dialect == dialog.Bytes {
		w.binary(t, say)
		return
	}
	w.heard(t, t.lines, say)
	if t.tail != "" {
		say("hear bytes %s: %s", p.name, escaped(t.tail))
	}
	w.heard(t, w.extra[t], say)
	if t.set != nil {
		w.written[p.name+" "+t.set.Name] = true
	}
}

// mostLines is how many lines of an answer are checked one by one; of a longer
// one only the first, and those that something is taken from.
const mostLines = 5

func (w *writer) heard(t *turn, lines []line, say func(string, ...any)) {
	for i := range lines {
		l := &lines[i]
		if l.final || l.dropped || len(lines) > mostLines && i > 0 && len(l.uses) == 0 {
			continue
		}
		within := ""
		if l.after > 1200*time.Millisecond {
			within = " within " + (3 * l.after).Round(time.Second).String()
		}
		say("hear %s%s: %s", l.port.name, within, w.pattern(t, l, i))
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
		if expr := w.madeOf(t, tok.text); expr != "" {
			b.WriteString(escaped(t.text[at:tok.start]) + "{" + expr + "}")
			at = tok.end
		}
	}
	text := b.String() + escaped(t.text[at:])
	if !t.said.Ending {
		return text
	}
	return edges(text)
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
	fraction = regexp.MustCompile(`^-?[0-9]+\.[0-9]+$`)
	whole    = regexp.MustCompile(`^-?[0-9]{1,18}$`)
	clock    = regexp.MustCompile(`^[0-9]{1,2}:[0-9]{2}:[0-9]{2}(\.[0-9]+)?$`)
)

// kindOf is how a value that varies is written in heard text.
func kindOf(text string) string {
	switch {
	case whole.MatchString(text):
		return ":int"
	case fraction.MatchString(text):
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
	return fraction.MatchString(tok.text) || clock.MatchString(tok.text) || whole.MatchString(tok.text) && strings.HasPrefix(tok.text, "-")
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
		return valuePlace.ReplaceAllString(source, "{"+name+"$1}")
	}
	return valuePlace.ReplaceAllLiteralString(source, text)
}

var valuePlace = regexp.MustCompile(`\{value(:[^}]*)?\}`)

var anyPlace = regexp.MustCompile(`\{([a-z_0-9]+)(:[^}]*)?\}`)

// noticePattern is a line that the module sent by itself because of what was said:
// what was said in it must come so, the rest varies.
func (w *writer) noticePattern(t *turn, l *line) string {
	caps, _ := l.notice.Pattern.Match([]byte(l.text))
	values := map[string]string{}
	for _, c := range caps {
		values[c.Name] = fmt.Sprint(c.Value)
	}
	renamed := map[string]string{}
	return anyPlace.ReplaceAllStringFunc(l.notice.Heard, func(place string) string {
		found := anyPlace.FindStringSubmatch(place)
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

// binary checks an answer in bytes: what was the same every time, or of a single
// one its first byte, and how many follow.
func (w *writer) binary(t *turn, say func(string, ...any)) {
	if len(t.raw) == 0 {
		return
	}
	same := len(t.raw)
	for _, other := range t.rawAlso {
		n := 0
		for n < same && n < len(other) && other[n] == t.raw[n] {
			n++
		}
		same = n
	}
	if len(t.rawAlso) == 0 {
		same = min(1, len(t.raw))
	}
	text := ""
	if same > 0 {
		text = fmt.Sprintf("{hex % X}", t.raw[:same])
	}
	if rest := len(t.raw) - same; rest > 0 {
		text += fmt.Sprintf("{%s:bytes(%d)}", nameFor("answer", "answer", w.names), rest)
	}
	say("hear bytes %s: %s", t.port.name, text)
}
