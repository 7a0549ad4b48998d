package perform

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// stage is a procedure with its ports, each with a module that a test plays.
type stage struct {
	Run
	t      *testing.T
	module map[string]io.ReadWriteCloser
	host   map[string]port.Port
	events []string
	record bytes.Buffer
	w      *record.Writer
	watch  func(record.Event) // told of all that happens
}

// set prepares a procedure. Its ports answer nothing until a test says so.
func set(t *testing.T, text string, values map[string]any) *stage {
	t.Helper()
	proc, err := procedure.Parse("t.parrot", text)
	if err != nil {
		t.Fatal(err)
	}
	s := &stage{t: t, module: map[string]io.ReadWriteCloser{}, host: map[string]port.Port{}}
	s.w = record.New(&s.record, record.Origin{Tool: "test"})
	s.Run = Run{Procedure: proc, Stations: map[string]*bench.Station{}, Values: values}
	s.Run.Events = record.NewStream(s.w, func(e record.Event) {
		if s.watch != nil {
			s.watch(e)
		}
	})
	for _, sec := range proc.Secrets {
		s.Events.Hide(values[sec.Name].(string))
	}
	for _, p := range proc.Ports {
		st, module := simtest.Played(p.Name, p.Whole(), p.Phrasebook)
		host, _ := st.Dial()
		s.module[p.Name], s.host[p.Name], s.Stations[p.Name] = module, host, st
	}
	s.watch = func(e record.Event) {
		line := map[record.Kind]string{record.Said: ">", record.Heard: "<", record.Told: "!", record.Changed: "*", record.Kept: "#"}[e.Kind]
		if line != "" {
			s.events = append(s.events, line+e.Text)
		}
	}
	return s
}

// answers has a module answer each line, which CR ends, with what f returns.
func (s *stage) answers(port string, f func(line string) string) {
	simtest.Answer(s.module[port], f)
}

// after has a module say something by itself.
func (s *stage) after(d time.Duration, port, text string) {
	time.AfterFunc(d, func() { _, _ = io.WriteString(s.module[port], text) }) // a stage that is over hears nothing
}

// play performs the procedure and returns the verdict with the first reason.
func (s *stage) play(ctx context.Context) string {
	res := s.Do(ctx)
	for _, m := range s.module {
		m.Close()
	}
	time.Sleep(time.Minute) // whoever plays a module notices
	if err := s.w.Close(); err != nil {
		s.t.Error(err)
	}
	for _, st := range res.Steps {
		if st.Why != "" {
			return string(res.Verdict) + " " + st.Why
		}
	}
	return string(res.Verdict)
}

// scene is a procedure in short and what must come of it.
type scene struct {
	name, body string
	do         func(s *stage)
	want       string
}

func playAll(t *testing.T, header string, scenes []scene) {
	for _, c := range scenes {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := set(t, "procedure \"T\"\n"+header+"step \"s\"\n"+c.body+"\nend\n", map[string]any{"code": "h4ut-route"})
				if c.do != nil {
					c.do(s)
				}
				if got := s.play(t.Context()); !strings.HasPrefix(got, strings.SplitN(c.want, " ", 2)[0]) || !strings.Contains(got, c.want) && !strings.Contains(got, strings.TrimPrefix(c.want, "failed ")) {
					t.Errorf("got %s, want %s", got, c.want)
				}
			})
		})
	}
}

const oneAT = "port a: dialect at, ending cr\n"

func TestMeaningInbox(t *testing.T) {
	playAll(t, "port a: dialect lines, ending cr\n", []scene{
		{"what came before a statement is not lost", "pause 1s\nhear a within 1ms: one\nhear a within 1ms: two", func(s *stage) { s.after(time.Millisecond, "a", "one\r\ntwo\r\n") }, "passed"},
		{"all before a match is taken with it", "pause 1s\nhear a: two\nhear a within 1s: one", func(s *stage) { s.after(0, "a", "one\r\ntwo\r\n") }, "failed line 6"},
	})
}

