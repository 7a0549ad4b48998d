package talk

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/uart"
)

// spoken is a talker, the module's side, and what was told.
type spoken struct {
	*Talker
	module io.ReadWriteCloser
	mu     sync.Mutex
	events []string
}

func speak(t *testing.T, setup phrasebook.Setup, dial func() (port.Port, error)) *spoken {
	s := &spoken{}
	if dial == nil {
		var host port.Port
		host, s.module = port.Pipe("m", uart.DefaultLine)
		dial = func() (port.Port, error) { return host, nil }
	}
	s.Talker = &Talker{Station: &bench.Station{Name: "m", Setup: setup, Dial: dial}}
	s.Tell = func(e Event) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.events = append(s.events, fmt.Sprintf("%s%q", [...]string{"<", ">", "#"}[e.Kind], e.Bytes))
	}
	if err := s.Open(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func (s *spoken) told() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := strings.Join(s.events, " ")
	s.events = nil
	return all
}

func TestSettingsByHand(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := speak(t, phrasebook.Setup{Ending: phrasebook.CR}, nil)
		s.SetEnding(phrasebook.CRLF)
		if err := s.SetLine(uart.Line{Speed: 9600}); err != nil {
			t.Fatal(err)
		}
		if err := s.SetLine(uart.Line{Speed: -1}); err == nil || s.Line().Speed != 9600 {
			t.Errorf("took -1 baud: %v, now %v", err, s.Line())
		}
		for _, err := range []error{s.Toggle(uart.DTR), s.Break()} {
			if port.KindOf(err) != port.Unsupported {
				t.Errorf("got %v", err)
			}
		}
		if dtr, rts := s.Outputs(); !dtr || !rts {
			t.Error("a signal line that cannot be set is shown as set")
		}
		if err := s.Say(t.Context(), Words{Text: "x"}); err != nil {
			t.Fatal(err)
		}
		if got := s.told(); got != `#"line ending is crlf" #"line is 9600 8N1" >"x\r\n"` {
			t.Errorf("told %s", got)
		}
	})
}

// A port that goes is told of, and with Reopen waited for.
func TestGoesAndReturns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var modules []io.ReadWriteCloser
		var away atomic.Bool
		var mu sync.Mutex
		s := speak(t, phrasebook.Setup{}, func() (port.Port, error) {
			if away.Load() {
				return nil, errors.New("not yet")
			}
			host, module := port.Pipe("m", uart.DefaultLine)
			mu.Lock()
			defer mu.Unlock()
			modules = append(modules, module)
			return host, nil
		})
		s.Reopen = true
		away.Store(true)
		modules[0].Close()
		time.Sleep(5 * time.Second)
		if got := s.told(); got != `#"port m: read: the port vanished while in use"` {
			t.Errorf("told %s", got)
		}
		away.Store(false)
		time.Sleep(time.Second)
		synctest.Wait()
		mu.Lock()
		defer mu.Unlock()
		if got := s.told(); got != `#"the port is back"` || len(modules) != 2 {
			t.Errorf("told %s", got)
		}
		io.WriteString(modules[1], "again\r\n")
		synctest.Wait()
		if got := s.told(); got != `<"again\r\n"` {
			t.Errorf("told %s", got)
		}
		ctx, cancel := context.WithCancelCause(t.Context())
		why := errors.New("enough")
		cancel(why)
		if err := s.Say(t.Context(), Words{Text: "a"}); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Answered(ctx); !errors.Is(err, why) {
			t.Errorf("a cancelled wait went on: %v", err)
		}
	})
}

// What a module asks for that is nobody else's business stays out of the record;
// other lines that look like it do not lose what follows.
func TestAsksForSecret(t *testing.T) {
	for asked, secret := range map[string]bool{
		"password: ": true, "\r\ncode:": true, "Enter PIN > ": true, "pass phrase?": true, "passphrase (8 or more):": true, "\x1b[1mPassword\x1b[0m:": true,
		"Password for admin@tower.larkfell.example: ": true, "Passwd: ": true, "Passwort: ": true, "Mot de passe : ": true, "Contraseña: ": true, "пароль: ": true, "パスワード: ": true, "Enter the passphrase for key /etc/tower: ": true,
		"keypad: ": false, "decoder? ": false,
		"name: ": false, "error code: 5\r\n": false, "keyboard: ": false, "password: wrong\r\nbittern> ": false,
	} {
		synctest.Test(t, func(t *testing.T) {
			var buf, shown bytes.Buffer
			w := record.New(&buf, record.Origin{})
			host, module := port.Pipe("m", uart.DefaultLine)
			talker := &Talker{Station: &bench.Station{Name: "m", Setup: phrasebook.Setup{Ending: phrasebook.CR}, Dial: func() (port.Port, error) { return host, nil }}, Events: record.NewStream(w), Tell: func(e Event) { shown.Write(e.Bytes) }}
			if err := talker.Open(t.Context()); err != nil {
				t.Fatal(err)
			}
			go io.Copy(module, module) // it repeats what it is told
			if _, err := module.Write([]byte(asked)); err != nil {
				t.Fatal(err)
			}
			synctest.Wait()
			for _, l := range []string{"snowline", "logs"} {
				if err := talker.Say(t.Context(), Words{Text: l}); err != nil {
					t.Fatal(err)
				}
			}
			if err := errors.Join(talker.Close(), w.Close()); err != nil {
				t.Fatal(err)
			}
			text := buf.String()
			if secret && strings.Contains(shown.String(), "snowline") {
				t.Errorf("%q: shown is %q", asked, shown.String())
			}
			if kept := strings.Contains(text, "snowline"); kept == secret || secret != strings.Contains(text, "[secret]") || !strings.Contains(text, "logs") {
				t.Errorf("%q: the record is\n%s", asked, text)
			}
		})
	}
}

