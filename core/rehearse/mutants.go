package rehearse

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"uparrot/core/bench"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// mutant is a module with one thing wrong.
type mutant struct {
	name    string
	port    string
	about   string // what was changed: the setting, the line
	make    func() (tamper, *trigger)
	touched bool   // the procedure writes, reads or measures what is changed
	anyway  bool   // where it passes, the module was wrong, whatever its settings are
	hidden  bool   // nothing in the phrasebook could show it
	why     string // ... why not
	// overhears is asked of what is said at other ports: what the host of this one gets of it.
	overhears func(port string, line []byte, on *trigger) []byte
	style     *style         // how the module speaks; nil is as it does
	module    *bench.Standin // another one that is there in its place; nil if it is the same
	replays   string         // the line whose answer is played again in the module's place; "" if none is
	what      string         // the measurement that is changed, to a value; "" if none is
	value     float64
	mend      *mend // what would catch it; nil if nothing is known
}

// trigger counts how often a tamper has changed something.
type trigger struct{ n int }

// mend is a line that would catch a mutant, and where it belongs.
type mend struct {
	Step  string   `json:"step"` // at the end of which it belongs
	Lines []string `json:"lines"`
	After int      `json:"after,omitempty"` // the line of the file behind which it belongs, in place of the end
}

// baseline is what the procedure did on good modules.
type baseline struct {
	outcome
}

// answered is what a module answered to each said line, in their order: all that came until the
// next line was said at the port.
func (b *baseline) answered(port string) (said [][]byte, answers [][]byte, steps []string) {
	step := ""
	for _, e := range b.log {
		switch {
		case e.step != "":
			step = e.step
		case e.port != port:
		case e.out:
			said, answers, steps = append(said, e.text), append(answers, nil), append(steps, step)
		case len(said) > 0:
			answers[len(answers)-1] = append(answers[len(answers)-1], e.raw...)
		}
	}
	return said, answers, steps
}

// instead answers a line in the module's place, which does not get it: as it did on a good one, or
// with other words.
type instead struct {
	line   string
	nth    int    // of that line, from 1; 0 is each
	answer []byte // nil is as it was
	count  int
	was    map[string][][]byte
	heards
	*trigger
}

// heards hands on what a module says.
type heards struct{}

func (heards) heard(line []byte) [][]byte { return [][]byte{line} }

func (t *instead) said(line []byte) ([]byte, []byte) {
	if string(line) != t.line {
		return line, nil
	}
	t.count++
	if t.nth != 0 && t.count != t.nth {
		return line, nil
	}
	t.n++
	if t.answer != nil {
		return nil, t.answer
	}
	list := t.was[t.line]
	if len(list) == 0 {
		return nil, nil
	}
	return nil, list[min(t.count, len(list))-1]
}

// was are the answers to each line, in their order.
func (b *baseline) was(port string) map[string][][]byte {
	all := map[string][][]byte{}
	said, answers, _ := b.answered(port)
	for i, s := range said {
		all[string(s)] = append(all[string(s)], answers[i])
	}
	return all
}

// control plays an answer again as instead does, and lets the module obey all the same: a procedure
// that does not pass so is caught by the playing, not by what is wrong with the module.
type control struct {
	line string
	was  map[string][][]byte
	n    int
	left int // lines of the module that are not handed on
	part bool
}

func (t *control) said(line []byte) ([]byte, []byte) {
	list := t.was[t.line]
	if string(line) != t.line || len(list) == 0 {
		return line, nil
	}
	answer := list[min(t.n, len(list)-1)]
	t.n++
	for _, l := range bytes.SplitAfter(answer, []byte("\n")) {
		switch {
		case !bytes.HasSuffix(l, []byte("\n")):
			t.part = t.part || len(l) > 0
		case len(bytes.TrimRight(l, "\r\n")) > 0:
			t.left++
		}
	}
	return line, answer
}

func (t *control) heard(line []byte) [][]byte {
	if t.left > 0 {
		t.left--
		return nil
	}
	return [][]byte{line}
}

// drops is asked of what is no whole line, such as a prompt.
func (t *control) drops() bool {
	was := t.part
	t.part = false
	return was
}

