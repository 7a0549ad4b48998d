package talk

import (
	"bytes"
	"strings"
	"sync"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/text"
)

// echoTime is how long the echo of a line may take, from a module that repeats lines,
// before it is taken for switched off.
const echoTime = time.Second

// echoes notices a module that switches its echo off while it asks for something, as for
// a password, in whatever words. Where lines are repeated and a question stands there, a
// line is held until its echo begins to come. Without one it is a secret, before anybody
// has read it.
type echoes struct {
	mu      sync.Mutex
	line    string          // what is being said; "" if it is known to be a secret, or no line
	said    string          // the line whose echo is looked for; "" if none is
	came    []byte          // since it was said, without escape sequences
	prompt  string          // where it was said
	held    []dialog.Trace  // it, and what came since; empty if it need not be held
	timer   *time.Timer     // until echoTime has passed
	habit   bool            // the module repeats lines
	ahead   bool            // the echo of a line before may still be on its way
	early   bool            // the line before got no answer: a question may be on its way, and this line be meant for it
	prompts map[string]bool // where it was seen to
}

// trace lets a trace pass, or holds it until an echo is decided upon.
func (t *Talker) trace(tr dialog.Trace) {
	e := &t.echo
	e.mu.Lock()
	defer e.mu.Unlock()
	switch {
	case tr.Kind == dialog.Went && e.line != "":
		e.said, e.line, e.came = e.line, "", nil
		e.prompt = strings.TrimSpace(string(text.Plain(t.heard)))
		if e.early {
			e.hold(tr) // until its answer has been waited for
			return
		}
		if e.habit && e.prompt != "" {
			e.hold(tr)
			said := e.said
			e.timer = time.AfterFunc(echoTime, func() {
				e.mu.Lock()
				defer e.mu.Unlock()
				switch {
				case e.said != said:
				case e.whole():
					t.release(echoed)
				default:
					t.release(silent)
				}
			})
			return
		}
	case len(e.held) > 0:
		e.hold(tr)
	}
	if tr.Kind == dialog.Came && e.said != "" && !e.early {
		e.came = text.Plain(append(e.came, tr.Bytes...))
		if how := repeats(e.came, e.said); how != unsure {
			if how == silent && e.ahead { // what came may be of the line before
				how = unsure
			}
			if len(e.held) == 0 {
				t.pass(tr)
			}
			t.release(how)
			return
		}
	}
	if len(e.held) == 0 {
		t.pass(tr)
	}
}

// hold keeps a trace, whose bytes are its own from then on.
func (e *echoes) hold(tr dialog.Trace) {
	tr.Bytes = bytes.Clone(tr.Bytes)
	e.held = append(e.held, tr)
}

// echo is what became of the echo of a line.
type echo int

const (
	unsure echo = iota // it may be on its way
	echoed
	silent // something else came, or nothing
)

// repeats tells whether what came begins with the echo of a line, and then a line end: an
// answer may begin with the words of its question. A console breaks lines at its width.
func repeats(came []byte, line string) echo {
	if len(came) == 0 {
		return unsure
	}
	if came[0] == '\r' || came[0] == '\n' {
		return silent
	}
	at := 0
	for _, c := range came {
		switch {
		case c == '\r' || c == '\n':
			if at == len(line) {
				return echoed
			}
		case at == len(line) || c != line[at]:
			return silent
		default:
			at++
		}
	}
	return unsure
}

// whole reports whether the line has been repeated, and nothing came since, not even a line
// end.
func (e *echoes) whole() bool { return strings.TrimSpace(string(e.came)) == e.said }

// release ends the wait for an echo. What was held passes, as a secret if no echo came.
func (t *Talker) release(how echo) {
	e := &t.echo
	if e.said == "" {
		return
	}
	if e.timer != nil {
		e.timer.Stop()
		e.timer = nil
	}
	held, line := e.held, e.said
	e.held, e.said, e.came = nil, "", nil
	e.ahead = how == unsure
	switch {
	case how == echoed:
		e.habit = true
		if e.prompts == nil {
			e.prompts = map[string]bool{}
		}
		e.prompts[e.prompt] = true
	case how == silent && (e.prompts[e.prompt] || e.prompt == ""):
		e.habit = false // it repeats nothing any more, not only this line
	}
	if e.early {
		e.early = false
		t.passEarly(held, line)
		return
	}
	if len(held) > 0 && how != echoed {
		t.conceal(line)
	}
	for _, tr := range held {
		t.pass(tr)
	}
	if len(held) > 0 && how != echoed {
		t.note("%q stood there and the line was not repeated, as others are: it is kept as a secret", e.prompt)
	}
}

// passEarly lets pass a line that was said before its time, as a secret if it was followed
// by a question for one.
func (t *Talker) passEarly(held []dialog.Trace, line string) {
	came := append([]byte(nil), t.heard...)
	for _, tr := range held {
		if tr.Kind == dialog.Came {
			came = append(came, tr.Bytes...)
		}
		if asks().Match(text.Plain(came)) {
			t.conceal(line)
			break
		}
	}
	for _, tr := range held {
		t.pass(tr)
	}
}

// answered notes whether what was said last got no answer.
func (t *Talker) answered(nothing bool) {
	t.echo.mu.Lock()
	defer t.echo.mu.Unlock()
	if nothing || t.echo.early {
		t.release(unsure)
	}
	t.echo.early = nothing
}

// settle lets pass what is held, when the port is about to close.
func (t *Talker) settle() {
	t.echo.mu.Lock()
	defer t.echo.mu.Unlock()
	t.release(unsure)
}
