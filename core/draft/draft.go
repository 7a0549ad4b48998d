// Package draft begins a phrasebook: from a table of commands as a guide prints it, from a record, or from
// what a module tells of itself. What none of them says is asked.
package draft

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/text"
)

// Entry is one thing that can be said to a module, as it was told; what is not known is "".
type Entry struct {
	Name, Meaning string
	Say           string // a command, with <...>, {...} or [...] for what may vary
	Read, Write   string // of a table that tells them apart
	Answer        string // its lines
	Range         string
	Default, Unit string
}

// Question is something that nothing tells.
type Question struct {
	Text    string
	Propose string             // what is taken if nothing is answered
	Check   func(string) error // why an answer will not do; nil takes any
}

// Ask asks a person.
type Ask func(ctx context.Context, q Question) (string, error)

// Book is a phrasebook that is begun.
type Book struct {
	Family  string
	Dialect phrasebook.Dialect
	ask     Ask
	line    [2]string // speed and ending; "" is not known
	refusal []string

	settings []*setting
	commands []command
	identity []*setting
}

// setting is one that is read, written, or both.
type setting struct {
	name, meaning, kind, unit  string
	low, high                  string // of its range; "" if there is none
	read, answer               string
	write, written, byDefault  string
	given                      Entry
	placeholder                string // as the guide calls the value
	answersTold, answerWritten string // as told, before anything is known of them
	secret                     bool
}

// command is what is neither.
type command struct {
	say, meaning string
	answer       []string
}

var (
	hole   = text.Regexp(`<[^<>]+>|\{[^{}]+\}|\[[^\[\]]+\]`)
	digits = text.Regexp(`^-?[0-9]+$`)
	real   = text.Regexp(`^-?[0-9]+\.[0-9]+$`)
	spread = text.Regexp(`(-?[0-9]+(?:\.[0-9]+)?)\s*(?:\.\.\.?|…|–|-|to)\s*(-?[0-9]+(?:\.[0-9]+)?)`)
	atMost = text.Regexp(`(?i)(?:up to|at most|max(?:imum)?\.?|<=|≤)\s*([0-9]+)`)
	hidden = text.Regexp(`(?i)(?:^|[^a-z])(?:pass(?:word|wd|phrase|code)?s?|pwd?|pins?|puk|psk|secrets?|tokens?|keys?|credentials?)(?:[^a-z]|$)`)
	choice = text.Regexp(`^\(?\s*-?[0-9]+(?:\s*(?:,|/|\||or)\s*-?[0-9]+)+\s*\)?$`)
)

// Begin makes a phrasebook of entries. Speed and ending of the line are asked for unless they are known.
func Begin(ctx context.Context, family string, entries []Entry, known phrasebook.Setup, refusals []string, ask Ask) (*Book, error) {
	b := &Book{Family: family, ask: ask, refusal: refusals}
	if len(entries) == 0 {
		return nil, errors.New("there is no command in it")
	}
	if err := b.spoken(ctx, entries, known); err != nil {
		return nil, err
	}
	b.sort(entries)
	b.identify()
	kept := b.settings[:0]
	for _, s := range b.settings {
		is, err := b.complete(ctx, s)
		if err != nil {
			return nil, err
		}
		if is {
			kept = append(kept, s)
		}
	}
	b.settings = kept
	return b, b.answered(ctx)
}

// spoken finds out how a module of the family is spoken to.
func (b *Book) spoken(ctx context.Context, entries []Entry, known phrasebook.Setup) error {
	at := 0
	for _, e := range entries {
		if strings.HasPrefix(strings.ToUpper(cmp.Or(e.Say, e.Read, e.Write)), "AT") {
			at++
		}
	}
	b.Dialect = known.Dialect
	if b.Dialect == phrasebook.DialectNotSaid {
		propose := "lines"
		if 2*at > len(entries) {
			propose = "at"
		}
		answer, err := b.ask(ctx, Question{"How do commands and answers follow each other: at, console or lines?", propose, func(s string) error {
			if d, err := phrasebook.ParseDialect(s); err != nil || d == phrasebook.Bytes {
				return errors.New("at, console or lines")
			}
			return nil
		}})
		if err != nil {
			return err
		}
		if b.Dialect, err = phrasebook.ParseDialect(answer); err != nil {
			return err
		}
	}
	b.line = [2]string{"", ""}
	if known.Speed > 0 {
		b.line[0] = strconv.Itoa(known.Speed)
	} else {
		answer, err := b.ask(ctx, Question{"At which speed, in baud?", "115200", func(s string) error {
			if !digits().MatchString(s) {
				return errors.New("a number of baud, such as 115200")
			}
			return nil
		}})
		if err != nil {
			return err
		}
		b.line[0] = answer
	}
	if known.Ending != phrasebook.EndingNotSaid {
		b.line[1] = known.Ending.String()
	} else {
		propose := "crlf"
		if b.Dialect == phrasebook.AT {
			propose = "cr"
		}
		answer, err := b.ask(ctx, Question{"What ends a said line: cr, lf, crlf or none?", propose, func(s string) error {
			_, err := phrasebook.ParseEnding(s)
			return err
		}})
		if err != nil {
			return err
		}
		b.line[1] = answer
	}
	if len(b.refusal) > 0 {
		return nil
	}
	answer, err := b.ask(ctx, Question{"How does it say no, such as ERR {number:int}? Nothing, if it is not known or ERROR", "", heardText})
	if answer != "" && answer != "ERROR" {
		b.refusal = []string{answer}
	}
	return err
}