// otherwise has the module get another line.
type otherwise struct {
	line, to string
	heards
	*trigger
}

func (t *otherwise) said(line []byte) ([]byte, []byte) {
	if string(line) != t.line {
		return line, nil
	}
	t.n++
	return []byte(t.to), nil
}

// lies is a module that does not keep a value and tells that it did, for good or until it starts
// again.
type lies struct {
	write, read string
	tells       string // the line with the value that was to be kept
	pattern     *pattern.Pattern
	starts      *pattern.Pattern // ends it; nil is never
	was         map[string][][]byte
	lying, asks bool
	*trigger
}

func (t *lies) said(line []byte) ([]byte, []byte) {
	t.asks = t.lying && string(line) == t.read
	if string(line) != t.write {
		return line, nil
	}
	t.lying = true
	t.n++
	if list := t.was[t.write]; len(list) > 0 {
		return nil, list[0]
	}
	return nil, nil
}

func (t *lies) heard(line []byte) [][]byte {
	if t.starts != nil {
		if _, is := t.starts.Match(line); is {
			t.lying = false
		}
	}
	if t.asks && t.lying {
		if _, is := t.pattern.Match(line); is {
			t.asks = false
			return [][]byte{[]byte(t.tells)}
		}
	}
	return [][]byte{line}
}

// agrees answers whatever is said as a success, and does nothing.
type agrees struct {
	answer []byte
	heards
	*trigger
}

func (t *agrees) said([]byte) ([]byte, []byte) {
	t.n++
	return nil, t.answer
}

// rewrites changes what a module answers to a line, or all that it says.
type rewrites struct {
	after string // a said line; "" is any
	nth   int    // of the lines that would be changed; 0 is each
	do    func(line []byte) ([][]byte, bool)
	asked bool
	count int
	*trigger
}

func (t *rewrites) said(line []byte) ([]byte, []byte) {
	t.asked = string(line) == t.after
	return line, nil
}

func (t *rewrites) heard(line []byte) [][]byte {
	if t.after != "" && !t.asked {
		return [][]byte{line}
	}
	out, changes := t.do(line)
	if !changes {
		return [][]byte{line}
	}
	if t.count++; t.nth != 0 && t.count != t.nth {
		return [][]byte{line}
	}
	t.n++
	return out
}

// replaced changes a text in a line.
func replaced(old, to string) func([]byte) ([][]byte, bool) {
	return func(line []byte) ([][]byte, bool) {
		if !bytes.Contains(line, []byte(old)) {
			return nil, false
		}
		return [][]byte{bytes.Replace(line, []byte(old), []byte(to), 1)}, true
	}
}

// mutants are all modules with one thing wrong that can be made of what was said and heard.
func (p *Play) mutants(b *baseline) (all []*mutant) {
	for _, decl := range p.File.Ports {
		st := p.Stations[decl.Name]
		if st == nil || st.Phrasebook == nil {
			continue
		}
		m := &maker{Play: p, b: b, port: decl.Name, book: st.Phrasebook, lines: st.Setup.Dialect != phrasebook.Bytes}
		m.said, m.answers, m.steps = b.answered(decl.Name)
		all = append(all, m.settings()...)
		if p.Do == nil { // else nothing is said of what the modules are
			all = append(all, m.identities()...)
		}
		all = append(all, m.commands()...)
		all = append(all, m.limits()...)
		all = append(all, m.times()...)
		all = append(all, m.stranger()...)
		all = append(all, m.messages()...)
	}
	return all
}

// maker makes the mutants of the module at one port.
type maker struct {
	*Play
	b       *baseline
	port    string
	book    *phrasebook.Phrasebook
	lines   bool
	said    [][]byte
	answers [][]byte
	steps   []string

	writes map[string]bool // lines that write a setting
}

