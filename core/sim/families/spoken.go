package families

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/sim"
)

// spoken is a module made of nothing but its phrasebook: settings keep what was
// written, reads and writes answer as the phrasebook says, what it does not know
// or allow is refused in its words, notices come on their timers, and a start
// brings the banner. A procedure can be tried with it before the module is there.
type spoken struct {
	*sim.Unit
	bench *sim.Bench
	book  *phrasebook.Phrasebook
	typed typed
	known []reply

	up     bool
	starts int               // counts them, so that notices of an earlier one stop
	values map[string]string // in force
	kept   map[string]string // from the next start on

	payload []byte // being gathered after a prompt
	wanted  int    // ... bytes still to come
	then    func(at time.Time)
}

// reply is what is done when something is said.
type reply struct {
	said  *regexp.Regexp
	names []string // of its open places
	do    func(at time.Time, values map[string]string)
}

const spokenBoot = 600 * time.Millisecond

func newSpoken(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	s := &spoken{Unit: u, bench: b, book: u.Book, up: true, values: map[string]string{}, kept: map[string]string{}}
	if s.book.Dialect == phrasebook.Bytes {
		return nil, errors.New("a phrasebook in dialect bytes makes no stand-in: it has no lines to answer")
	}
	for _, set := range s.book.Settings {
		s.kept[set.Name] = initial(set)
	}
	for name, v := range u.Settings {
		set, ok := s.book.Setting(name)
		if !ok && s.tells(name) {
			continue
		}
		if !ok {
			return nil, fmt.Errorf("the phrasebook of %s has no setting %q", s.book.Family, name)
		}
		if err := set.Check(v); err != nil {
			return nil, err
		}
		s.kept[name] = v
	}
	s.start()
	s.learn()
	if s.book.Carrier != nil {
		b.AddRadio(s)
	}
	s.noticesFrom(time.Now())
	return s, nil
}

// identity is what the module tells that it is: what the bench says, or else made up of its name.
func (s *spoken) identity(name string) string {
	switch v, given := s.Settings[name]; {
	case given:
		return v
	case record.IsSerial(name):
		return fmt.Sprintf("%06d", serialNumber(s.Which()))
	case name == "firmware":
		return "1.0"
	}
	return strings.ToLower(s.book.Family)
}

// tells reports whether it is something by which the module tells what it is.
func (s *spoken) tells(name string) bool {
	return slices.ContainsFunc(s.book.Identity, func(i phrasebook.Identity) bool { return i.Name == name })
}

// initial is a setting as delivered: what the phrasebook says, or else the lowest.
func initial(set phrasebook.Setting) string {
	switch {
	case set.Default != "":
		return set.Default
	case set.Type == "text" && len(set.Range) == 2:
		return strings.Repeat("x", int(set.Range[0]))
	case len(set.Range) == 2:
		return strconv.FormatFloat(set.Range[0], 'f', -1, 64)
	case set.Type == "text" && set.AnswerPattern != nil:
		if _, heard := set.AnswerPattern.Match([]byte(strings.TrimSpace(set.AnswerPattern.Example(map[string]string{"value": ""})))); !heard {
			return "x" // nothing at all is no answer
		}
		return ""
	case set.Type == "text":
		return ""
	}
	return "0"
}

func (s *spoken) start() {
	for name, v := range s.kept {
		s.values[name] = v
	}
}

// learn prepares the replies: what leaves less open goes first.
func (s *spoken) learn() {
	add := func(said *pattern.Said, do func(at time.Time, values map[string]string)) {
		re, names := said.Template()
		s.known = append(s.known, reply{re, names, do})
	}
	for _, set := range s.book.Settings {
		if set.ReadSaid != nil {
			add(set.ReadSaid, func(at time.Time, _ map[string]string) {
				s.answers(at, set.AnswerPattern.Example(map[string]string{"value": s.values[set.Name]}))
			})
		}
		if set.WriteSaid != nil {
			add(set.WriteSaid, func(at time.Time, v map[string]string) { s.write(at, set, v["value"]) })
		}
	}
	for _, c := range s.book.Commands {
		add(c.Said, func(at time.Time, v map[string]string) { s.command(at, c, v) })
	}
	for _, id := range s.book.Identity { // behind the commands, which tell the whole answer
		said, err := pattern.CompileSaid(id.Read)
		heard, err2 := pattern.Compile(id.Answer)
		if err != nil || err2 != nil || id.Read == "" {
			continue // check tells of it
		}
		is := s.identity(id.Name)
		if example := heard.Example(map[string]string{"value": is}); example != "" {
			add(said, func(at time.Time, _ map[string]string) { s.answers(at, example) })
		}
	}
	if c := s.book.Carrier; c != nil {
		add(c.SendSaid, func(at time.Time, v map[string]string) { s.carry(at, v) })
	}
	sort.SliceStable(s.known, func(i, j int) bool { return len(s.known[i].names) < len(s.known[j].names) })
}

func (s *spoken) Power(at time.Time, on bool) {
	s.up, s.typed, s.wanted = false, typed{}, 0
	if on {
		s.restart(at)
	}
}

func (s *spoken) restart(at time.Time) {
	s.up = false
	s.starts++
	s.bench.Later(s.Unit, at.Add(spokenBoot), func(at time.Time) {
		s.up = true
		s.start()
		if s.book.Banner != nil {
			s.lines(at, s.book.Banner.Pattern.Example(nil))
		}
		s.noticesFrom(at)
	})
}

