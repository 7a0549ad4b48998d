package rehearse

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"uparrot/core/bench"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
)

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
		return []*mutant{{kind: ofSettings, name: "not stored", port: m.port, about: set.Name}}
	}
	m.writes[line] = true
	hidden := ""
	if set.ReadSaid == nil {
		hidden = "the phrasebook tells no way to read it"
	}
	add := func(name, hidden string, make func(*trigger) tamper) *mutant {
		x := &mutant{kind: ofSettings, name: name, port: m.port, about: set.Name, step: step, touched: true, hidden: hidden != "", why: hidden, mend: m.readBack(set, line, value, step), make: func() (tamper, *trigger) {
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
			add("stored wrong: "+wrong.how, hidden, func(on *trigger) tamper { return &replacedLine{line: line, to: to, trigger: on} })
		}
	}
	if set.ReadSaid == nil || set.AnswerPattern == nil {
		return all
	}
	lie := func(starts *pattern.Pattern) func(*trigger) tamper {
		tells := set.AnswerPattern.Example(map[string]string{"value": value})
		return func(on *trigger) tamper {
			return &falseAnswer{write: line, read: set.Read, tells: tells, pattern: set.AnswerPattern, starts: starts, was: was, trigger: on}
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
		return []*mutant{{kind: ofSettings, name: "not stored", port: m.port, about: set.Name}}
	}
	m.writes[string(line)] = true
	all = append(all, &mutant{kind: ofSettings, name: "not stored", port: m.port, about: set.Name, step: m.stepOf(line), touched: true, replays: string(line), make: func() (tamper, *trigger) {
		on := &trigger{}
		return &instead{line: string(line), was: was, trigger: on}, on
	}})
	for _, wrong := range wrongValues(set, value) {
		to := m.writing(set, wrong.value)
		if to == nil || bytes.Equal(to, line) {
			continue
		}
		all = append(all, &mutant{kind: ofSettings, name: "stored wrong: " + wrong.how, port: m.port, about: set.Name, step: m.stepOf(line), touched: true, make: func() (tamper, *trigger) {
			on := &trigger{}
			return &replacedLine{line: string(line), to: string(to), trigger: on}, on
		}})
	}
	return all
}

// stepOf is the last step in which something was said.
func (m *maker) stepOf(said []byte) (step string) {
	for i, s := range m.said {
		if bytes.Equal(s, said) {
			step = m.steps[i]
		}
	}
	return step
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
	alone.File, alone.Values = file, map[string]any{}
	alone.Stations = map[string]*bench.Station{m.port: m.Stations[m.port]}
	o, err := alone.perform(context.Background(), trial{seed: m.Seed})
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
