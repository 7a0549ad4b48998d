// Package learn writes a procedure from a recorded conversation by hand: one that
// says the same again and checks the answers that mattered.
package learn

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record/conversation"
	"uparrot/core/secret"
	"uparrot/core/uart"
)

// Book is what is known of the module at a port.
type Book struct {
	Path       string // as the procedure is to name it
	Phrasebook *phrasebook.Phrasebook
}

// Source is what a procedure is learned from.
type Source struct {
	Talks []*conversation.Talk
	Books map[string]Book // by the names of the recorded ports; there need not be any

	// More are the same done to other units, as their records tell it.
	More []Unit

	Untold bool // nothing tells the answers, as of a list of commands alone
}

// Unit is a further record of the same.
type Unit struct {
	Name  string // of its record, for remarks
	Talks []*conversation.Talk
}

// Procedure writes the procedure that does again what was done in conversations. What
// differs between units becomes an input where it was said, and a capture where it was
// heard. Path is where it will lie, for messages. Its layout is the standard one, and it
// has been checked; an error that is source.Mistakes says that it is no good, and the text
// is still handed out.
func Procedure(path, title, about string, s Source) (string, error) {
	w := &writer{names: map[string]bool{}, lines: map[*port]string{}, tuples: map[string]string{}}
	w.ports = s.ports(s.Talks)
	for _, p := range w.ports {
		w.names[p.name] = true // no value may be called so
	}
	w.turns = gather(w.ports)
	if len(w.turns) == 0 {
		return "", errors.New("nothing was said in this record, so there is nothing to learn")
	}
	fold(w.turns)
	for _, t := range w.turns {
		if t.left == "" && t.tooLong() {
			t.left = "longer than a line of a procedure may be"
		}
	}
	if !slices.ContainsFunc(w.turns, func(t *turn) bool { return t.left == "" }) {
		return "", errors.New("nothing that was said in this record was answered, so there is nothing to learn")
	}
	for _, u := range s.More {
		w.unit(u.Name, s.ports(u.Talks))
	}
	w.elsewhere()
	w.settings()
	w.references()
	w.differences()
	w.header(title, about)
	w.steps()
	for _, one := range w.alone {
		fmt.Fprintf(&w.b, "\n# %s\n", comment(one))
	}
	text, err := procedure.Tidy(path, w.b.String())
	if err != nil {
		return w.b.String(), err
	}
	text = strings.TrimRight(text, "\n") + "\n"
	_, err = procedure.Parse(path, text)
	return text, err
}

// ports are those of conversations in which anything happened.
func (s Source) ports(talks []*conversation.Talk) (all []*port) {
	taken := map[string]bool{}
	for _, talk := range talks {
		if len(talk.Turns) == 0 && len(talk.First) == 0 {
			continue
		}
		p := &port{name: nameFor(talk.Name, "port", taken), talk: talk, untold: s.Untold}
		if b, ok := s.Books[talk.Name]; ok {
			p.book, p.bookPath = b.Phrasebook, b.Path
		}
		all = append(all, p)
	}
	return all
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
	tuples  map[string]string // inputs by what was said for them to each unit
	alone   []string          // remarks on what only some of the units were told
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
		if o.Ending != phrasebook.EndingNotSaid {
			add("ending %s", o.Ending)
		}
		if o.Flow > uart.NoFlow {
			add("flow %s", o.Flow)
		}
		for _, word := range phrasebook.SignWords {
			for _, phrase := range *o.Of(word) {
				add("%s %s", word, quoted(phrase.String()))
			}
			if word == "pager" && o.PagerAnswer != nil {
				words[len(words)-1] += " with " + quoted(o.PagerAnswer.String())
			}
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
	switch packet := w.saidPacket(t); {
	case packet != "":
		say("say packet %s: %s", p.name, packet)
	case t.said.Ending:
		say("say %s: %s", p.name, w.said(t))
	default:
		say("say bytes %s: %s", p.name, w.said(t))
	}
	if p.dialect == phrasebook.Bytes {
		w.binary(t, say)
		return
	}
	if n := t.checked(); n != "" {
		say("# %s", n)
	}
	w.heard(t, t.lines, false, say)
	if t.tail != "" {
		say("hear bytes %s: %s", p.name, edges(escaped(t.tail)))
	}
	w.heard(t, w.extra[t], true, say)
	if t.set != nil {
		w.written[p.name+" "+t.set.Name] = true
	}
}

// checked says what is checked of an answer, where that is less than its lines; "" else.
func (t *turn) checked() string {
	for _, l := range t.lines {
		if !l.final {
			return ""
		}
	}
	switch {
	case t.tail != "":
		return ""
	case t.port.untold && t.port.ends():
		return "no answer is known: only its end is waited for"
	case t.port.untold:
		return "no answer is known: nothing is checked here yet"
	case !t.port.ends():
		return "nothing came that could be checked"
	}
	return ""
}

// ends reports whether answers at the port have an end that is waited for.
func (p *port) ends() bool {
	return p.dialect == phrasebook.AT || p.dialect == phrasebook.Console || len(p.finals) > 0 || len(p.prompts) > 0
}