// heardText says why a text cannot be heard.
func heardText(s string) error {
	if s == "" {
		return nil
	}
	_, err := pattern.Compile(s)
	return err
}

// holes are what may vary in a command, as the guide calls it; plain words in the place of a value count.
func holes(say string) (shape string, names []string) {
	shape = hole().ReplaceAllStringFunc(say, func(h string) string {
		names = append(names, strings.Trim(h, "<>{}[] "))
		return "\x00"
	})
	if len(names) == 0 {
		if head, value, ok := strings.Cut(shape, "="); ok && value != "" && value != "?" && (spread().MatchString(value) || regexp.MustCompile(`^"?[a-z][a-z_]*"?$`).MatchString(value)) {
			quote := ""
			if strings.HasPrefix(value, `"`) {
				quote = `"`
			}
			return head + "=" + quote + "\x00" + quote, []string{strings.Trim(value, `"`)}
		}
	}
	return shape, names
}

// stem is what a command is called without its value.
func stem(shape string) string {
	s, _, _ := strings.Cut(shape, "\x00")
	return strings.TrimRight(s, "=?:\" ")
}

// sort takes entries apart into settings and other commands.
func (b *Book) sort(entries []Entry) {
	by := map[string]*setting{}
	of := func(e Entry, shape string) *setting {
		name := stem(shape)
		if by[name] == nil {
			by[name] = &setting{given: e}
			b.settings = append(b.settings, by[name])
		}
		s := by[name]
		g := &s.given
		for _, one := range [][2]*string{{&g.Name, &e.Name}, {&g.Meaning, &e.Meaning}, {&g.Range, &e.Range}, {&g.Default, &e.Default}, {&g.Unit, &e.Unit}} {
			*one[0] = cmp.Or(*one[0], *one[1])
		}
		return s
	}
	writes := map[string]bool{}
	for _, e := range entries {
		for _, say := range []string{e.Say, e.Write} {
			if shape, names := holes(say); len(names) == 1 {
				writes[stem(shape)] = true
			}
		}
	}
	for _, e := range entries {
		for i, say := range []string{e.Read, e.Say, e.Write} {
			shape, names := holes(say)
			_, inAnswer := holes(e.Answer)
			switch {
			case say == "" || strings.HasSuffix(say, "=?"):
			case len(names) == 1 && i > 0:
				s := of(e, shape)
				s.write, s.placeholder = strings.ReplaceAll(shape, "\x00", "{value}"), names[0]
				if e.Read == "" {
					s.answerWritten = e.Answer
				} else if s.answersTold == "" {
					s.answersTold = e.Answer
				}
			case len(names) == 0 && (i == 0 || writes[stem(shape)] || strings.HasSuffix(say, "?") && len(inAnswer) <= 1):
				s := of(e, shape)
				s.read, s.answersTold = say, cmp.Or(e.Answer, s.answersTold)
			default:
				spoken := shape
				for n, name := range names {
					spoken = strings.Replace(spoken, "\x00", "{"+safeName(name, n)+"}", 1)
				}
				b.commands = append(b.commands, command{spoken, cmp.Or(e.Meaning, e.Name), answerLines(e.Answer)})
			}
		}
	}
}

// safeName is the name of what varies, as the language allows it.
func safeName(s string, n int) string {
	name := strings.Trim(regexp.MustCompile(`[^a-z0-9_]+`).ReplaceAllString(strings.ToLower(s), "_"), "_")
	if !pattern.IsName(name) || procedure.Reserved(name) {
		return fmt.Sprintf("value%d", n+1)
	}
	return name
}