// written is the last line that writes a setting, with the value; "" if none does.
func (m *maker) written(set phrasebook.Setting) (line, value, step string) {
	if set.WriteSaid == nil {
		return "", "", ""
	}
	re, names := set.WriteSaid.Template()
	for i, s := range m.said {
		found := re.FindStringSubmatch(string(s))
		if found == nil || m.refused(m.answers[i]) {
			continue
		}
		for j, n := range names {
			if n == "value" {
				line, value, step = string(s), found[j+1], m.steps[i]
			}
		}
	}
	return line, value, step
}

// refused reports whether an answer holds a refusal.
func (m *maker) refused(answer []byte) bool {
	for _, line := range bytes.FieldsFunc(answer, func(r rune) bool { return r == '\r' || r == '\n' }) {
		if string(line) == "ERROR" && m.book.Dialect == phrasebook.AT {
			return true
		}
		for _, p := range m.book.Refusals() {
			if _, is := p.Match(bytes.TrimSpace(line)); is {
				return true
			}
		}
	}
	return false
}

// settings are modules that do not keep a setting as it was written.
func (m *maker) settings() (all []*mutant) {
	m.writes = map[string]bool{}
	was := m.b.was(m.port)
	for _, set := range m.book.Settings {
		switch {
		case !set.Writable():
		case set.WritePacket != "" || !m.lines:
			all = append(all, m.packets(set, was)...)
		default:
			all = append(all, m.setting(set, was)...)
		}
	}
	return all
}

// setting are modules that do not keep one setting, which is written in words.
func (m *maker) setting(set phrasebook.Setting, was map[string][][]byte) (all []*mutant) {
	line, value, step := m.written(set)
	if line == "" {
		return []*mutant{{name: "not stored", port: m.port, about: set.Name}}
	}
	m.writes[line] = true
	hidden := ""
	if set.ReadSaid == nil {
		hidden = "the phrasebook tells no way to read it"
	}
	add := func(name, hidden string, make func(*trigger) tamper) *mutant {
		x := &mutant{name: name, port: m.port, about: set.Name, touched: true, hidden: hidden != "", why: hidden, mend: m.readBack(set, line, value, step), make: func() (tamper, *trigger) {
			on := &trigger{}
			return make(on), on
		}}
		if !strings.HasPrefix(name, "stored wrong") {
			x.replays = line
		}
		all = append(all, x)
		return x
	}
	add("not stored", hidden, func(on *trigger) tamper { return &instead{line: line, was: was, trigger: on} })
	add("stored at the second try only", hidden, func(on *trigger) tamper { return &instead{line: line, nth: 1, was: was, trigger: on} })
	for _, wrong := range wrongValues(set, value) {
		if to, err := set.WriteSaid.Fill(func(string) (string, error) { return wrong.value, nil }); err == nil {
			add("stored wrong: "+wrong.how, hidden, func(on *trigger) tamper { return &otherwise{line: line, to: to, trigger: on} })
		}
	}
	if set.ReadSaid == nil || set.AnswerPattern == nil {
		return all
	}
	lie := func(starts *pattern.Pattern) func(*trigger) tamper {
		tells := set.AnswerPattern.Example(map[string]string{"value": value})
		return func(on *trigger) tamper {
			return &lies{write: line, read: set.Read, tells: tells, pattern: set.AnswerPattern, starts: starts, was: was, trigger: on}
		}
	}
	if m.book.Banner != nil && m.restartsAfter(line) {
		if x := add("lost at a restart", "", lie(m.book.Banner.Pattern)); x.mend != nil {
			x.mend.Step = m.lastRestart()
		}
	}
	if m.book.Carrier == nil || len(m.Stations) < 2 {
		add("stored and not used", "the module tells that it has it, and nothing uses it", lie(nil))
	} else {
		add("stored and not used", "", lie(nil)).anyway = true
	}
	return all
}

