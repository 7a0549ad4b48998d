package learn

import (
	"bytes"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/record/conversation"
	"uparrot/core/text"
)

// turn is something said by hand, with what became of it.
type turn struct {
	port    *port
	number  int // in the order of time
	said    conversation.Turn
	text    string
	lines   []line // its answer
	tail    string // what came last without a line end, and is no prompt
	raw     []byte // all that came, for ports without lines
	refused string // the words of a refusal
	left    string // why it is left out; "" if it is not
	tries   int
	gap     time.Duration // from one try to the next
	variant [][]line      // answers to the same words at other times
	rawAlso [][]byte
	units   []*turn             // the same of other units; nil where one was not told so
	inputs  []use               // parts of what is said that are inputs
	set     *phrasebook.Setting // that it writes
	read    *phrasebook.Setting // that it reads
	value   string              // written
	command *phrasebook.Command
	carries bool
}

// line is a line that was heard.
type line struct {
	port   *port
	text   string
	at     time.Time
	after  time.Duration // since the turn was said
	final  bool          // it ended the exchange
	notice *phrasebook.Notice
	uses   []use // parts of it that later words are made of

	dropped bool // one of several alike, and not the one that mattered
}

// port is one port of the procedure to be.
type port struct {
	name     string // in the procedure
	talk     *conversation.Talk
	book     *phrasebook.Phrasebook
	bookPath string
	dialect  phrasebook.Dialect
	prompts  []*pattern.Pattern
	refusals []*pattern.Pattern
	finals   []*pattern.Pattern
	notices  []*pattern.Pattern // that no phrasebook describes
	untold   bool               // its answers stand nowhere
}

func (p *port) prepare() {
	o := p.talk.Opened
	p.dialect = o.Dialect
	prompt := o.Prompt
	p.refusals, p.finals, p.notices = o.Refusal.Patterns(), o.Final.Patterns(), o.Notice.Patterns()
	if p.book != nil {
		p.refusals = append(p.refusals, p.book.Refusals()...)
		p.finals = append(p.finals, p.book.Finals()...)
		if p.book.Banner != nil {
			p.finals = append(p.finals, p.book.Banner.Pattern)
		}
		if len(prompt) == 0 {
			prompt = p.book.Line.Prompt
		}
	}
	p.prompts = prompt.Patterns()
	if p.dialect == phrasebook.AT {
		p.refusals = append(p.refusals, phrasebook.V250Refusals()...)
		p.finals = append(p.finals, phrasebook.V250Successes()...)
	}
}

func matches(list []*pattern.Pattern, text string) bool {
	for _, p := range list {
		if _, ok := p.Match([]byte(text)); ok {
			return true
		}
	}
	return false
}

// answer makes lines out of what came after a turn.
func (p *port) answer(t *turn) {
	var heard []byte
	var ends text.Ends
	var began conversation.Heard
	echoed := false
	take := func(ended bool) {
		s := strings.Trim(string(text.Plain(heard)), " \t\r\n\x00")
		heard = nil
		switch {
		case s == "" || !utf8.ValidString(s) || strings.ContainsRune(s, 0): // noise, such as that of a start
			return
		case s == t.text && !echoed && !t.written(s): // its echo
			echoed = true
			return
		case !ended:
			if !matches(p.prompts, s) {
				t.tail = s
			}
			return
		}
		if front, ok := strings.CutSuffix(s, t.text); ok && t.text != "" && matches(p.prompts, strings.TrimSpace(front)) {
			return // an echo behind the prompt
		}
		if matches(p.notices, s) {
			return
		}
		t.lines = append(t.lines, p.sorted(t, line{port: p, text: s, after: began.After, at: t.said.At.Add(began.After)}))
	}
	for _, h := range t.said.Heard {
		t.raw = append(t.raw, h.Bytes...)
		if p.dialect == phrasebook.Bytes {
			continue // it has no lines
		}
		for _, c := range h.Bytes {
			if len(heard) == 0 {
				began = h
			}
			switch ends.Take(c) {
			case text.End:
				take(true)
			case text.Inside:
				heard = append(heard, c)
			}
		}
	}
	take(false)
}