// answerLines are the lines of an answer but for the result OK.
func answerLines(told string) (lines []string) {
	for _, l := range splitAnswer(told) {
		lines = append(lines, hole().ReplaceAllString(l, "{}"))
	}
	return lines
}

func splitAnswer(told string) (lines []string) {
	for _, l := range regexp.MustCompile(`\r\n|\n|\r|<br>|\\r\\n|<CR><LF>|<cr><lf>`).Split(told, -1) {
		if l = strings.TrimSpace(l); l != "" && l != "OK" {
			lines = append(lines, l)
		}
	}
	return lines
}

// own is what the commands of a setting begin with.
func (s *setting) own() string {
	shape, _ := holes(cmp.Or(s.read, strings.ReplaceAll(s.write, "{value}", "<v>")))
	return stem(shape)
}

// answered asks for the answers that tell what a module is, where nothing tells them.
func (b *Book) answered(ctx context.Context) (err error) {
	for _, s := range b.identity {
		s.kind, s.meaning = "text", s.given.Meaning
		if s.meaning == s.name {
			s.meaning = ""
		}
		propose, sure := b.answer(s, s.own(), s.answersTold)
		if s.answer = propose; sure {
			continue
		}
		if s.answer, err = b.ask(ctx, Question{fmt.Sprintf("The answer to %s, where {value} is the %s", s.read, s.name), propose, needsValue}); err != nil {
			return err
		}
	}
	return nil
}

// complete asks for what nothing tells of a setting; false if it is none.
func (b *Book) complete(ctx context.Context, s *setting) (is bool, err error) {
	g := s.given
	s.unit, s.byDefault, s.meaning = g.Unit, strings.Trim(g.Default, `"`), g.Meaning
	said, own := cmp.Or(s.read, s.write), s.own()
	b.name(s, own)
	if s.write != "" && s.read == "" {
		propose := "-"
		if b.Dialect == phrasebook.AT {
			propose = own + "?"
		}
		if s.read, err = b.ask(ctx, Question{fmt.Sprintf("How is %s read, which %s writes? A - if that sets nothing that can be read", s.name, s.write), propose, nil}); err != nil {
			return false, err
		}
		if s.read == "-" {
			b.commands = append(b.commands, command{strings.ReplaceAll(s.write, "{value}", "{"+safeName(s.placeholder, 0)+"}"), cmp.Or(g.Meaning, g.Name), answerLines(s.answerWritten)})
			return false, nil
		}
	}
	if err := b.kind(ctx, s, said); err != nil {
		return false, err
	}
	if s.secret, err = b.isSecret(ctx, s, said); err != nil {
		return false, err
	}
	if s.read != "" {
		propose, sure := b.answer(s, own, s.answersTold)
		if s.answer = propose; !sure {
			if s.answer, err = b.ask(ctx, Question{fmt.Sprintf("The answer to %s, where {value:%s} is the %s", s.read, s.captured(), s.name), propose, needsValue}); err != nil {
				return false, err
			}
		}
	}
	if s.write != "" && b.Dialect != phrasebook.AT && s.answer != "" {
		propose, sure := b.answer(s, own, s.answerWritten)
		if s.answerWritten == "" {
			propose, sure = s.answer, false
		}
		if s.written = propose; !sure {
			s.written, err = b.ask(ctx, Question{fmt.Sprintf("The answer to %s, or nothing", s.write), propose, heardText})
		}
	}
	return true, err
}

// soundsSecret reports whether one of some texts calls something a password, a key or the like.
func soundsSecret(texts ...string) bool { return hidden().MatchString(strings.Join(texts, " | ")) }

// isSecret asks of what is called a password, a key or the like whether it is to be shown nowhere.
func (b *Book) isSecret(ctx context.Context, s *setting, said string) (bool, error) {
	if !soundsSecret(s.name, s.meaning, s.placeholder, s.own()) {
		return false, nil
	}
	answer, err := b.ask(ctx, Question{fmt.Sprintf("Is %s, of %s, a secret that is shown nowhere, yes or no?", s.name, said), "yes", yesOrNo})
	if answer == "yes" {
		s.byDefault = "" // it may be what the module at hand is set to
	}
	return answer == "yes", err
}

func yesOrNo(s string) error {
	if s != "yes" && s != "no" {
		return errors.New("yes or no")
	}
	return nil
}

// needsValue says why a text cannot be the answer with a value.
func needsValue(s string) error {
	p, err := pattern.Compile(s)
	if err != nil {
		return err
	}
	for _, n := range p.Names() {
		if n.Name == "value" {
			return nil
		}
	}
	return errors.New("the value is not in it: write {value}, {value:int} or the like where it stands")
}