// packets are modules that do not keep a setting as a packet wrote it.
func (m *maker) packets(set phrasebook.Setting, was map[string][][]byte) (all []*mutant) {
	value, known := m.b.state[m.port+": "+set.Name]
	var line []byte
	if known {
		line = m.writing(set, value)
	}
	touched := line != nil && slices.ContainsFunc(m.said, func(s []byte) bool { return bytes.Equal(s, line) })
	if !touched {
		return []*mutant{{name: "not stored", port: m.port, about: set.Name}}
	}
	m.writes[string(line)] = true
	all = append(all, &mutant{name: "not stored", port: m.port, about: set.Name, touched: true, replays: string(line), make: func() (tamper, *trigger) {
		on := &trigger{}
		return &instead{line: string(line), was: was, trigger: on}, on
	}})
	for _, wrong := range wrongValues(set, value) {
		to := m.writing(set, wrong.value)
		if to == nil || bytes.Equal(to, line) {
			continue
		}
		all = append(all, &mutant{name: "stored wrong: " + wrong.how, port: m.port, about: set.Name, touched: true, make: func() (tamper, *trigger) {
			on := &trigger{}
			return &otherwise{line: string(line), to: string(to), trigger: on}, on
		}})
	}
	return all
}

// writing is the packet that writes a value, as the phrasebook says it; nil if that cannot be told.
func (m *maker) writing(set phrasebook.Setting, value string) []byte {
	without := m.saidBy(nil)
	list := m.saidBy(set.WriteStatements(m.Stations[m.port].Setup.Dialect, m.port, set.Quoted(value), false))
	for _, said := range list {
		if !slices.ContainsFunc(without, func(s []byte) bool { return bytes.Equal(s, said) }) {
			return said
		}
	}
	return nil
}

// saidBy is what statements say at the port of a module that is set up for its settings.
func (m *maker) saidBy(statements []string) (said [][]byte) {
	round := m.book.Round
	text := fmt.Sprintf("procedure \"said\"\nport %s\nstep \"said\"\n    pause 1ms\n%s\nend\n", m.port, strings.Join(slices.Concat(round.Statements("enter", m.port), statements, round.Statements("leave", m.port)), "\n"))
	file, err := procedure.ParseWith("", text, map[string]*phrasebook.Phrasebook{m.port: m.book})
	if err != nil {
		return nil
	}
	alone := *m.Play
	alone.File, alone.Values, alone.Boards = file, map[string]any{}, nil
	alone.Stations = map[string]*bench.Station{m.port: m.Stations[m.port]}
	o, err := alone.perform(context.Background(), scene{seed: m.Seed})
	if err != nil {
		return nil
	}
	for _, e := range o.log {
		if e.out {
			said = append(said, e.text)
		}
	}
	return said
}

// restartsAfter reports whether the module starts again after a line was said.
func (m *maker) restartsAfter(line string) bool {
	after := false
	for i, s := range m.said {
		after = after || string(s) == line
		if after && m.restarts(m.answers[i]) {
			return true
		}
	}
	return false
}

func (m *maker) restarts(answer []byte) bool {
	for _, l := range bytes.FieldsFunc(answer, func(r rune) bool { return r == '\r' || r == '\n' }) {
		if _, is := m.book.Banner.Pattern.Match(bytes.TrimSpace(l)); is {
			return true
		}
	}
	return false
}

// lastRestart is the step in which the module starts for the last time.
func (m *maker) lastRestart() (step string) {
	for i := range m.said {
		if m.restarts(m.answers[i]) {
			step = m.steps[i]
		}
	}
	return step
}

// wrong is a value that is not the one that was written.
type wrong struct{ how, value string }

// wrongValues are values that a module may have kept in place of one.
func wrongValues(set phrasebook.Setting, value string) (all []wrong) {
	try := func(how, v string) {
		if v != value && set.Check(v) == nil && !slices.ContainsFunc(all, func(w wrong) bool { return w.value == v }) {
			all = append(all, wrong{how, v})
		}
	}
	if n, err := strconv.Atoi(value); err == nil && set.Type != "text" {
		try("the next value", strconv.Itoa(n+1))
		if len(all) == 0 {
			try("the value before", strconv.Itoa(n-1))
		}
		try("another unit's", strconv.Itoa(n+7))
		if len(value) > 1 {
			try("cut", value[:len(value)-1])
		}
		return all
	}
	if len(value) > 1 {
		try("cut", value[:len(value)-1])
	}
	try("in other case", strings.Map(func(r rune) rune {
		if unicode.IsUpper(r) {
			return unicode.ToLower(r)
		}
		return unicode.ToUpper(r)
	}, value))
	return all
}

