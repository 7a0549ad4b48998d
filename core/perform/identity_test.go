package perform

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/procedure"
	"uparrot/core/record"
)

// answering answers every question with one word.
type answering bool

func (answering) Tell(context.Context, string) error              { return nil }
func (s answering) Confirm(context.Context, string) (bool, error) { return bool(s), nil }
func (answering) Value(context.Context, string, func(string) error) (string, error) {
	return "", errors.New("no value")
}

// Which unit a run is filed under, and what is told to a module that is not the one meant: nothing of it.
func TestIdentityByHand(t *testing.T) {
	for name, c := range map[string]struct {
		unit   string // that is meant
		serial string // that the module says
		before string // when that has passed today, or an error
		asks   bool
		person Operator
		want   string // verdict, unit, measurements with how they name the unit, lines told to the module, words told to the person
	}{
		"none is meant":            {"", "DL-7", "", false, nil, "passed DL-7 [identity DL-7 identity] [AT~SERIAL AT~NODE=5 AT] []"},
		"the one that is meant":    {"DL-7", "DL-7", "", false, nil, "passed DL-7 [identity DL-7 identity] [AT~SERIAL AT~NODE=5 AT] []"},
		"another":                  {"DL-8", "DL-7", "", false, nil, "untested  [identity DL-7] [AT~SERIAL AT] []"},
		"blanks round it":          {"DL-7", "  DL-7 ", "", false, nil, "passed DL-7 [identity DL-7 identity] [AT~SERIAL AT~NODE=5 AT] []"},
		"no name":                  {"", " ", "", false, nil, "failed  [] [AT~SERIAL AT~NODE=5 AT] []"},
		"passed today":             {"DL-7", "DL-7", "at noon", false, nil, "passed DL-7 [identity DL-7 identity] [AT~SERIAL AT~NODE=5 AT] [DL-7 has passed this before today, at noon: the module before may be plugged in still]"},
		"nobody sits there":        {"DL-7", "DL-7", "at noon", false, answering(false), "passed DL-7 [identity DL-7 identity] [AT~SERIAL AT~NODE=5 AT] [DL-7 has passed this before today, at noon: the module before may be plugged in still]"},
		"somebody says again":      {"DL-7", "DL-7", "at noon", true, answering(true), "passed DL-7 [identity DL-7 identity] [AT~SERIAL AT~NODE=5 AT] [DL-7 has passed this before today, at noon: the module before may be plugged in still]"},
		"somebody says no":         {"DL-7", "DL-7", "at noon", true, answering(false), "untested DL-7 [identity DL-7 identity] [AT~SERIAL AT] [DL-7 has passed this before today, at noon: the module before may be plugged in still]"},
		"the ledger does not know": {"DL-7", "DL-7", "error", true, answering(false), "passed DL-7 [identity DL-7 identity] [AT~SERIAL AT~NODE=5 AT] [Whether DL-7 has passed this before today is not known: no ledger]"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := set(t, "procedure \"T\"\nport a: dialect at, ending cr\ninput node: int\nstep \"who\"\nsay a: AT~SERIAL\nhear a: serial [{serial}]\nidentity serial\nend\n"+
					"step \"node\" always\nsay a: AT~NODE={node}\nend\nstep \"there\" always\nsay a: AT\nend\n", map[string]any{"node": 5})
				var told, lines, words []string
				s.watch = func(e record.Event) {
					if m, is := e.Value.(record.Measurement); is {
						told = append(told, m.What+" "+m.Bare()+map[bool]string{true: " identity"}[m.Identity])
					}
					if e.Kind == record.Told {
						words = append(words, e.Text)
					}
				}
				s.Unit, s.Asks, s.Operator = c.unit, c.asks, c.person
				s.Passed = func(_ context.Context, unit string) (string, error) {
					if unit != "DL-7" {
						t.Errorf("asked about %s", unit)
					}
					if c.before == "error" {
						return "", errors.New("no ledger")
					}
					return c.before, nil
				}
				s.answers("a", func(l string) string {
					if lines = append(lines, l); l == "AT~SERIAL" {
						return "\r\nserial [" + c.serial + "]\r\n\r\nOK\r\n"
					}
					return "\r\nOK\r\n"
				})
				res := s.Do(t.Context())
				for _, m := range s.module {
					m.Close()
				}
				time.Sleep(time.Minute)
				if got := fmt.Sprintf("%s %s %v %v %v", res.Verdict, res.Unit, told, lines, words); got != c.want {
					t.Errorf("%s\nwant\n%s\n%+v", got, c.want, res.Steps)
				}
			})
		})
	}
}

// What may be noted: numbers and texts that are not too long; a secret within one is hidden, one made of one is refused.
func TestNotesByHand(t *testing.T) {
	for expr, want := range map[string]string{
		`3 in V "supply"`:         "passed supply 3 V",
		`1.5 "gain"`:              "passed gain 1.5",
		`"open" "gate"`:           "passed gate open",
		`true "gate"`:             "passed gate true",
		`repeated(1000) "long"`:   "passed long " + strings.Repeat("x", 1000),
		`repeated(1001) "long"`:   "failed the text has 1001 bytes, and a note has 1000 at most: keep it in a file, with keep",
		`[1, 2] "list"`:           "neither a number nor a text",
		`"at h4ut-route" "where"`: "passed where at [secret]",
		`code "code"`:             "this one is made of a secret",
	} {
		synctest.Test(t, func(t *testing.T) {
			n := 0
			if _, err := fmt.Sscanf(expr, "repeated(%d)", &n); err == nil {
				expr = `"` + strings.Repeat("x", n) + `" "long"`
			}
			text := "procedure \"T\"\nport a: dialect lines\nsecret code\nstep \"s\"\nnote " + expr + "\nend\n"
			if _, err := procedure.Parse("t.parrot", text); err != nil {
				if !strings.Contains(err.Error(), strings.TrimPrefix(want, "failed ")) {
					t.Errorf("%.60s: %v", expr, err)
				}
				return
			}
			s := set(t, text, map[string]any{"code": "h4ut-route"})
			got := ""
			s.watch = func(e record.Event) {
				if m, is := e.Value.(record.Measurement); is {
					got = " " + m.What + " " + m.Shown()
				}
			}
			if got = s.play(t.Context()) + got; !strings.Contains(got, strings.TrimPrefix(want, "failed ")) {
				t.Errorf("%.60s: %.200s, want %.100s", expr, got, want)
			}
		})
	}
}