// name finds the name of a setting: as told, or of its meaning, of what the guide calls its value, or of
// the command.
func (b *Book) name(s *setting, own string) {
	short := ""
	if words := strings.Fields(strings.ToLower(strings.Trim(s.given.Meaning, ".;, "))); len(words) > 0 && len(words) <= 2 {
		short = strings.Join(words, " ")
	}
	holder := strings.ReplaceAll(strings.ToLower(s.placeholder), "_", " ")
	if len(holder) < 3 || holder == "value" || holder == "val" || spread().MatchString(holder) {
		holder = ""
	}
	tail := strings.ToLower(strings.Trim(regexp.MustCompile(`^(?i:AT)?[^A-Za-z0-9]*`).ReplaceAllString(own, ""), " "))
	s.name = cmp.Or(strings.ToLower(s.given.Name), short, holder, tail, "value")
	for n := 2; slices.ContainsFunc(b.settings, func(o *setting) bool { return o != s && o.name == s.name }); n++ {
		s.name = cmp.Or(tail, s.name) + strings.Repeat("'", n-2)
	}
	if s.meaning == s.name {
		s.meaning = ""
	}
}

// kind finds of which type the values of a setting are, and their range.
func (b *Book) kind(ctx context.Context, s *setting, said string) error {
	told := s.given.Range
	quoted := strings.Contains(said, `"`) || strings.Contains(s.answersTold, `"`) || strings.Contains(s.write, `"`)
	m := spread().FindStringSubmatch(told)
	if most := atMost().FindStringSubmatch(told); m == nil && most != nil {
		m = []string{"", "0", most[1]}
	}
	letters := regexp.MustCompile(`(?i)char|letter|byte|text|string`).MatchString(told)
	switch {
	case m != nil && !letters && !quoted:
		s.low, s.high, s.kind = m[1], m[2], "int"
		if strings.Contains(m[1]+m[2], ".") {
			s.kind = "num"
		}
	case m != nil:
		s.low, s.high, s.kind = m[1], m[2], "text"
	case choice().MatchString(told):
		all := regexp.MustCompile(`-?[0-9]+`).FindAllString(told, -1)
		s.low, s.high, s.kind = all[0], all[len(all)-1], "int"
	case quoted || letters:
		s.kind = "text"
	default:
		propose := "text"
		switch sample := cmp.Or(s.byDefault, lastWord(s.answersTold)); {
		case digits().MatchString(sample):
			propose = "int"
		case real().MatchString(sample):
			propose = "num"
		}
		var err error
		if s.kind, err = b.ask(ctx, Question{fmt.Sprintf("Is %s, of %s, a whole number (int), a number (num) or a text?", s.name, said), propose, func(a string) error {
			if a != "int" && a != "num" && a != "text" {
				return errors.New("int, num or text")
			}
			return nil
		}}); err != nil {
			return err
		}
	}
	if told != "" && s.low == "" {
		answer, err := b.ask(ctx, Question{fmt.Sprintf("From what to what may %s be? The guide says %q. LOW..HIGH, or nothing", s.name, told), "", func(a string) error {
			if a != "" && !spread().MatchString(a) {
				return errors.New("LOW..HIGH, such as 1..16")
			}
			return nil
		}})
		if err != nil {
			return err
		}
		if m := spread().FindStringSubmatch(answer); m != nil {
			s.low, s.high = m[1], m[2]
		}
	}
	if v, err := strconv.ParseFloat(s.byDefault, 64); s.kind != "text" && err != nil || err == nil && s.low != "" && s.kind != "text" && !within(v, s.low, s.high) {
		s.byDefault = "" // what the guide says of it does not fit
	}
	return nil
}

func within(v float64, low, high string) bool {
	l, err1 := strconv.ParseFloat(low, 64)
	h, err2 := strconv.ParseFloat(high, 64)
	return err1 == nil && err2 == nil && v >= l && v <= h
}

func lastWord(s string) string {
	fields := strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == ':' || r == '=' || r == '\n' })
	if len(fields) == 0 {
		return ""
	}
	return strings.Trim(fields[len(fields)-1], `"`)
}

// captured is how the value of a setting is captured.
func (s *setting) captured() string {
	switch {
	case s.kind != "text":
		return s.kind
	case strings.Contains(s.write, `"`) || strings.Contains(s.answersTold, `"`):
		return "quoted"
	}
	return "text"
}