func TestMeaningExchanges(t *testing.T) {
	playAll(t, oneAT, []scene{
		{"the next say waits for the end of the answer", "say a: ATI\nsay a: AT", func(s *stage) {
			s.answers("a", func(l string) string {
				time.Sleep(time.Second)
				return "\r\nOK\r\n"
			})
		}, "passed"},
		{"so does the end of the step", "say a: AT", nil, "failed line 4: a: wanted a final result, such as OK, heard nothing within 2s"},
		{"a refusal fails at once", "say a: AT+X\nhear a within 1h: OK", func(s *stage) { s.answers("a", func(string) string { return "ERROR\r\n" }) }, "failed line 4: a: said AT+X, was refused with ERROR"},
		{"unless it is wanted", "say a: AT+X\nhear a: +CME ERROR: {n:int}\ncheck n == 4", func(s *stage) { s.answers("a", func(string) string { return "+CME ERROR: 4\r\n" }) }, "passed"},
	})
	playAll(t, "port a: dialect console, ending cr, prompt \"post>\"\n", []scene{
		{"in dialect console the prompt ends it", "say a: net\nsay a: net", func(s *stage) { s.answers("a", func(l string) string { return l + "\r\nmask 24\r\npost> " }) }, "passed"},
		{"and nothing else", "say a: net", func(s *stage) { s.answers("a", func(l string) string { return l + "\r\nOK\r\n" }) }, "failed line 4: a: wanted the prompt post>, heard OK within 2s"},
	})
	playAll(t, "port a: dialect lines, ending cr\n", []scene{{"in dialect lines there are none", "say a: x\nsay a: y", nil, "passed"}})
}

func TestMeaningNotices(t *testing.T) {
	const head = "port a: dialect at, ending cr, phrasebook \"../../examples/dunlin.toml\"\n"
	middle := func(s *stage) {
		s.answers("a", func(string) string { return "\r\n~HEARD: 3,-80,9.5,2,hi\r\n\r\n~NODE: 7\r\n\r\nOK\r\n" })
	}
	playAll(t, head, []scene{
		{"never an answer", "say a: AT~NODE?\nhear a: {x}\ncheck x == \"~NODE: 7\"", middle, "passed"},
		{"can be waited for", "say a: AT~NODE?\nhear a: ~HEARD: 3,{},{},2,hi\nhear a: ~NODE: 7", middle, "passed"},
		{"the same words in an answer and in a notice", "say a: AT~NODE?\nhear a: ~HEARD: ...\nhear a: ~NODE: 7", func(s *stage) {
			s.answers("a", func(string) string { return "~NODE: 7\r\n~HEARD: 3,-80,9.5,2,OK\r\nOK\r\n" })
		}, "passed"},
	})
}

func TestMeaningEcho(t *testing.T) {
	for name, echo := range map[string]string{"with a line end": "%s\r\n~NODE: 7\r\nOK\r\n", "with CR alone": "%s\r\r\n~NODE: 7\r\nOK\r\n", "without line end": "%s~NODE: 7\r\nOK\r\n", "none": "~NODE: 7\r\nOK\r\n"} {
		playAll(t, oneAT, []scene{{name, "say a: AT~NODE?\nhear next a: ~NODE: {n:int}\ncheck n == 7", func(s *stage) {
			s.answers("a", func(l string) string { return strings.ReplaceAll(echo, "%s", l) })
		}, "passed"}})
	}
}

func TestMeaningTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines\nstep \"s\"\n hear a within 10s: late\n not hear a for 3s: late\nend\n", nil)
		s.after(7*time.Second, "a", "late\r\n")
		began := time.Now().Add(time.Minute)
		if got := s.play(t.Context()); got != "passed" || time.Since(began) != 10*time.Second {
			t.Errorf("%s after %v, want passed after 7 s and 3 s", got, time.Since(began))
		}
	})
}