// sorted tells final results, refusals and notices from other lines of an answer.
func (p *port) sorted(t *turn, l line) line {
	switch {
	case matches(p.refusals, l.text):
		if t.refused == "" {
			t.refused = l.text
		}
		l.final = true
	case matches(p.finals, l.text):
		l.final = p.book == nil || p.book.Banner == nil || !matches([]*pattern.Pattern{p.book.Banner.Pattern}, l.text)
	case p.book != nil:
		for i := range p.book.Notices {
			if _, ok := p.book.Notices[i].Pattern.Match([]byte(l.text)); ok {
				l.notice = &p.book.Notices[i]
			}
		}
	}
	return l
}

// written reports whether a line is what a module says when it has written a
// setting; some say just what was said to them.
func (t *turn) written(line string) bool {
	if t.set == nil || t.set.WrittenPattern == nil || t.port.book.Echo {
		return false
	}
	_, ok := t.set.WrittenPattern.Match([]byte(line))
	return ok
}

// recognise finds what the phrasebook knows of the words.
func (t *turn) recognise() {
	b := t.port.book
	if b == nil {
		return
	}
	named := func(s *pattern.Said) (map[string]string, bool) {
		if s == nil {
			return nil, false
		}
		re, names := s.Template()
		found := re.FindStringSubmatch(t.text)
		if found == nil {
			return nil, false
		}
		values := map[string]string{}
		for i, n := range names {
			values[n] = found[i+1]
		}
		return values, true
	}
	for i := range b.Settings {
		s := &b.Settings[i]
		if _, ok := named(s.ReadSaid); ok {
			t.read = s
			return
		}
	}
	for i := range b.Settings {
		s := &b.Settings[i]
		if v, ok := named(s.WriteSaid); ok {
			t.set, t.value = s, v["value"]
			return
		}
	}
	for i := range b.Commands {
		if strings.Trim(anyPlace().ReplaceAllString(b.Commands[i].Say, ""), " ") == "" {
			continue // it would be anything
		}
		if _, ok := named(b.Commands[i].Said); ok {
			t.command = &b.Commands[i]
			return
		}
	}
	if b.Carrier != nil {
		_, t.carries = named(b.Carrier.SendSaid)
	}
}

// gather makes turns of all ports, in the order of time.
func gather(ports []*port) []*turn {
	var all []*turn
	for _, p := range ports {
		p.prepare()
		for _, said := range p.turned(p.talk.Turns) {
			t := &turn{port: p, said: said, text: strings.TrimSpace(said.Text()), tries: 1}
			if !said.Ending {
				t.text = string(said.Said)
			}
			t.recognise()
			p.answer(t)
			all = append(all, t)
		}
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].said.At.Before(all[j].said.At) })
	for i, t := range all {
		t.number = i
	}
	return all
}

// turned are turns without those that only turned the pages of a long answer, as the port's
// pager has it done: what came then belongs to the answer.
func (p *port) turned(turns []conversation.Turn) []conversation.Turn {
	pagers, answer := p.talk.Opened.Pager.Patterns(), " "
	if by := p.talk.Opened.PagerAnswer; by != nil {
		answer = by.Bytes()
	}
	if len(pagers) == 0 {
		return turns
	}
	var kept []conversation.Turn
	for _, t := range turns {
		n := len(kept) - 1
		if n < 0 || string(t.Said) != answer || !cutPager(&kept[n], pagers) {
			kept = append(kept, t)
			continue
		}
		for _, h := range t.Heard {
			h.After += t.At.Sub(kept[n].At)
			kept[n].Heard = append(kept[n].Heard, h)
		}
	}
	return kept
}