// identities are modules that say that they are another.
func (m *maker) identities() (all []*mutant) {
	if !m.lines {
		return nil
	}
	for _, id := range m.book.Identity {
		if id.Read == "" {
			continue
		}
		name := "another " + id.Name
		if record.IsSerial(id.Name) {
			name = "the module before is plugged in still"
		}
		x := &mutant{name: name, port: m.port, about: id.Name, anyway: true}
		all = append(all, x)
		p, err := pattern.Compile(id.Answer)
		if err != nil {
			continue // it was checked when read
		}
		for i, s := range m.said {
			if string(s) != id.Read {
				continue
			}
			for _, l := range bytes.FieldsFunc(m.answers[i], func(r rune) bool { return r == '\r' || r == '\n' }) {
				caps, is := p.Match(l)
				if !is {
					continue
				}
				value := ""
				for _, c := range caps {
					if c.Name == "value" {
						value = fmt.Sprint(c.Value)
					}
				}
				if other := otherIdentity(value); value != "" && other != value {
					x.touched = true
					x.mend = &mend{Step: m.steps[i], Lines: m.identified(id.Name, value)}
					x.make = func() (tamper, *trigger) {
						on := &trigger{}
						return &rewrites{after: id.Read, do: replaced(value, other), trigger: on}, on
					}
				}
			}
		}
	}
	return all
}

// identified are lines that hold what a module says of itself against what it is to be.
func (m *maker) identified(name, value string) []string {
	as := "the_" + strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToLower(name))
	if strings.ContainsAny(name, " -") {
		name = strconv.Quote(name)
	}
	return []string{fmt.Sprintf("get %s %s as %s", m.port, name, as), fmt.Sprintf("check string(%s) == %q", as, value)}
}

// otherIdentity is what another module would say: older firmware, another number.
func otherIdentity(value string) string {
	for i := 0; i < len(value); i++ { // the first digit that can be less
		if c := value[i]; c > '0' && c <= '9' {
			return value[:i] + string(c-1) + value[i+1:]
		}
	}
	return value + "x"
}

// commands are modules that answer as they should to a line that they do not obey, and that tell of
// a refusal as of a success, and the other way round.
func (m *maker) commands() (all []*mutant) {
	was := m.b.was(m.port)
	seen := map[string]bool{}
	asks := map[string]bool{} // packets that only ask
	if !m.lines {
		for _, set := range m.book.Settings {
			if way := set.Way(); way.Readable() {
				for _, said := range m.saidBy(way.Statements(m.Stations[m.port].Setup.Dialect, m.port, "it")) {
					asks[string(said)] = true
				}
			}
		}
	}
	success := m.success()
	refusal := m.refusal()
	if success != nil && len(m.said) > 0 {
		all = append(all, &mutant{name: "says yes to everything", port: m.port, about: "another module", touched: true, anyway: true, make: func() (tamper, *trigger) {
			on := &trigger{}
			return &agrees{answer: success, trigger: on}, on
		}})
	}
	for i, s := range m.said {
		line := string(s)
		if seen[line] || m.queries(line) || asks[line] {
			continue
		}
		seen[line] = true
		shown := line
		if !m.lines {
			shown = fmt.Sprintf("% X", s)
		}
		if m.refused(m.answers[i]) {
			if success != nil {
				all = append(all, &mutant{name: "a refusal answered with success", port: m.port, about: shown, touched: true, anyway: true, mend: m.refusedWith(line, m.answers[i], m.steps[i]), make: func() (tamper, *trigger) {
					on := &trigger{}
					return &instead{line: line, answer: success, trigger: on}, on
				}})
			}
			continue
		}
		if refusal != nil && len(m.answers[i]) > 0 {
			all = append(all, &mutant{name: "refused in place of done", port: m.port, about: shown, touched: true, make: func() (tamper, *trigger) {
				on := &trigger{}
				return &instead{line: line, answer: refusal, trigger: on}, on
			}})
		}
		if m.writes[line] {
			continue
		}
		all = append(all, &mutant{name: "answered and not done", port: m.port, about: shown, touched: true, replays: line, hidden: len(m.b.state) == 0, why: "the phrasebook tells no settings", make: func() (tamper, *trigger) {
			on := &trigger{}
			return &instead{line: line, was: was, trigger: on}, on
		}})
	}
	return all
}

