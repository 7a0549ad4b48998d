package talk

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/uart"
)

// lines is how many lines are said to modules of all kinds: 10000 with -args -lines 10000.
var lines = flag.Int("lines", 600, "how many lines are said to modules of all kinds")

// slowModule answers each line in pieces, after a while, and knows whether it was spoken to
// before it had ended.
type slowModule struct {
	rng     *rand.Rand
	echo    int    // 0 none, 1 at once, 2 a character at a time
	end     string // of each answer
	notices bool   // come at any time

	mu              sync.Mutex
	busy            bool
	lines, tooEarly int
}

// run reads lines that end with CR.
func (m *slowModule) run(rw io.ReadWriter) {
	buf, line := make([]byte, 1000), []byte(nil)
	for {
		n, err := rw.Read(buf)
		if err != nil {
			return
		}
		m.mu.Lock()
		if m.busy {
			m.tooEarly++
		}
		line = append(line, buf[:n]...)
		if i := bytes.IndexByte(line, '\r'); i >= 0 {
			said := string(line[:i])
			line = line[i+1:]
			m.busy = true
			m.lines++
			go m.answer(rw, said)
		}
		m.mu.Unlock()
	}
}

func (m *slowModule) answer(w io.Writer, said string) {
	switch m.echo {
	case 1:
		io.WriteString(w, said+"\r\n")
	case 2:
		for _, c := range []byte(said + "\r\n") {
			w.Write([]byte{c})
			time.Sleep(time.Millisecond)
		}
	}
	time.Sleep(time.Duration(m.rng.IntN(2000)) * time.Millisecond)
	answer := ""
	for i := range 1 + m.rng.IntN(3) {
		if answer += fmt.Sprintf("pylon %d: %d\r\n", i, m.rng.IntN(1000)); m.notices && m.rng.IntN(4) == 0 {
			answer += "~GUST: 7\r\n"
		}
	}
	for answer += m.end; ; {
		n := 1 + m.rng.IntN(len(answer))
		if strings.TrimLeft(answer[n:], " \n") == "" { // the blank behind a prompt and the LF behind a CR are nobody's answer
			m.mu.Lock()
			m.busy = false // before anybody can know
			m.mu.Unlock()
			io.WriteString(w, answer)
			return
		}
		io.WriteString(w, answer[:n])
		answer = answer[n:]
		time.Sleep(time.Duration(m.rng.IntN(51)) * time.Millisecond)
	}
}

// Every line is said after the answer to the one before has ended, whatever tells its end,
// and nothing if nothing does.
func TestNoAnswerIsLost(t *testing.T) {
	phrases := func(texts ...string) (all phrasebook.Phrases) {
		for _, text := range texts {
			p, err := phrasebook.ParsePhrase(text)
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, p)
		}
		return all
	}
	kinds := []struct {
		end   string
		setup phrasebook.Setup
	}{
		{"\r\nOK\r\n", phrasebook.Setup{Dialect: phrasebook.AT}},
		{"\r\nERROR\r\n", phrasebook.Setup{Dialect: phrasebook.AT}},
		{"done 5\r\n", phrasebook.Setup{Signs: phrasebook.Signs{Final: phrases("done ...")}}},
		{"tower> ", phrasebook.Setup{Dialect: phrasebook.Console, Signs: phrasebook.Signs{Prompt: phrases("tower>")}}},
		{"", phrasebook.Setup{}},
		{"OK\r\n", phrasebook.Setup{}},  // nobody has said that this is the end
		{"tower> ", phrasebook.Setup{}}, // nor this
		{"\x03", phrasebook.Setup{Dialect: phrasebook.Bytes}},
	}
	const atATime = 25
	for i := range *lines / atATime {
		kind := kinds[i%len(kinds)]
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			m := &slowModule{rng: rand.New(rand.NewPCG(uint64(i), 15)), echo: i / len(kinds) % 3, end: kind.end, notices: kind.setup.Dialect == phrasebook.AT}
			if kind.setup.Dialect == phrasebook.Bytes {
				m.echo = 0 // an echo cannot be told from an answer in it
			}
			go m.run(module)
			setup := kind.setup
			setup.Ending = phrasebook.CR
			s := &Talker{Station: &bench.Station{Name: "m", Setup: setup, Dial: func() (port.Port, error) { return host, nil }}, Tell: func(Event) {}, Wait: dialog.Answer{Within: 3 * time.Second}}
			if err := s.Open(t.Context()); err != nil {
				t.Fatal(err)
			}
			for n := range atATime {
				s.Queue(Words{Text: fmt.Sprintf("gust %d", n)})
			}
			for s.Waiting() > 0 {
				time.Sleep(time.Second)
			}
			time.Sleep(10 * time.Second)
			m.mu.Lock()
			defer m.mu.Unlock()
			if m.tooEarly > 0 || m.lines != atATime || s.Lapses() > 0 {
				t.Errorf("kind %d, seed %d: %d lines, %d of them before the answer to the one before had ended, %d without answer", i%len(kinds), i, m.lines, m.tooEarly, s.Lapses())
			}
			s.Close()
		})
	}
}

