package dialog

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/uart"
)

// rig is a dialog with a module that a test plays by hand, in simulated time.
type rig struct {
	*Dialog
	t      *testing.T
	module io.ReadWriteCloser
	passed []string
}

var ctx = context.Background()

func patterns(s ...string) []*pattern.Pattern {
	var ps []*pattern.Pattern
	for _, one := range s {
		ps = append(ps, pattern.Must(one))
	}
	return ps
}

func newRig(t *testing.T, cfg Config) *rig {
	p, module := port.Pipe("north", uart.DefaultLine)
	r := &rig{t: t, module: module}
	cfg.Trace = func(tr Trace) {
		if tr.Kind == PassedBy {
			r.passed = append(r.passed, string(tr.Bytes))
		}
	}
	r.Dialog = Open(p, cfg)
	t.Cleanup(func() { r.Close() })
	return r
}

var atConfig = Config{
	Dialect:  phrasebook.AT,
	Notices:  patterns("~HEARD: {from:int},{n:int},{payload:bytes(n)}"),
	Refusals: patterns("~REFUSED: {why:int}"),
	Banner:   pattern.Must("DUNLIN UP ..."),
	Restarts: func(said string) bool { return said == "AT~RESTART" },
}

func (r *rig) says(s string) {
	r.t.Helper()
	if _, err := r.module.Write([]byte(s)); err != nil {
		r.t.Fatal(err)
	}
	synctest.Wait()
}

// hear is what a wait brings: the text and captures, or the kind of error.
func (r *rig) hear(form pattern.Form, p string) string {
	r.t.Helper()
	return outcome(r.Hear(ctx, Wait{Form: form, Pattern: pattern.Must(p), Within: time.Second}))
}

func outcome(h Heard, err error) string {
	switch e := err.(type) {
	case nil:
		return h.Text
	case *Missed:
		switch {
		case e.Next:
			return "next was " + e.Heard[0]
		case e.Silent:
			return "silence"
		case e.Older != "":
			return "older " + e.Older
		}
		return "missed, heard " + strings.Join(e.Heard, "|") + e.Rest
	case *Refused:
		return "refused " + e.Said + ": " + e.Heard
	case *Unwanted:
		return "unwanted " + e.Heard
	}
	return err.Error()
}