// refusedWith is the line that waits for the refusal that came, behind the one that was refused.
func (m *maker) refusedWith(line string, answer []byte, step string) *mend {
	say := m.sayOf(line, step)
	if say == nil {
		return nil
	}
	for _, l := range bytes.FieldsFunc(answer, func(r rune) bool { return r == '\r' || r == '\n' }) {
		if m.refused(l) {
			return &mend{Step: step, After: say.Line, Lines: []string{fmt.Sprintf("hear %s: %s", m.port, bytes.TrimSpace(l))}}
		}
	}
	return nil
}

// sayOf is the statement that has said a line in a step, as far as what it was made of is known
// without a run; nil if that cannot be told.
func (m *maker) sayOf(line, step string) (found *procedure.Say) {
	values := maps.Clone(m.Values)
	for _, l := range m.File.Lets {
		if v, err := l.Expr.Run(context.Background(), values); err == nil { // else it is said otherwise
			values[l.Name] = v
		}
	}
	for _, s := range m.File.Steps {
		if s.Title != step {
			continue
		}
		walk(s.Body, func(n procedure.Node) {
			say, ok := n.(*procedure.Say)
			if !ok || say.Port != m.port || say.Packet != nil {
				return
			}
			text, err := say.Text.Fill(func(source string) (string, error) {
				v, err := say.Exprs[source].Run(context.Background(), values)
				return procedure.Text(v), err
			})
			if err == nil && text == line {
				found = say
			}
		})
	}
	return found
}

// queries reports whether a line only asks.
func (m *maker) queries(line string) bool {
	for _, set := range m.book.Settings {
		if set.Read == line {
			return true
		}
	}
	for _, id := range m.book.Identity {
		if id.Read == line {
			return true
		}
	}
	return m.book.Dialect == phrasebook.AT && (line == "AT" || strings.HasSuffix(line, "?"))
}

// success is what ends an answer as it should; nil if nothing is known to.
func (m *maker) success() []byte {
	if !m.lines {
		return nil
	}
	switch finals := m.book.Finals(); {
	case len(finals) > 0 && finals[0].Example(nil) != "":
		return []byte("\r\n" + finals[0].Example(nil) + "\r\n")
	case m.book.Dialect == phrasebook.AT:
		return []byte("\r\nOK\r\n")
	}
	return nil
}

// refusal is what says no; nil if nothing is known to.
func (m *maker) refusal() []byte {
	if !m.lines {
		return nil
	}
	if text := m.book.Refuse(m.book.Refusal.Unknown); text != "" {
		return []byte("\r\n" + text + "\r\n")
	}
	if m.book.Dialect == phrasebook.AT {
		return []byte("\r\nERROR\r\n")
	}
	return nil
}

var aNumber = regexp.MustCompile(`-?[0-9]+(\.[0-9]+)?`)

// at is the line in which a measured value came: the last before it was judged that holds it.
func (m *maker) at(l limitSeen) (line []byte, after string) {
	want := float64(l.Value)
	for i := min(l.at, len(m.b.log)) - 1; i >= 0; i-- {
		e := m.b.log[i]
		if e.step != "" && e.step != l.Step {
			break
		}
		if e.port != m.port {
			continue
		}
		if e.out {
			if line != nil {
				return line, string(e.text)
			}
			continue
		}
		for _, n := range aNumber.FindAllString(string(e.text), -1) {
			if v, err := strconv.ParseFloat(n, 64); line == nil && err == nil && v == want {
				line = e.text
			}
		}
	}
	return line, ""
}