// What a module does not answer is told and counted, and holds nothing up for longer than
// the limit.
func TestNothingCame(t *testing.T) {
	for _, c := range []struct {
		dialect phrasebook.Dialect
		answer  string
		lapses  int
		took    time.Duration
		words   string
	}{
		{phrasebook.AT, "", 3, 15 * time.Second, "nothing came within 5s"},
		{phrasebook.Lines, "", 3, 15 * time.Second, "nothing came within 5s"},
		{phrasebook.Bytes, "", 3, 15 * time.Second, "nothing came within 5s"},
		{phrasebook.AT, "maybe\r\n", 3, 15 * time.Second, "something came, but not the end of an answer within 5s more: wanted a final result, such as OK"},
		{phrasebook.AT, "\r\nOK\r\n", 0, 0, ""},
		{phrasebook.AT, "\r\nERROR\r\n", 0, 0, ""},
		{phrasebook.AT, "> ", 0, 900 * time.Millisecond, ""}, // it asks for something
		{phrasebook.Lines, "yes\r\n", 0, 900 * time.Millisecond, ""},
		{phrasebook.Lines, "one\r\n", 1, 5600 * time.Millisecond, "nothing came within 5s but what was said itself"}, // the first alone may be an echo
		{phrasebook.Lines, "three\r\n", 0, 900 * time.Millisecond, ""},                                               // it repeats nothing, so this is its answer
	} {
		synctest.Test(t, func(t *testing.T) {
			s := speak(t, phrasebook.Setup{Dialect: c.dialect, Ending: phrasebook.CR}, nil)
			go func() {
				buf := make([]byte, 100)
				for {
					if _, err := s.module.Read(buf); err != nil {
						return
					}
					io.WriteString(s.module, c.answer)
				}
			}()
			began := time.Now()
			for _, line := range []string{"one", "two", "three"} {
				if err := s.Say(t.Context(), Words{Text: line}); err != nil {
					t.Fatal(err)
				}
				if _, err := s.Answered(t.Context()); err != nil {
					t.Fatal(err)
				}
			}
			told := s.told()
			if took := time.Since(began); took != c.took || s.Lapses() != c.lapses || !strings.Contains(told, c.words) {
				t.Errorf("%+v: %v, %d lapses, %s", c, took, s.Lapses(), told)
			}
			s.module.Close()
		})
	}
}

// A secret that is said before the module asks for it is one all the same, wherever the
// question comes.
func TestSecretSaidBeforeItsTime(t *testing.T) {
	for _, after := range []time.Duration{time.Millisecond, 400 * time.Millisecond, 2 * time.Second, 5*time.Second + 100*time.Millisecond, 9 * time.Second} {
		synctest.Test(t, func(t *testing.T) {
			var kept, shown bytes.Buffer
			w := record.New(&kept, record.Origin{})
			host, module := port.Pipe("m", uart.DefaultLine)
			s := &Talker{Station: &bench.Station{Name: "m", Setup: phrasebook.Setup{Ending: phrasebook.CR}, Dial: func() (port.Port, error) { return host, nil }}, Events: record.NewStream(w)}
			s.Tell = func(e Event) { shown.Write(append(e.Bytes, '\n')) }
			if err := s.Open(t.Context()); err != nil {
				t.Fatal(err)
			}
			go io.Copy(io.Discard, module)
			time.AfterFunc(after, func() { io.WriteString(module, "Password: ") })
			s.Queue(Words{Text: "crew"}, Words{Text: "snowline"}, Words{Text: "logs"})
			time.Sleep(time.Minute)
			s.Close()
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			for where, text := range map[string]string{"record": kept.String(), "screen": shown.String()} {
				if strings.Contains(text, "snowline") || !strings.Contains(text, "crew") {
					t.Errorf("after %v the %s is\n%s", after, where, text)
				}
			}
			if !s.Knows("snowline") {
				t.Errorf("after %v: it would be shown again", after)
			}
			module.Close()
		})
	}
}

// The words of a text message end with a byte, and their answer with a final result.
func TestMessageIsAnswered(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := speak(t, phrasebook.Setup{Dialect: phrasebook.AT, Ending: phrasebook.CR}, nil)
		go func() {
			buf := make([]byte, 100)
			for {
				n, err := s.module.Read(buf)
				if err != nil {
					return
				}
				if buf[n-1] == 0x1a {
					time.Sleep(time.Second)
					io.WriteString(s.module, "\r\n+CMGS: 1\r\n")
					time.Sleep(time.Second)
					io.WriteString(s.module, "\r\nOK\r\n")
				} else {
					io.WriteString(s.module, "\r\n> ")
				}
			}
		}()
		for _, w := range []Words{{Text: "AT+CMGS=1"}, {Text: "All safe.\x1a", Whole: true}} {
			if err := s.Say(t.Context(), w); err != nil {
				t.Fatal(err)
			}
			began := time.Now()
			how, err := s.Answered(t.Context())
			if took := time.Since(began); w.Whole && (how != dialog.Finished || took != 2*time.Second) || err != nil {
				t.Errorf("%q: %v after %v, %v", w.Text, how, took, err)
			}
		}
		s.module.Close()
	})
}

// What is held back until it is known whether a line was a secret is told whole.
func TestHeldIsWhole(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := speak(t, phrasebook.Setup{Ending: phrasebook.CR}, nil)
		go io.Copy(io.Discard, s.module)
		s.Queue(Words{Text: "one"}, Words{Text: "two"})
		time.Sleep(6 * time.Second)
		for _, piece := range []string{"gust 7", " of 9\r", "\ncalm"} {
			io.WriteString(s.module, piece)
			time.Sleep(50 * time.Millisecond)
		}
		time.Sleep(time.Second)
		if got := s.told(); got != `>"one\r" #"nothing came within 5s" >"two\r" <"gust 7" <" of 9\r" <"\ncalm"` {
			t.Error(got)
		}
		s.module.Close()
	})
}
