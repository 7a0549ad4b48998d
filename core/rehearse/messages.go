package rehearse

import (
	"bytes"
	"fmt"
	"strings"

	"uparrot/core/phrasebook"
)

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
			return &rewrittenAnswer{do: func(line []byte) ([][]byte, bool) {
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
		x := &mutant{kind: ofMessages, name: kind.name, port: m.port, step: last, about: "messages", touched: came > 0, anyway: true, make: arrives(kind.do)}
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
	x := &mutant{kind: ofMessages, name: "hears what is for others", port: m.port, about: "messages", anyway: true}
	own, known := m.b.state[m.port+": "+c.Address]
	if c.SendSaid == nil || !known {
		return x
	}
	re, names := c.SendSaid.Template()
	x.touched = true
	step := ""
	for _, e := range m.b.log {
		if e.step != "" {
			step = e.step
		}
		if e.out && e.port != m.port && re.Match(e.text) {
			x.step = step
		}
	}
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
		return &unchanged{trigger: on}, on
	}
	return x
}

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