// withValue puts another number in the place of one: where that stands in a line, and in all lines
// that are like it but for their numbers and quoted words.
func withValue(like []byte, value float64, to string) func([]byte) ([][]byte, bool) {
	place := -1
	for i, at := range aNumber.FindAllIndex(like, -1) {
		if v, err := strconv.ParseFloat(string(like[at[0]:at[1]]), 64); err == nil && v == value && place < 0 {
			place = i
		}
	}
	shape := shapeOf(like)
	return func(line []byte) ([][]byte, bool) {
		at := aNumber.FindAllIndex(line, -1)
		if place < 0 || place >= len(at) || shapeOf(line) != shape {
			return nil, false
		}
		return [][]byte{append(append(bytes.Clone(line[:at[place][0]]), to...), line[at[place][1]:]...)}, true
	}
}

// shapeOf is what a line is but for its numbers, up to the fifth.
func shapeOf(line []byte) string {
	if at := aNumber.FindAllIndex(line, 5); len(at) == 5 {
		line = line[:at[4][1]]
	}
	return aNumber.ReplaceAllString(string(line), "#")
}

// decimals is how finely a value is told in a line, as the least step of its last digit.
func decimals(line []byte, value float64) (digits int) {
	for _, n := range aNumber.FindAllString(string(line), -1) {
		if v, err := strconv.ParseFloat(n, 64); err == nil && v == value {
			if _, after, ok := strings.Cut(n, "."); ok {
				return len(after)
			}
		}
	}
	return 0
}

// limits are modules of which a value lies outside its limits.
func (m *maker) limits() (all []*mutant) {
	if !m.lines {
		return nil
	}
	for _, l := range m.b.limits {
		if l.Text != nil || l.Series != nil || l.Low == nil && l.High == nil {
			continue
		}
		line, after := m.at(l)
		if line == nil {
			continue // of the time that it took, or worked out
		}
		digits := decimals(line, float64(l.Value))
		least := 1.0
		for range digits {
			least /= 10
		}
		for _, side := range []struct {
			limit *float64
			name  string
			by    float64
		}{{l.Low, "below", -least}, {l.High, "above", least}} {
			if side.limit == nil {
				continue
			}
			to := strconv.FormatFloat(*side.limit+side.by, 'f', digits, 64)
			all = append(all, &mutant{name: "a value " + side.name + " its limit", port: m.port, about: l.What, touched: true, anyway: true, what: l.What, value: *side.limit + side.by, make: func() (tamper, *trigger) {
				on := &trigger{}
				return &rewrites{after: after, do: withValue(line, float64(l.Value), to), trigger: on}, on
			}})
		}
	}
	return all
}

// times are modules that take longer than a limit of the procedure allows.
func (m *maker) times() (all []*mutant) {
	for _, s := range m.File.Steps {
		took := map[string]*procedure.Hear{}
		walk(s.Body, func(n procedure.Node) {
			switch n := n.(type) {
			case *procedure.Hear:
				if n.Took != "" && n.Port == m.port && len(n.Exprs) == 0 {
					took[n.Took] = n
				}
			case *procedure.Limit:
				h := took[n.Expr.Source]
				if h == nil || n.High == nil {
					return
				}
				high, err := n.High.Run(context.Background(), m.Values)
				most, err2 := strconv.ParseFloat(procedure.Text(high), 64)
				late := time.Duration((most + 0.05) * float64(time.Second))
				if err != nil || err2 != nil || late >= max(h.Within, m.File.Answers) {
					return // it would not be waited for so long
				}
				all = append(all, &mutant{name: "a time above its limit", port: m.port, about: n.What, touched: true, anyway: true, style: &style{starts: late, banner: h.Pattern}, make: func() (tamper, *trigger) {
					on := &trigger{n: 1}
					return &through{trigger: on}, on
				}})
			}
		})
	}
	return all
}

// strangers are families that speak lines and that speak packets: one of them is there in the place
// of another.
var strangers = map[bool][]string{true: {"curlew", "dunlin", "redshank"}, false: {"plover", "fieldfare"}}