// noticesFrom sends each notice that has a timer, from a time on.
func (s *spoken) noticesFrom(at time.Time) {
	for _, n := range s.book.Notices {
		if every := time.Duration(n.Every); every > 0 {
			s.noticeLater(at.Add(every), every, n.Pattern)
		}
	}
}

func (s *spoken) noticeLater(at time.Time, every time.Duration, p *pattern.Pattern) {
	starts := s.starts
	s.bench.Later(s.Unit, at, func(at time.Time) {
		if s.starts == starts {
			s.lines(at, p.Example(nil))
			s.noticeLater(at.Add(every), every, p)
		}
	})
}

// lines sends lines as the dialect frames them.
func (s *spoken) lines(at time.Time, list ...string) {
	if s.book.Dialect == phrasebook.AT {
		s.Answer(at, list...)
		return
	}
	for _, l := range list {
		s.Say(at, l+"\r\n")
	}
}

// answers sends the lines of an answer and what ends it.
func (s *spoken) answers(at time.Time, list ...string) {
	switch finals := s.book.Finals(); {
	case len(finals) > 0:
		list = append(list, finals[0].Example(nil))
	case s.book.Dialect == phrasebook.AT:
		list = append(list, "OK")
	}
	s.lines(at, list...)
	s.prompt(at)
}

func (s *spoken) prompt(at time.Time) {
	if s.book.Dialect != phrasebook.Console || len(s.book.Line.Prompt) == 0 {
		return
	}
	s.Say(at, s.book.Line.Prompt[0].Example(nil)+" ")
}

func (s *spoken) refuse(at time.Time, number string) {
	text := s.book.Refuse(number)
	if text == "" {
		if s.book.Dialect != phrasebook.AT {
			s.prompt(at)
			return // it says nothing of what it does not know
		}
		text = "ERROR"
	}
	s.lines(at, text)
	s.prompt(at)
}

func (s *spoken) Heard(at time.Time, b []byte) {
	if !s.up {
		return
	}
	for _, c := range b {
		if s.wanted > 0 {
			s.payload = append(s.payload, c)
			if s.wanted--; s.wanted == 0 {
				s.then(at)
			}
			continue
		}
		if s.book.Echo && c != '\n' {
			s.Say(at, string(c))
		}
		line, over := s.typed.take(c)
		if !over {
			continue
		}
		if s.book.Echo && c == '\r' {
			s.Say(at, "\n")
		}
		if line == "" {
			if c == '\r' {
				s.prompt(at)
			}
			continue
		}
		s.obey(at, line)
	}
}

func (s *spoken) obey(at time.Time, line string) {
	for _, r := range s.known {
		found := r.said.FindStringSubmatch(line)
		if found == nil {
			continue
		}
		values := map[string]string{}
		for i, name := range r.names {
			values[name] = found[i+1]
		}
		r.do(at, values)
		return
	}
	s.refuse(at, s.book.Refusal.Unknown)
}

func (s *spoken) write(at time.Time, set phrasebook.Setting, v string) {
	if set.Check(v) != nil {
		s.refuse(at, s.book.Refusal.Range)
		return
	}
	s.kept[set.Name] = v
	if set.Effect != "restart" {
		s.values[set.Name] = v
	}
	if set.WrittenPattern != nil {
		s.answers(at, set.WrittenPattern.Example(map[string]string{"value": v}))
		return
	}
	s.answers(at)
}

func (s *spoken) command(at time.Time, c phrasebook.Command, v map[string]string) {
	var list []string
	for _, a := range c.Answer {
		if p, err := pattern.Compile(a); err == nil { // it was checked when read
			list = append(list, p.Example(v))
		}
	}
	if c.Follows == "" {
		s.done(at, c, list)
		return
	}
	n, err := strconv.Atoi(v["length"])
	if err != nil || n < 1 || n > pattern.MaxBytes {
		s.refuse(at, s.book.Refusal.Range)
		return
	}
	s.Say(at, "\r\n"+c.Follows+" ")
	s.wanted, s.payload = n, nil
	s.then = func(at time.Time) { s.done(at, c, list) }
}

func (s *spoken) done(at time.Time, c phrasebook.Command, list []string) {
	if c.Restart {
		s.lines(at, list...)
		s.restart(at)
		return
	}
	s.answers(at, list...)
}

// carry sends a payload through the air to others of the same phrasebook.
func (s *spoken) carry(at time.Time, v map[string]string) {
	c := s.book.Carrier
	stated, told := v["length"]
	if told && stated != strconv.Itoa(len(v["payload"])) || len(v["payload"]) > c.Greatest {
		s.refuse(at, s.book.Refusal.Range)
		return
	}
	s.answers(at)
	s.bench.Broadcast(at, s, v["to"], v["payload"])
}

func (s *spoken) Own() string { return s.values[s.book.Carrier.Address] }

// strength is that of a common short-range radio: 10 mW.
func (s *spoken) Strength() int { return 10 }

func (s *spoken) Hears(from sim.Radio, to string) bool {
	other, ok := from.(*spoken)
	if !ok || other.book.File != s.book.File || to != "" && to != s.book.Carrier.Broadcast && to != s.Own() {
		return false
	}
	for _, set := range s.book.Settings { // what a pair needs equal decides who hears
		if set.Pair == "equal" && s.values[set.Name] != other.values[set.Name] {
			return false
		}
	}
	return true
}

func (s *spoken) Receive(at time.Time, m *sim.Message) {
	if s.up {
		s.lines(at, s.book.Carrier.ArrivesPattern.Example(map[string]string{
			"from": m.From, "payload": string(m.Payload), "strength": strconv.Itoa(m.Strength), "snr": fmt.Sprintf("%.1f", m.SNR)}))
	}
}