// answer is what is heard when a setting is read or written, and whether that is told. In the manner of
// V.250 (5.4.4) a value comes behind the command's own name and a colon.
func (b *Book) answer(s *setting, own, told string) (heard string, sure bool) {
	capture := "{value:" + s.captured() + "}"
	if s.captured() == "text" {
		capture = "{value}"
	}
	lines := splitAnswer(told)
	for _, l := range lines {
		shape, names := holes(l)
		if len(names) == 1 {
			return strings.ReplaceAll(strings.ReplaceAll(shape, "\"\x00\"", "\x00"), "\x00", capture), true
		}
		if sample := lastWord(l); sample != "" && len(names) == 0 && len(lines) == 1 && l != sample {
			i := strings.LastIndex(l, sample)
			head, tail := strings.TrimSuffix(l[:i], `"`), strings.TrimPrefix(l[i+len(sample):], `"`)
			return head + capture + tail, false
		}
	}
	if b.Dialect == phrasebook.AT {
		return strings.TrimPrefix(own, "AT") + ": " + capture, false
	}
	return own + " " + capture, false
}

// identify has what only tells what the module is be no setting.
func (b *Book) identify() {
	what := regexp.MustCompile(`(?i)serial|firmware|version|revision|model|manufacturer|maker`)
	b.settings = slices.DeleteFunc(b.settings, func(s *setting) bool {
		told := strings.ToLower(s.given.Name + " " + s.given.Meaning + " " + s.own())
		if s.write != "" || !what.MatchString(told) {
			return false
		}
		b.name(s, s.own())
		switch text := told; {
		case strings.Contains(text, "serial"):
			s.name = "serial number"
		case strings.Contains(text, "firmware"), strings.Contains(text, "version"), strings.Contains(text, "revision"):
			s.name = "firmware"
		}
		if slices.ContainsFunc(b.identity, func(o *setting) bool { return o.name == s.name }) {
			return false
		}
		b.identity = append(b.identity, s)
		return true
	})
}

// Text is the phrasebook as a file, which is refused if it has a mistake.
func (b *Book) Text(path string) (string, error) {
	var out strings.Builder
	put := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&out, "%s = %s\n", key, quoted(value))
		}
	}
	put("family", b.Family)
	fmt.Fprintf(&out, "dialect = %q\n", b.Dialect)
	fmt.Fprintf(&out, "\n[line]\nspeed = %s\nending = %q\n", b.line[0], b.line[1])
	if len(b.refusal) > 0 {
		var all []string
		for _, r := range b.refusal {
			all = append(all, quoted(r))
		}
		fmt.Fprintf(&out, "\n[refusal]\nheard = [%s]\n", strings.Join(all, ", "))
	}
	for _, i := range b.identity {
		out.WriteString("\n[[identity]]\n")
		put("name", i.name)
		put("meaning", i.meaning)
		put("read", i.read)
		put("answer", strings.ReplaceAll(i.answer, "{value:int}", "{value:word}")) // it may begin with a nought
	}
	for _, s := range b.settings {
		out.WriteString("\n[[setting]]\n")
		put("name", s.name)
		put("meaning", s.meaning)
		put("type", s.kind)
		if s.secret {
			out.WriteString("secret = true\n")
		}
		if s.low != "" {
			fmt.Fprintf(&out, "range = [%s, %s]\n", s.low, s.high)
		}
		put("unit", s.unit)
		put("read", s.read)
		put("answer", s.answer)
		put("write", s.write)
		put("written", s.written)
		put("default", s.byDefault)
	}
	for _, c := range b.commands {
		out.WriteString("\n[[command]]\n")
		put("say", c.say)
		put("meaning", c.meaning)
		if len(c.answer) > 0 {
			var all []string
			for _, a := range c.answer {
				all = append(all, quoted(a))
			}
			fmt.Fprintf(&out, "answer = [%s]\n", strings.Join(all, ", "))
		}
	}
	pb, err := phrasebook.Parse(path, out.String())
	if err != nil {
		return "", err
	}
	mistakes, _ := procedure.CheckBook(pb)
	return out.String(), mistakes.Err()
}

// quoted is a text as TOML has it.
func quoted(s string) string {
	if !strings.ContainsAny(s, "'\n") && strings.ContainsAny(s, `"\`) {
		return "'" + s + "'"
	}
	return strconv.Quote(s)
}

// Counts are how many settings, other commands and things that tell what a module is there are.
func (b *Book) Counts() (settings, commands, identity int) {
	return len(b.settings), len(b.commands), len(b.identity)
}