// stranger is a module of another family in the place of this one.
func (m *maker) stranger() []*mutant {
	own := m.Modules[m.port]
	if m.Do != nil || len(m.said) == 0 {
		return nil
	}
	for _, family := range strangers[m.lines] {
		if strings.EqualFold(family, own.Family) || strings.EqualFold(family, m.book.Family) || own.Fed != nil {
			continue
		}
		other := bench.Standin{Name: own.Name, Family: family, Line: own.Line, Place: own.Place}
		return []*mutant{{name: "is of another family", port: m.port, about: "another module", touched: true, anyway: true, module: &other, make: func() (tamper, *trigger) {
			on := &trigger{n: 1}
			return &through{trigger: on}, on
		}}}
	}
	return nil
}

// messages are modules whose messages do not come as they should.
func (m *maker) messages() (all []*mutant) {
	c := m.book.Carrier
	if c == nil || c.ArrivesPattern == nil || len(m.Stations) < 2 {
		return nil
	}
	came, step, last := 0, "", ""
	for _, e := range m.b.log {
		if e.step != "" {
			step = e.step
		}
		if _, is := c.ArrivesPattern.Match(e.text); e.port == m.port && !e.out && is {
			came++
			last = step
		}
	}
	arrives := func(do func(line []byte) [][]byte) func() (tamper, *trigger) {
		return func() (tamper, *trigger) {
			on := &trigger{}
			return &rewrites{do: func(line []byte) ([][]byte, bool) {
				if _, is := c.ArrivesPattern.Match(line); !is {
					return nil, false
				}
				return do(line), true
			}, trigger: on}, on
		}
	}
	for _, kind := range []struct {
		name string
		do   func(line []byte) [][]byte
	}{
		{"a message does not arrive", func([]byte) [][]byte { return nil }},
		{"a message arrives twice", func(line []byte) [][]byte { return [][]byte{line, line} }},
		{"a byte of a message is changed", func(line []byte) [][]byte { return [][]byte{damaged(c, line)} }},
	} {
		x := &mutant{name: kind.name, port: m.port, about: "messages", touched: came > 0, anyway: true, make: arrives(kind.do)}
		if begins, _, _ := strings.Cut(c.Arrives, "{"); strings.TrimSpace(begins) != "" && strings.Contains(kind.name, "twice") {
			x.mend = &mend{Step: last, Lines: []string{fmt.Sprintf("not hear %s for 300ms: %s ...", m.port, strings.TrimSpace(begins))}}
		}
		all = append(all, x)
	}
	return append(all, m.overhears())
}

// overhears is a module that hears messages which are for others.
func (m *maker) overhears() *mutant {
	c := m.book.Carrier
	x := &mutant{name: "hears what is for others", port: m.port, about: "messages", anyway: true}
	own, known := m.b.state[m.port+": "+c.Address]
	if c.SendSaid == nil || !known {
		return x
	}
	re, names := c.SendSaid.Template()
	x.touched = true
	x.overhears = func(port string, line []byte, on *trigger) []byte {
		found := re.FindSubmatch(line)
		if port == m.port || found == nil {
			return nil
		}
		values := map[string]string{"from": "1"}
		for i, name := range names {
			values[name] = string(found[i+1])
		}
		if to := values["to"]; to == own || to == c.Broadcast {
			return nil // it is for this one
		}
		text := c.ArrivesPattern.Example(map[string]string{"from": values["from"], "payload": values["payload"], "strength": "-60", "snr": "9.0"})
		if text == "" {
			return nil
		}
		on.n++
		return []byte("\r\n" + text + "\r\n")
	}
	x.make = func() (tamper, *trigger) {
		on := &trigger{}
		return &through{trigger: on}, on
	}
	return x
}

// through changes nothing.
type through struct {
	heards
	*trigger
}

func (t *through) said(line []byte) ([]byte, []byte) { return line, nil }

// damaged is a message that arrives, with one byte of its payload changed.
func damaged(c *phrasebook.Carrier, line []byte) []byte {
	caps, _ := c.ArrivesPattern.Match(line)
	for _, one := range caps {
		if one.Name != "payload" || one.Text == "" {
			continue
		}
		i := bytes.LastIndex(line, []byte(one.Text))
		if i < 0 {
			break
		}
		out := bytes.Clone(line)
		if out[i] == 'x' {
			out[i] = 'y'
		} else {
			out[i] = 'x'
		}
		return out
	}
	return line
}