// cutPager takes a pager off the end of what was heard in a turn; false if there is none.
func cutPager(t *conversation.Turn, pagers []*pattern.Pattern) bool {
	last := len(t.Heard) - 1
	if last < 0 {
		return false
	}
	b := t.Heard[last].Bytes
	from := bytes.LastIndexAny(b, "\r\n") + 1
	kept := b[:from]
	if shown := strings.TrimSpace(string(text.Plain(b[from:]))); !matches(pagers, shown) {
		front, ok := endsWith(shown, pagers)
		if !ok {
			return false
		}
		kept = append(slices.Clone(kept), front+"\r\n"...) // what stands before it is a line
	}
	heard := slices.Clone(t.Heard) // the record's own are not touched
	heard[last].Bytes = kept
	t.Heard = heard
	return true
}

// endsWith is what stands in a text right before one of some literal texts, with which it ends.
func endsWith(shown string, list []*pattern.Pattern) (front string, ok bool) {
	for _, p := range list {
		if literal, is := p.Literal(); is && literal != "" && strings.HasSuffix(shown, literal) {
			return strings.TrimSuffix(shown, literal), true
		}
	}
	return "", false
}

// unanswered reports whether nothing came where something must.
func (t *turn) unanswered() bool {
	return !t.port.untold && len(t.lines) == 0 && t.tail == "" && !bytes.ContainsFunc(t.raw, func(r rune) bool { return r > ' ' }) &&
		(t.port.dialect == phrasebook.AT || t.port.dialect == phrasebook.Console)
}

// fold puts repetitions together and leaves mistakes out.
func fold(all []*turn) {
	byPort := map[*port][]*turn{}
	for _, t := range all {
		byPort[t.port] = append(byPort[t.port], t)
	}
	for _, list := range byPort {
		for i := 0; i < len(list); i++ {
			j := i
			for j+1 < len(list) && list[j+1].text == list[i].text && list[j+1].said.Ending == list[i].said.Ending {
				j++
			}
			last := list[j]
			for k := i; k < j; k++ { // of repetitions the last counts
				list[k].left = "repeated"
				if list[k].refused != "" || list[k].unanswered() || !sameLines(list[k].lines, last.lines) {
					last.tries++
					last.gap = max(last.gap, list[k+1].said.At.Sub(list[k].said.At))
				}
			}
			switch {
			case last.refused != "":
				last.left = "refused: " + last.refused
			case last.unanswered() && last.said.Ending && (last.text != "" || j > i || i+1 < len(list)):
				last.left = "nothing came"
			}
			i = j
		}
	}
	same := map[string][]*turn{}
	for _, t := range all {
		key := t.port.name + "\x00" + t.text
		same[key] = append(same[key], t)
	}
	for _, list := range same {
		for _, t := range list {
			for _, other := range list {
				if other != t && other.refused == "" && !other.unanswered() {
					t.variant = append(t.variant, other.lines)
					t.rawAlso = append(t.rawAlso, other.raw)
				}
			}
		}
	}
}

func sameLines(a, b []line) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].text != b[i].text {
			return false
		}
	}
	return true
}

// tokens are the parts of a line between blanks and marks.
var tokens = text.Regexp(`[^\s,;=()"<>|]+`)

// token is a part of a text.
type token struct {
	text       string
	start, end int
}

func tokensOf(text string) []token {
	var list []token
	for _, at := range tokens().FindAllStringIndex(text, -1) {
		list = append(list, token{text[at[0]:at[1]], at[0], at[1]})
	}
	return list
}

// longestLine is how many bytes of what was said or heard stand on one line of a
// procedure, each of which may take eight characters there.
const longestLine = 16<<10/8 - 64

// tooLong reports whether a turn holds what no line of a procedure has room for.
func (t *turn) tooLong() bool {
	if len(t.text) > longestLine || len(t.raw) > longestLine || len(t.tail) > longestLine {
		return true
	}
	return slices.ContainsFunc(t.lines, func(l line) bool { return len(l.text) > longestLine })
}
