package procedure

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
	"uparrot/core/text"
)

// foldTime is how long working out values without a run may take, all together; those
// that would take longer are not known.
const foldTime = 2 * time.Second

// inspect holds what is said against the phrasebooks: commands that they do not
// know, values outside a setting's range, and lengths that are not the
// payload's. Where the next thing heard is a refusal, the command is meant to be
// refused and nothing is said of it.
func (p *parser) inspect() {
	ctx, cancel := context.WithTimeout(context.Background(), foldTime)
	defer cancel()
	in := &inspector{parser: p, books: map[string]*vocabulary{}, fixed: map[string]any{}, ctx: ctx}
	for _, l := range p.file.Lets {
		if l.Expr == nil {
			continue
		}
		if v, err := l.Expr.Run(ctx, in.fixed); err == nil {
			in.fixed[l.Name] = v
		}
	}
	for _, port := range p.file.Ports {
		if port.Phrasebook != nil {
			in.books[port.Name] = newVocabulary(port.Phrasebook, port.Whole())
		}
	}
	if len(in.books) == 0 {
		return
	}
	for _, r := range p.file.Routines {
		in.list(r.Body)
	}
	for _, s := range p.file.Steps {
		in.list(s.Body)
	}
}

type inspector struct {
	*parser
	books map[string]*vocabulary
	fixed map[string]any // values that are known without a run
	ctx   context.Context
}

// vocabulary is what can be said to a module.
type vocabulary struct {
	book    *phrasebook.Phrasebook
	setup   phrasebook.Setup
	known   []phrase
	through bool // plain data may be said from here on

	spoken []string // as written, for the nearest one

	refusals []*pattern.Pattern
}

// phrase is one command: its text between the places that may vary.
type phrase struct {
	tokens  []token
	match   *regexp.Regexp // over a said text with marks
	names   []string       // of the places
	setting *phrasebook.Setting
	follows bool // what it announces is said next
	carries bool // from then on the line carries plain data
}

// token is text, or with open a place that may hold anything.
type token struct {
	text string
	open bool
}

// mark stands on both sides of what is not known in a said text.
const mark = "\x00"

// marked is a said text with marks for the expressions that eval does not know.
func marked(s *pattern.Said, eval func(source string) (string, bool)) string {
	text, _ := s.Fill(func(source string) (string, error) { // the function below never fails
		if v, ok := eval(source); ok {
			return v, nil
		}
		return mark + source + mark, nil
	})
	return text
}

func tokens(text string) []token {
	var list []token
	for i, part := range strings.Split(text, mark) {
		if i%2 == 1 || part != "" {
			list = append(list, token{part, i%2 == 1})
		}
	}
	return list
}

func newVocabulary(pb *phrasebook.Phrasebook, setup phrasebook.Setup) *vocabulary {
	v := &vocabulary{book: pb, setup: setup, refusals: pb.Refusals()}
	if setup.Dialect == phrasebook.AT {
		v.refusals = append(phrasebook.V250Refusals(), v.refusals...)
	}
	add := func(s *pattern.Said, ph phrase) {
		if s == nil {
			return
		}
		ph.tokens = tokens(marked(s, func(string) (string, bool) { return "", false }))
		ph.match, ph.names = s.Template()
		v.known = append(v.known, ph)
		v.spoken = append(v.spoken, s.String())
	}
	for _, c := range pb.Commands {
		add(c.Said, phrase{follows: c.Follows != "", carries: c.Carries})
	}
	for i := range pb.Settings {
		s := &pb.Settings[i]
		add(s.ReadSaid, phrase{})
		add(s.WriteSaid, phrase{setting: s})
	}
	for _, id := range pb.Identity {
		if said, err := pattern.CompileSaid(id.Read); err == nil && id.Read != "" {
			add(said, phrase{})
		}
	}
	if pb.Carrier != nil {
		add(pb.Carrier.SendSaid, phrase{})
	}
	return v
}

// may reports whether a said text may be some known command.
func (v *vocabulary) may(text string) bool {
	said := tokens(text)
	return slices.ContainsFunc(v.known, func(ph phrase) bool { return agree(said, ph.tokens) })
}

