// Package conversation takes a record apart into what was said at each port and
// what came after it.
package conversation

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/uart"
)

// Talk is the conversation at one port.
type Talk struct {
	Name     string
	OpenedAt time.Time
	Opened   record.Opened
	Line     uart.Line // when it was opened
	First    []Heard   // what came before anything was said; After counts from the opening
	Turns    []Turn
}

// Turn is something said and all that came until the next was.
type Turn struct {
	At     time.Time // when its last byte was said
	Said   []byte    // with its line end, if it has one
	Echo   []byte    // what came back of it while it was being said
	Heard  []Heard
	Line   uart.Line // speed and frame then
	Ending bool      // it is a line, ended by CR, LF or both
}

// Text is what was said without its line end.
func (t Turn) Text() string { return string(text.Trim(t.Said)) }

// Heard is what came at one moment, or a change of the line.
type Heard struct {
	After time.Duration // since the turn was said
	Bytes []byte
	Line  *uart.Line // changed to, by the host
}

// most is how many bytes a conversation may hold: it is kept in memory whole.
const most = 64 << 20

// Read reads the conversations of a record, in the order in which the ports were
// opened.
func Read(r io.Reader) ([]*Talk, record.State, error) {
	c := &reader{ports: map[string]*talk{}}
	state, err := record.Read(r, c.take)
	for _, p := range c.list {
		c.ports[p.Name].over()
	}
	return c.list, state, err
}

type reader struct {
	list  []*Talk
	ports map[string]*talk
	size  int
}

// talk is the state of one port's conversation.
type talk struct {
	*Talk
	line   uart.Line
	said   []byte // that is no line yet
	saidAt time.Time
	echo   []byte
	ends   text.Ends
}

func (c *reader) take(e record.Event) error {
	switch e.Kind {
	case record.Open:
		return c.open(e)
	case record.Changed:
		t := c.port(e)
		var to struct {
			Speed int
			Frame *uart.Frame
		}
		if json.Unmarshal(e.Data, &to) == nil && to.Speed > 0 && to.Frame != nil {
			t.over()
			t.line = uart.Line{Speed: to.Speed, Frame: *to.Frame}
			l := t.line
			t.heard(Heard{Line: &l}, e.Time)
		}
	case record.In, record.Out:
		b, err := e.Bytes()
		if err != nil {
			return fmt.Errorf("the record holds bytes that are none: %w", err)
		}
		if c.size += len(b); c.size > most {
			return fmt.Errorf("the record holds more than %d MiB of traffic, too much for this: take a shorter one", most>>20)
		}
		t := c.port(e)
		if e.Kind == record.Out {
			t.say(e.Time, b)
			return nil
		}
		if len(t.said) > 0 {
			if bytes.HasSuffix(t.said, b) { // an echo of what is being typed
				t.echo = append(t.echo, b...)
				return nil
			}
			t.over()
		}
		t.heard(Heard{Bytes: append([]byte(nil), b...)}, e.Time)
	}
	return nil
}

func (c *reader) port(e record.Event) *talk {
	t := c.ports[e.Port]
	if t == nil {
		t = &talk{Talk: &Talk{Name: e.Port, OpenedAt: e.Time}}
		c.ports[e.Port] = t
		c.list = append(c.list, t.Talk)
	}
	return t
}

func (c *reader) open(e record.Event) error {
	_, again := c.ports[e.Port]
	t := c.port(e)
	if again {
		return nil // opened anew: the conversation goes on
	}
	if err := json.Unmarshal(e.Data, &t.Opened); err != nil {
		return fmt.Errorf("what the record says of the port %s cannot be read: %w", e.Port, err)
	}
	t.line = uart.Line{Speed: t.Opened.Speed, Frame: t.Opened.Frame}
	t.Line = t.line
	return nil
}

// say takes in what was said: each line is a turn.
func (t *talk) say(at time.Time, b []byte) {
	for _, c := range b {
		part := t.ends.Take(c)
		if part == text.Second {
			last := &t.Turns[len(t.Turns)-1]
			last.Said, last.At = append(last.Said, c), at
			continue
		}
		t.said = append(t.said, c)
		t.saidAt = at
		if part == text.End {
			t.end(true)
		}
	}
}

// over ends what was said without a line end.
func (t *talk) over() {
	if len(t.said) > 0 {
		t.end(false)
	}
}

func (t *talk) end(ending bool) {
	t.Turns = append(t.Turns, Turn{At: t.saidAt, Said: t.said, Echo: t.echo, Line: t.line, Ending: ending})
	t.said, t.echo = nil, nil
}

func (t *talk) heard(h Heard, at time.Time) {
	if len(t.Turns) == 0 {
		h.After = max(0, at.Sub(t.OpenedAt))
		t.First = append(t.First, h)
		return
	}
	turn := &t.Turns[len(t.Turns)-1]
	h.After = max(0, at.Sub(turn.At))
	turn.Heard = append(turn.Heard, h)
}