func TestInbox(t *testing.T) {
	type do = func(r *rig) string
	came := func(s string) do { return func(r *rig) string { r.says(s); return "" } }
	say := func(s string) do {
		return func(r *rig) string { _, err := r.Say(ctx, s, time.Second); return outcome(Heard{}, err) }
	}
	hear := func(p string) do { return func(r *rig) string { return r.hear(pattern.WholeLine, p) } }
	earlier := func(p string) do {
		return func(r *rig) string {
			return outcome(r.Hear(ctx, Wait{Pattern: pattern.Must(p), Within: time.Second, Earlier: true}))
		}
	}
	next := func(p string) do { return func(r *rig) string { return r.hear(pattern.NextLine, p) } }
	hearBytes := func(p string) do { return func(r *rig) string { return r.hear(pattern.AnyBytes, p) } }
	absent := func(p string) do {
		return func(r *rig) string {
			return outcome(Heard{}, r.Absent(ctx, Wait{Form: pattern.WholeLine, Pattern: pattern.Must(p), Within: time.Second}))
		}
	}
	settle := func(r *rig) string { return outcome(Heard{}, r.Settle(ctx, time.Second)) }
	for _, c := range []struct {
		name string
		do   []do
		want string
	}{
		{"what came before is not lost", []do{came("A\r\nB\r\n"), hear("A"), hear("B")}, "|A|B"},
		{"the first match and all before it is taken", []do{came("A\r\nB\r\nA\r\n"), hear("B"), hear("A"), hear("A")}, "|B|A|missed, heard "},
		{"split over five reads", []do{came("~"), came("NODE"), came(":"), came(" 7"), came("\r\n"), hear("~NODE: {n:int}")}, "|||||~NODE: 7"},
		{"two answers in one read", []do{came("\r\n~A: 1\r\n\r\n~B: 2\r\n"), hear("~A: 1"), hear("~B: 2")}, "|~A: 1|~B: 2"},
		{"no line end, no line", []do{came("READY"), hear("READY")}, "|missed, heard READY"},
		{"a prompt without line end", []do{came("noise\r\n> "), hearBytes("> "), came("OK\r\n"), hear("OK")}, "|> ||OK"},
		{"bytes take the front of a line", []do{came("ab12cd\r\n"), hearBytes("12"), hear("cd")}, "|12|cd"},
		{"colours and blanks are removed", []do{came(" \x1b[32mOK\x1b[0m \r\n"), hear("OK")}, "|OK"},
		{"next must be next", []do{came("A\r\nB\r\n"), next("B"), next("A"), next("B")}, "|next was A|A|B"},
		{"absent looks at the inbox too", []do{came("A\r\n"), absent("A"), absent("B")}, "|unwanted A|"},
		{"echo is set aside", []do{say("AT"), came("AT\r\r\nOK\r\n"), next("OK")}, "||OK"},
		{"echo can be asked for by its text", []do{say("AT"), came("AT\r\n"), hear("AT")}, "||AT"},
		{"echo is no answer", []do{say("AT"), came("AT\r\nOK\r\n"), hear("{x}")}, "||OK"},
		{"a refusal fails a wait at once", []do{say("AT~X"), came("\r\n~REFUSED: 11\r\n"), hear("~X: {}")}, "||refused AT~X: ~REFUSED: 11"},
		{"a wanted refusal is none", []do{say("AT~X"), came("ERROR\r\n"), hear("ERROR"), settle}, "||ERROR|"},
		{"a refusal nobody asked for fails the step's end", []do{say("AT~X"), came("ERROR\r\n"), settle, settle}, "||refused AT~X: ERROR|"},
		{"and the next line said", []do{say("AT~X"), came("+CME ERROR: 10\r\n"), say("AT")}, "||refused AT~X: +CME ERROR: 10"},
		{"an answer before the refusal is taken", []do{say("AT~X"), came("~X: 1\r\nERROR\r\n"), hear("~X: 1"), settle}, "||~X: 1|refused AT~X: ERROR"},
		{"a final result must come", []do{say("AT"), settle}, "|silence"},
		{"the banner ends an exchange", []do{say("AT~RESTART"), came("\x00\xffDUNLIN\r\nDUNLIN UP 2.4\r\n"), settle, hear("DUNLIN UP ...")}, "|||DUNLIN UP 2.4"},
		{"a line that came between two commands is older", []do{say("AT~RESTART"), came("OK\r\n"), came("~LATE\r\n"), say("AT"), came("OK\r\n"), hear("~LATE"), earlier("~LATE")}, "|||||older ~LATE|~LATE"},
		{"an old answer is no new answer", []do{say("AT~N?"), came("~N: 1\r\nOK\r\n"), say("AT~N?"), came("~N: 2\r\nOK\r\n"), hear("~N: {n:int}")}, "||||~N: 2"},
		{"a notice is no answer", []do{say("AT~N?"), came("~HEARD: 1,2,hi\r\n~N: 1\r\nOK\r\n"), hear("{x}"), hear("~HEARD: {f:int},...")}, "||~N: 1|~HEARD: 1,2,hi"},
		{"waiting for a notice leaves the answer", []do{say("AT~N?"), came("~N: 1\r\n~HEARD: 1,2,hi\r\nOK\r\n"), hear("~HEARD: ..."), hear("~N: 1")}, "||~HEARD: 1,2,hi|~N: 1"},
		{"a payload may begin with line ends", []do{came("~HEARD: 1,5,\r\nabc\r\nOK\r\n"), hear("~HEARD: {f:int},{n:int},{p:bytes(n)}"), hear("OK")}, "|~HEARD: 1,5,\r\nabc|OK"},
		{"a payload may hold line ends", []do{came("~HEARD: 1,5,a\r\nbc\r\nOK\r\n"), hear("~HEARD: {f:int},{n:int},{p:bytes(n)}"), hear("OK")}, "|~HEARD: 1,5,a\r\nbc|OK"},
		{"a result outside an exchange is a line", []do{came("ERROR\r\n"), hear("ERROR"), say("AT"), came("OK\r\n"), settle}, "|ERROR|||"},
		{"lines without CR", []do{came("A\nB\n"), hear("B")}, "|B"},
		{"lines with CR alone", []do{came("A\rB\r"), hear("A"), hear("B")}, "|A|B"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t, atConfig)
				var got []string
				for _, f := range c.do {
					got = append(got, f(r))
				}
				if s := strings.Join(got, "|"); s != c.want {
					t.Errorf("got  %q\nwant %q", s, c.want)
				}
			})
		})
	}
}

func TestPassedOverIsTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, Config{})
		r.says("boot 1\r\nboot 2\r\nREADY\r\n")
		r.hear(pattern.WholeLine, "READY")
		if got := fmt.Sprint(r.passed); got != "[boot 1 boot 2]" {
			t.Error(got)
		}
	})
}

// Waits last exactly as long as they should.
func TestTimes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, atConfig)
		took := func(f func() error) (time.Duration, error) {
			began := time.Now()
			err := f()
			return time.Since(began), err
		}
		after := func(d time.Duration, s string) {
			go func() { time.Sleep(d); r.module.Write([]byte(s)) }()
		}
		after(300*time.Millisecond, "LATE\r\n")
		if d, err := took(func() error {
			_, err := r.Hear(ctx, Wait{Form: pattern.WholeLine, Pattern: pattern.Must("LATE"), Within: time.Second})
			return err
		}); d != 300*time.Millisecond || err != nil {
			t.Errorf("hear took %v, %v", d, err)
		}
		if d, err := took(func() error {
			_, err := r.Hear(ctx, Wait{Form: pattern.WholeLine, Pattern: pattern.Must("X"), Within: time.Second})
			return err
		}); d != time.Second || err == nil {
			t.Errorf("hear in vain took %v, %v", d, err)
		}
		for i := range 3 {
			after(time.Duration(i)*200*time.Millisecond, "x")
		}
		if d, err := took(func() error { return r.Quiet(ctx, 250*time.Millisecond, time.Minute) }); d != 650*time.Millisecond || err != nil {
			t.Errorf("quiet took %v, %v", d, err)
		}
		for i := range 20 {
			after(time.Duration(i)*100*time.Millisecond, "x")
		}
		if d, err := took(func() error { return r.Quiet(ctx, 250*time.Millisecond, time.Second) }); d != time.Second || err == nil {
			t.Errorf("quiet that never came took %v, %v", d, err)
		}
		time.Sleep(2 * time.Second)
		c, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
		defer cancel()
		if d, err := took(func() error {
			return r.Absent(c, Wait{Form: pattern.WholeLine, Pattern: pattern.Must("X"), Within: time.Hour})
		}); d != 100*time.Millisecond || !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("cancelled wait took %v, %v", d, err)
		}
		r.module.Close()
		if _, err := r.Hear(ctx, Wait{Form: pattern.WholeLine, Pattern: pattern.Must("X"), Within: time.Hour}); port.KindOf(err) != port.Vanished {
			t.Errorf("after the port went: %v", err)
		}
	})
}

// A module that never stops talking neither grows memory nor hides the answer.
func TestBounds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, Config{})
		for range 40 {
			r.says(strings.Repeat("chatter\r\n", 10_000))
		}
		r.says(strings.Repeat("x", 3*maxLine))
		r.says("\r\nEND\r\n")
		if len(r.raw) > maxInbox || len(r.lines) > maxLines {
			t.Errorf("kept %d bytes and %d lines", len(r.raw), len(r.lines))
		}
		cut := 0
		for _, l := range r.lines {
			if l.Cut {
				cut++
			}
		}
		if got := r.hear(pattern.WholeLine, "END"); got != "END" || cut < 2 {
			t.Errorf("heard %q, %d pieces", got, cut)
		}
	})
}