func TestMeaningSecrets(t *testing.T) {
	const head = "port a: dialect lines, ending cr\nsecret code\n"
	for _, c := range []struct{ name, body, reply string }{
		{"said", "say a: {code}", "OK\r\n"},
		{"echoed", "say a: {code}\nhear a: {x}\ncheck x == \"y\"", "h4ut-route\r\n"},
		{"in what was heard instead", "say a: {code}\nhear a: z", "got h4ut-route here\r\n"},
		{"wanted", "say a: {code}\nhear a within 1s: is {=code}", "no\r\n"},
		{"in a failed expression", "say a: {code}\nlet n = number(code)", "\r\n"},
		{"in why", "fail \"it was {code}\"", ""},
		{"in a question", "ask operator \"is {code} right?\"", ""},
		{"kept", "say a: x\ncollect x from a until quiet 300ms\nkeep x as \"{code}.log\"", "h4ut-route\r\n"},
		{"among bytes that are no text", "say bytes a: {hex FF}{code}{cr}\nhear bytes a: {hex FE}...{hex FD}\nfail \"x\"", "\xfeh4ut-route\xfd\r\n"},
		{"refused", "say a: {code}\nhear a: {x}\nlimit number(x) in 1..2", "h4ut-route\r\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := set(t, "procedure \"T\"\n"+head+"step \"s\"\n"+c.body+"\nend\n", map[string]any{"code": "h4ut-route"})
				var seen strings.Builder
				s.Operator = Agreeable{}
				s.Keep = func(name string, data []byte) (string, error) {
					fmt.Fprintf(&seen, "%s %s\n", name, data)
					return name, nil
				}
				s.watch = func(e record.Event) { fmt.Fprintf(&seen, "%+v %v\n", e, e.Err) }
				m := s.module["a"]
				go func() { // two reads for each answer
					buf := make([]byte, 100)
					for {
						if _, err := m.Read(buf); err != nil {
							return
						}
						half := len(c.reply) / 2
						_, _ = io.WriteString(m, c.reply[:half]) // a stage that is over hears nothing
						time.Sleep(10 * time.Millisecond)
						_, _ = io.WriteString(m, c.reply[half:])
					}
				}()
				seen.WriteString(s.play(t.Context()))
				all := seen.String() + s.record.String()
				for _, form := range []string{"h4ut-route", "683475742d726f757465"} {
					if strings.Contains(strings.ToLower(all), form) {
						t.Errorf("the secret is in\n%s", all)
					}
				}
				if !strings.Contains(all, "[secret]") {
					t.Errorf("nothing was hidden in\n%s", all)
				}
			})
		})
	}
	// A fault of the program does not tell it either.
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\n"+head+"step \"s\"\n say a: x\nend\n", map[string]any{"code": "h4ut-route"})
		s.watch = func(record.Event) { panic("h4ut-route") }
		res := s.Do(t.Context())
		if res.Verdict != verdict.Broken || strings.Contains(res.Err.Error(), "h4ut-route") || !strings.Contains(res.Err.Error(), "[secret]") {
			t.Errorf("%s, %v", res.Verdict, res.Err)
		}
	})
}

func TestMeaningBounds(t *testing.T) {
	playAll(t, "port a: dialect lines\n", []scene{{"a module that talks without pause, and a line without end", "hear a within 1m: END", func(s *stage) {
		go func() {
			for range 300 {
				_, _ = io.WriteString(s.module["a"], strings.Repeat("chatter ", 2000))
			}
			_, _ = io.WriteString(s.module["a"], "\r\nEND\r\n")
		}()
	}, "passed"}})
}

func TestMeaningDamage(t *testing.T) {
	noise := func(s *stage) { s.after(0, "a", "\x00\xff\xfe\x00\x80READY\r\n\x00\r\nREADY 1\r\n") }
	playAll(t, "port a: dialect lines\n", []scene{
		{"boot noise with zero bytes does no harm", "hear a: READY {n:int}\ncheck n == 1", noise, "passed"},
		{"bytes that are no text match no capture", "hear a: {x}\ncheck x == \"READY 1\"", noise, "passed"},
		{"but the dots", "hear a: ...READY", noise, "passed"},
		{"and hear bytes", "hear bytes a: {hex 00 FF FE}", noise, "passed"},
		{"colour codes inside a line", "hear a: READY 2", func(s *stage) { s.after(0, "a", "REA\x1b[31mDY\x1b[0m 2\r\n") }, "passed"},
	})
}