// Who types ahead of the echo takes nothing from what is known of a module.
func TestTypedAheadOfTheEcho(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := speak(t, phrasebook.Setup{Ending: phrasebook.CR}, nil)
		say := func(line, answer string) {
			t.Helper()
			if err := s.Say(t.Context(), Words{Text: line}); err != nil {
				t.Fatal(err)
			}
			io.WriteString(s.module, answer)
			time.Sleep(100 * time.Millisecond)
		}
		go io.Copy(io.Discard, s.module)
		io.WriteString(s.module, "# ")
		time.Sleep(time.Millisecond)
		say("logs", "logs\r\n# ")
		say("heights", "")
		say("open", "heights\r\n# open\r\nWicket? ")
		say("snowline", "\r\n# ")
		if told := s.told(); strings.Contains(told, "snowline") || !strings.Contains(told, "logs") {
			t.Error(told)
		}
		s.module.Close()
	})
}

// A module that switches its echo off asks for something secret, in whatever words; one
// that never repeats a line, or no line any more, does not.
func TestEchoSwitchedOff(t *testing.T) {
	// What the module says to each line, after its echo where it has one.
	type turn struct {
		line   string
		echo   string // "" is none
		answer string
		secret bool
	}
	for name, turns := range map[string][]turn{
		"a question in unknown words": {{"open", "open\r\n", "\r\nLarkfell wicket? ", false}, {"snowline-7", "", "\r\n\r\n# ", true}, {"logs", "logs\r\n", "nothing\r\n# ", false}},
		"asked twice":                 {{"open", "open\r\n", "Wicket? ", false}, {"snowlane", "", "\r\nno\r\nWicket? ", true}, {"snowline", "", "\r\nyes\r\n# ", true}, {"logs", "logs\r\n", "", false}},
		"stars":                       {{"open", "open\r\n", "Wicket? ", false}, {"snowline", "********\r\n", "yes\r\n# ", true}},
		"no answer at all":            {{"open", "open\r\n", "Wicket? ", false}, {"snowline", "", "", true}},
		"another line comes between":  {{"open", "open\r\n", "Wicket? ", false}, {"snowline", "", "\r\nhoist stopped\r\n", true}},
		"an echo in pieces":           {{"open", "open\r\n", "# ", false}, {"logs of the hoist", "logs o|f the\r\n hoist\r\n", "none\r\n# ", false}},
		"colours within the echo":     {{"open", "open\r\n", "# ", false}, {"logs", "\x1b[1mlo|gs\x1b[0m\r\n", "none\r\n# ", false}},
		"it never repeats":            {{"open", "", "ready\r\n# ", false}, {"logs", "", "none\r\n# ", false}},
		"echo off for good":           {{"open", "open\r\n", "# ", false}, {"echo off", "echo off\r\n", "# ", false}, {"logs", "", "none\r\n# ", true}, {"heights", "", "12\r\n# ", false}},
		"no question stands there":    {{"ATE0", "ATE0\r\n", "\r\nOK\r\n", false}, {"AT+HOIST", "", "\r\nOK\r\n", false}},
	} {
		synctest.Test(t, func(t *testing.T) {
			var kept, shown bytes.Buffer
			w := record.New(&kept, record.Origin{})
			host, module := port.Pipe("m", uart.DefaultLine)
			talker := &Talker{Station: &bench.Station{Name: "m", Setup: phrasebook.Setup{Ending: phrasebook.CR}, Dial: func() (port.Port, error) { return host, nil }}, Events: record.NewStream(w)}
			talker.Tell = func(e Event) { shown.Write(append(e.Bytes, '\n')) }
			if err := talker.Open(t.Context()); err != nil {
				t.Fatal(err)
			}
			io.WriteString(module, "\r\n# ")
			go func() {
				buf := make([]byte, 100)
				for _, turn := range turns {
					if _, err := module.Read(buf); err != nil {
						return
					}
					for part := range strings.SplitSeq(turn.echo, "|") {
						io.WriteString(module, part)
						time.Sleep(10 * time.Millisecond)
					}
					time.Sleep(200 * time.Millisecond)
					io.WriteString(module, turn.answer)
				}
			}()
			time.Sleep(time.Millisecond)
			for _, turn := range turns {
				if err := talker.Say(t.Context(), Words{Text: turn.line}); err != nil {
					t.Fatal(err)
				}
				time.Sleep(3 * time.Second)
			}
			if err := errors.Join(talker.Close(), w.Close()); err != nil {
				t.Fatal(err)
			}
			for _, turn := range turns {
				for where, text := range map[string]string{"record": kept.String(), "screen": shown.String()} {
					if strings.Contains(text, turn.line) == turn.secret {
						t.Errorf("%s: %q in the %s:\n%s", name, turn.line, where, text)
					}
				}
				if talker.Knows(turn.line) != turn.secret {
					t.Errorf("%s: %q would be shown again", name, turn.line)
				}
			}
			synctest.Wait()
		})
	}
}