// What is shown of a wait in vain does not contradict itself.
func TestMissed(t *testing.T) {
	many := strings.Repeat("level 4\r\n", 30)
	for name, c := range map[string]struct {
		says, wants string
		check       func(m *Missed) bool
	}{
		"the nearest of many":              {"lamp is on\r\n" + many, "lamp is off", func(m *Missed) bool { return m.Near == 0 && m.Heard[0] == "lamp is on" && len(m.Heard) == showLines }},
		"a near one among the last":        {many + "lamp is on\r\n", "lamp is off", func(m *Missed) bool { return m.Heard[m.Near] == "lamp is on" && len(m.Heard) == showLines }},
		"none is near":                     {many, "x", func(m *Missed) bool { return m.Near == -1 && len(m.Heard) == showLines }},
		"without a line end":               {"lamp is lit", "lamp is lit", func(m *Missed) bool { return m.NoEnd && m.Rest == "lamp is lit" }},
		"an echo and a question behind it": {"open\r\nPassword:", "ready", func(m *Missed) bool { return !m.Echo && !m.NoEnd && m.Rest == "Password:" }},
		"only the echo":                    {"open\r\n", "ready", func(m *Missed) bool { return m.Echo }},
	} {
		synctest.Test(t, func(t *testing.T) {
			r := newRig(t, Config{})
			if _, err := r.Say(ctx, "open", time.Second); err != nil {
				t.Fatal(err)
			}
			r.says(c.says)
			_, err := r.Hear(ctx, Wait{Pattern: pattern.Must(c.wants), Within: time.Second})
			if m, ok := errors.AsType[*Missed](err); !ok || !c.check(m) {
				t.Errorf("%s: %+v", name, m)
			}
		})
	}
}

// A port whose other side has gone takes no words.
func TestGone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, Config{})
		r.module.Close()
		synctest.Wait()
		for range 2 {
			if _, err := r.Say(ctx, "relay 1 off", time.Second); port.KindOf(err) != port.Vanished {
				t.Errorf("said a line: %v", err)
			}
			if _, err := r.SayBytes(ctx, []byte("x")); port.KindOf(err) != port.Vanished {
				t.Errorf("said bytes: %v", err)
			}
		}
	})
}

// Wire counts the bytes that a line took on the way, wherever reads were cut.
func TestWire(t *testing.T) {
	const stream = "\r\n~A: 1\r\n\r\nOK\r\nB\nCC\n\nD\r"
	want := []int{8, 5, 2, 3, 3}
	for cut := range len(stream) {
		synctest.Test(t, func(t *testing.T) {
			r := newRig(t, Config{})
			r.says(stream[:cut])
			r.says(stream[cut:])
			var got []int
			for _, l := range r.lines {
				got = append(got, l.Wire)
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Errorf("cut at %d: %v, want %v", cut, got, want)
			}
		})
	}
}

// BenchmarkFlood reads a flood of lines with 100 patterns waiting, beside
// splitting the same bytes into lines and nothing else.
func BenchmarkFlood(b *testing.B) {
	var waiting []string
	for i := range 100 {
		waiting = append(waiting, fmt.Sprintf("~VALUE%02d: {v:int}", i))
	}
	chunk := []byte(strings.Repeat("~STATUS: 12,on,off,17.5,23.1,ok\r\n", 120))
	b.Run("dialog", func(b *testing.B) {
		d := Open(endless{}, Config{Dialect: phrasebook.AT, Notices: patterns(waiting...)})
		d.Close()
		b.SetBytes(int64(len(chunk)))
		now := time.Now()
		for b.Loop() {
			d.take(now, chunk)
		}
	})
	b.Run("bare", func(b *testing.B) {
		b.SetBytes(int64(len(chunk)))
		var lines []string
		for b.Loop() {
			lines = lines[:0]
			for rest := chunk; len(rest) > 0; {
				i := bytes.IndexByte(rest, '\n')
				lines = append(lines, string(bytes.TrimRight(rest[:i], "\r\n")))
				rest = rest[i+1:]
			}
		}
	})
}

// endless is a port that is closed at once.
type endless struct{ port.Port }

func (endless) Read([]byte) (int, error) { return 0, io.EOF }
func (endless) Close() error             { return nil }

// Where a colour stands within what was wanted, what came is shown as it is.
func TestHiddenBytes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, Config{Dialect: phrasebook.Bytes})
		r.says("tower# \x1b[32mready\x1b[0m to go")
		_, err := r.Hear(ctx, Wait{Form: pattern.AnyBytes, Pattern: pattern.Must("ready to go")})
		m, ok := errors.AsType[*Missed](err)
		if !ok || m.Hidden != "tower# \x1b[32mready\x1b[0m to go" {
			t.Errorf("%+v", m)
		}
		_, err = r.Hear(ctx, Wait{Form: pattern.AnyBytes, Pattern: pattern.Must("ready to fly")})
		if m, ok := errors.AsType[*Missed](err); !ok || m.Hidden != "" {
			t.Errorf("%+v", m)
		}
	})
}