func TestMeaningOrder(t *testing.T) {
	const head = "port a: dialect lines, ending cr\nport b: dialect lines, ending cr\n"
	both := func(s *stage) { s.after(2*time.Second, "a", "A\r\n"); s.after(time.Second, "b", "B\r\n") }
	playAll(t, head, []scene{
		{"statements at different ports follow each other", "hear a within 3s: A\nhear b within 1ms: B", both, "passed"},
		{"all waits at several ports at once", "all within 2500ms\nhear a: A\nhear b: B\nend", both, "passed"},
		{"any takes whichever comes first", "any within 5s\ncase hear a: A\nfail \"a\"\ncase hear b: B\nend", both, "passed"},
		{"in vain", "any within 500ms\ncase hear a: A\ncase hear b: B\nend", both, "failed line 5"},
		{"nothing has a case of its own", "any within 500ms\ncase hear a: A\nfail \"a\"\ncase nothing\nsay a: x\nend", both, "passed"},
	})
}

func TestMeaningSettings(t *testing.T) {
	for name, last := range map[string]string{"passed": "say a: x", "failed": "fail \"no\"", "broken": "pause 1h"} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nstep \"s\"\n line a speed 57600 frame 7E1 ending lf dtr off\n say a: y\n "+last+"\nend\n", nil)
			host := &watched{Port: s.host["a"]}
			s.Stations["a"].Dial = func() (port.Port, error) { return host, nil }
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			if got := s.play(ctx); !strings.HasPrefix(got, name) {
				t.Errorf("%s, want %s", got, name)
			}
			if want := `57600 7E1, DTR false, y\n, 115200 8N1, DTR true`; strings.ReplaceAll(strings.Join(host.done, ", "), `, x\n`, "") != want {
				t.Errorf("%s: %q, want %q", name, host.done, want)
			}
		})
	}
}

// watched is a port that notes what is done to it.
type watched struct {
	port.Port
	done []string
}

func (w *watched) note(format string, args ...any) {
	w.done = append(w.done, fmt.Sprintf(format, args...))
}

func (w *watched) SetLine(l uart.Line) error {
	w.note("%v", l)
	return w.Port.SetLine(l)
}

func (w *watched) Inputs() (port.Inputs, error) { return port.Inputs{}, nil }
func (w *watched) SetFlow(uart.Flow) error      { return nil }
func (w *watched) Break(d time.Duration) error  { w.note("break %v", d); return nil }
func (w *watched) Signal(s uart.Signal, on bool) error {
	w.note("%v %t", s, on)
	return nil
}

func (w *watched) Write(ctx context.Context, b []byte) (int, error) {
	w.note("%s", strings.ReplaceAll(string(b), "\n", `\n`))
	return w.Port.Write(ctx, b)
}

// What is held against a secret and is equal to it is the secret, in whichever form.
func TestBesideASecret(t *testing.T) {
	for expr, want := range map[string]string{"n == int(code)": "passed", "int(code) + 1 == n": "failed", "n in [int(code)]": "passed", "n == int(code) \"it is {n}\"": "passed"} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nsecret code\nstep \"s\"\nlet n = 704710 + 1\ncheck "+expr+"\nend\n", map[string]any{"code": "0704711"})
			checks := 0
			s.watch = func(e record.Event) {
				if e.Kind != record.Check {
					return
				}
				checks++
				values, _ := e.Value.([]Value)
				for _, v := range values {
					if v.Value != "[secret]" {
						t.Errorf("check %s tells %s: %v", expr, v.Name, v.Value)
					}
				}
				if len(values) != 2 || string(e.Verdict) != want || strings.Contains(e.Why, "704711") {
					t.Errorf("check %s: %s, %v, %q", expr, e.Verdict, values, e.Why)
				}
			}
			if res := s.Do(t.Context()); checks != 1 || string(res.Verdict) != want || len(res.Steps[0].Why) > 0 && strings.Contains(fmt.Sprint(res.Steps[0].Why), "704711") {
				t.Errorf("check %s: %d checks, %s, %v", expr, checks, res.Verdict, res.Steps[0].Why)
			}
		})
	}
}