// agree reports whether two texts with open places can be the same.
func agree(a, b []token) bool {
	failed := map[pairing]bool{}
	var from func(p pairing) bool
	from = func(p pairing) bool {
		for p.i < len(a) && !a[p.i].open && p.at == len(a[p.i].text) {
			p.i, p.at = p.i+1, 0
		}
		for p.j < len(b) && !b[p.j].open && p.bt == len(b[p.j].text) {
			p.j, p.bt = p.j+1, 0
		}
		aOver, bOver := p.i == len(a), p.j == len(b)
		if aOver && bOver {
			return true
		}
		if failed[p] {
			return false
		}
		failed[p] = true // unless it succeeds, when nobody looks any more
		switch {
		case !aOver && a[p.i].open:
			return from(pairing{p.i + 1, 0, p.j, p.bt}) || !bOver && from(skip(p, b, true))
		case !bOver && b[p.j].open:
			return from(pairing{p.i, p.at, p.j + 1, 0}) || !aOver && from(skip(p, a, false))
		case aOver || bOver || a[p.i].text[p.at] != b[p.j].text[p.bt]:
			return false
		}
		return from(pairing{p.i, p.at + 1, p.j, p.bt + 1})
	}
	return from(pairing{})
}

// pairing is a place in each of two texts: the token, and the byte in it.
type pairing struct{ i, at, j, bt int }

// skip passes over one character or open place of the second text, or of the
// first.
func skip(p pairing, in []token, second bool) pairing {
	n, at := &p.i, &p.at
	if second {
		n, at = &p.j, &p.bt
	}
	if in[*n].open {
		*n, *at = *n+1, 0
	} else {
		*at++
	}
	return p
}

func (in *inspector) list(body []Node) {
	for i, n := range body {
		if say, ok := n.(*Say); ok && in.books[say.Port] != nil && !say.Bytes {
			in.say(say, body[i+1:])
		}
		for _, h := range hears(n) {
			in.never(h)
		}
		if power, ok := n.(*Power); ok && power.How != PowerOff {
			in.power(power, body[i+1:])
		}
		if _, do := n.(*Do); do {
			continue // its routine is looked at once
		}
		if w, ok := n.(*Watch); ok {
			for _, poll := range w.Polls {
				in.list([]Node{poll.Say})
			}
		}
		for _, b := range Bodies(n) {
			in.list(b.Body)
		}
	}
}

// power warns where nothing shows that the module has started: its power may not be what was
// switched.
func (in *inspector) power(n *Power, after []Node) {
	for _, next := range after {
		if _, hears := next.(*Say); !hears && slices.Contains(PortsOf(next), n.Port) {
			return
		}
	}
	mend := "Hear its first line in the same step."
	if v := in.books[n.Port]; v != nil && v.book.Banner != nil {
		mend = fmt.Sprintf("Write below it: hear %s within 10s: %s", n.Port, v.book.Banner.Heard)
	}
	in.warning(n.Pos, "nothing shows that the module has started: what was switched may not be its power", mend)
}

func (in *inspector) say(n *Say, after []Node) {
	v := in.books[n.Port]
	text := marked(n.Text, func(source string) (string, bool) { return in.value(n.Exprs[source]) })
	if strings.TrimSpace(text) == "" || in.refusalIsWanted(n.Port, v, after) || in.broken(n.File, n.Line+1, in.until(n, after)) {
		return
	}
	if !v.may(text) {
		if v.through {
			return
		}
		plain := strings.ReplaceAll(text, mark, "")
		near := v.nearest(plain)
		what := fmt.Sprintf("%s knows no such command", v.book.File)
		mend := source.DidYouMean(plain, v.spoken)
		if near != "" {
			mend = fmt.Sprintf("Did you mean %q?", near)
		}
		switch {
		case v.book.Complete:
			in.mistake(n.TextAt, what, mend)
		case near != "":
			in.warning(n.TextAt, what, mend)
		}
		return
	}
	for _, ph := range v.known {
		found := ph.match.FindStringSubmatch(text)
		if found == nil {
			continue
		}
		if ph.carries {
			for _, other := range in.books { // modules of the family go through together
				other.through = other.through || other.book.File == v.book.File
			}
		}
		values := map[string]string{}
		for i, name := range ph.names {
			values[name] = found[i+1]
		}
		if ph.setting != nil {
			in.setting(n, ph.setting, values["value"])
		}
		stated, lengthIn := values["length"]
		payload, payloadIn := values["payload"]
		switch {
		case lengthIn && payloadIn:
			in.length(n, stated, payload)
		case lengthIn && ph.follows:
			if next := nextSay(n.Port, after); next != nil {
				payload = marked(next.Text, func(source string) (string, bool) { return in.value(next.Exprs[source]) })
				if !next.Bytes {
					payload += v.setup.Ending.Bytes()
				}
				in.length(n, stated, payload)
			}
		}
		return
	}
}

// nearest is the command whose own words are nearest to what is said, "" if none
// is near. What stands in an open place does not count.
func (v *vocabulary) nearest(said string) string {
	best, most := "", 0
	for i, ph := range v.known {
		words, front := "", said
		if len(ph.tokens) > 0 && !ph.tokens[0].open {
			words = ph.tokens[0].text
		}
		if len(ph.tokens) > 1 {
			front = said[:min(len(said), len(words))]
		}
		// Each slip weighs as much as three letters that agree.
		if score := len(words) - 3*source.Distance(front, words); score > most {
			best, most = v.spoken[i], score
		}
	}
	return best
}

// value is what an expression comes to, if that is known without a run.
func (in *inspector) value(e *Expr) (string, bool) {
	if e == nil {
		return "", false
	}
	v, err := e.Run(in.ctx, in.fixed)
	return Text(v), err == nil
}

func nextSay(port string, after []Node) *Say {
	for _, n := range after {
		if say, ok := n.(*Say); ok && say.Port == port {
			if say.Packet != nil {
				return nil // what it comes to is not known here
			}
			return say
		}
	}
	return nil
}

// until is the line of what is said next after a say, or behind the last statement of its block.
func (in *inspector) until(n *Say, after []Node) int {
	last := n.Line
	for _, next := range after {
		last = next.At().Line
		if say, ok := next.(*Say); ok && say.Port == n.Port {
			return last
		}
	}
	return last + 2 // the line behind may be what could not be read
}

// refusalIsWanted reports whether what is heard at the port before the next say
// may be a refusal.
func (in *inspector) refusalIsWanted(port string, v *vocabulary, after []Node) bool {
	for _, n := range after {
		switch n := n.(type) {
		case *Say:
			if n.Port == port {
				return false
			}
		case *Hear:
			if n.Port == port && !n.Not && v.refusal(n.Pattern) {
				return true
			}
		case *Any:
			for _, c := range n.Cases {
				if c.Hear != nil && c.Hear.Port == port && v.refusal(c.Hear.Pattern) {
					return true
				}
			}
		}
	}
	return false
}

// refusal reports whether what a pattern stands for may be a refusal.
func (v *vocabulary) refusal(p *pattern.Pattern) bool {
	if p == nil { // it could not be read
		return true
	}
	heard := tokens(p.Outline(mark + mark))
	if len(heard) == 0 { // a regular expression may be about anything
		return true
	}
	return p.HasWord() && slices.ContainsFunc(v.refusals, func(r *pattern.Pattern) bool {
		return agree(heard, tokens(r.Outline(mark+mark)))
	})
}

func (in *inspector) setting(n *Say, s *phrasebook.Setting, value string) {
	if !strings.Contains(value, mark) {
		if err := s.Check(value); err != nil {
			in.mistake(n.TextAt, err.Error(), "If it is meant to be refused, let the next line hear the refusal.")
		}
		return
	}
	name := strings.Trim(value, mark)
	for _, input := range in.file.Inputs {
		if input.Name != name || len(s.Range) != 2 || input.Type == "text" || s.Type == "text" {
			continue
		}
		if input.Low == nil || *input.Low < s.Range[0] || input.High == nil || *input.High > s.Range[1] {
			in.warning(input.Pos, fmt.Sprintf("%s may be %s, but %s takes %v to %v", name, input.mayBe(), s.Name, s.Range[0], s.Range[1]), fmt.Sprintf("Write input %s: %s %v..%v", name, input.Type, s.Range[0], s.Range[1]))
		}
	}
}

// mayBe is what values an input takes, in words.
func (in *Input) mayBe() string {
	if in.Low == nil && in.High == nil {
		return "any number"
	}
	return in.rangeWords()
}

var lengthOf = text.Regexp(`^\x00\s*len\((.*)\)\s*\x00$`)

// length compares a stated length with the payload, as far as both are known.
func (in *inspector) length(n *Say, stated, payload string) {
	mend := "Write the number of bytes of the payload, its line ending included, or {len(...)} of it."
	if m := lengthOf().FindStringSubmatch(stated); m != nil {
		parts := tokens(payload)
		if len(parts) == 2 && (parts[0].open && parts[0].text == m[1] || parts[1].open && parts[1].text == m[1]) {
			in.mistake(n.TextAt, fmt.Sprintf("the stated length is that of %s alone, but the payload is longer", m[1]), mend)
		}
		return
	}
	want, err := strconv.Atoi(stated)
	if err != nil || strings.Contains(payload, mark) {
		return
	}
	if len(payload) != want {
		in.mistake(n.TextAt, fmt.Sprintf("the stated length is %d, but the payload has %d bytes", want, len(payload)), mend)
	}
}
