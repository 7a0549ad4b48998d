package perform

import (
	"fmt"
	"net"
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// said is what a procedure says, in order, at a module that answers nothing.
func TestFlow(t *testing.T) {
	const header = "port a: dialect lines, ending cr\nport b: dialect lines, ending cr\nlet n = 3\n" +
		"routine twice(p, x)\n repeat 2 times\n  say p: {x}\n end\nend\n" +
		"routine both(x)\n do twice(a, x)\n do twice(b, x + 1)\nend\n" +
		"routine last()\n let found = n\nend\n"
	for _, c := range []struct{ name, body, said, want string }{
		{"if", "if n == 3\n say a: yes\nelse\n say a: no\nend", "yes", "passed"},
		{"else", "if n == 4\n say a: yes\nelse\n say a: no\nend", "no", "passed"},
		{"else if", "if n == 4\n say a: 4\nelse if n == 3\n say a: 3\nelse\n say a: 0\nend", "3", "passed"},
		{"neither", "if n == 4\n say a: 4\nend\nsay a: x", "x", "passed"},
		{"repeat", "repeat n times\n say a: x\nend", "x x x", "passed"},
		{"repeat a value that is no number", "let s = [1]\nrepeat s[0] - 2 times\n say a: x\nend", "", "failed line 19: s[0] - 2 is -1, wanted a whole number"},
		{"for numbers", "for k in 1..3\n say a: {k * 2}\nend", "2 4 6", "passed"},
		{"for a list", "for w in split(\"up down\", \" \")\n say a: {w}\nend", "up down", "passed"},
		{"for no list", "for w in json(\"7\")\n say a: {w}\nend", "", "failed line 18: json(\"7\"): 7 is no list"},
		{"a routine with a port", "do twice(b, \"v\")", "v v", "passed"},
		{"a routine in a routine", "do both(6)", "6 6 7 7", "passed"},
		{"what a routine gives", "do last()\nsay a: {found}", "3", "passed"},
		{"a failure names the way", "do both([1])", "[1] [1]", "failed line 12 (in both, from line 18)"},
		{"fail", "if n > 2\n fail \"n is {n}\"\nend\nsay a: x", "", "failed line 19: n is 3"},
		{"skip", "skip \"not today\"\nsay a: x", "", "skipped line 18: not today"},
		{"json", "let v = json('{\"volts\": 24.5, \"list\": [1, 2]}')\ncheck v.volts == 24.5 && v.list[1] == 2\nsay a: {v.volts}", "24.5", "passed"},
		{"json that is none", "let v = json(\"{\")", "", "failed line 18: json(\"{\"): the text is no JSON"},
		{"xpath", "let v = xpath(\"<mast><t unit='C'>17.5</t><t>18</t></mast>\", \"//t[2]\")\ncheck number(v) == 18\nsay a: {xpath(\"<a b='c'/>\", \"/a/@b\")}{xpath(\"<a/>\", \"count(/a)\")}", "c1", "passed"},
		{"xpath in vain", "let v = xpath(\"<a/>\", \"/b\")", "", "failed line 18: xpath(\"<a/>\", \"/b\"): nothing in the XML is at /b"},
		{"bytes", "check uint(\"AB\") == 16706 && byte(\"AB\", 1) == 66 && len(\"ê\") == 2", "", "passed"},
		{"no such byte", "check byte(\"AB\", 2) == 0", "", "failed line 18: byte(\"AB\", 2) == 0: there is no byte 2 in 2 bytes"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := set(t, "procedure \"T\"\n"+header+"step \"s\"\n"+c.body+"\nend\n", nil)
				got := s.play(t.Context())
				if !strings.HasPrefix(got, c.want) {
					t.Errorf("got %s, want %s", got, c.want)
				}
				if said := strings.ReplaceAll(strings.Join(s.events, " "), ">", ""); said != c.said {
					t.Errorf("said %q, want %q", said, c.said)
				}
			})
		})
	}
}

func TestOperator(t *testing.T) {
	file := t.TempDir() + "/answers.toml"
	if err := os.WriteFile(file, []byte("\"Is lamp 2 lit?\" = true\n\"How many?\" = [7, 12]\n\"Loud?\" = \"no\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ body, none, yes, file string }{
		{"tell operator \"Pull.\"", "untested it needs a person: Pull.", "passed", "passed"},
		{"ask operator \"Is lamp {1 + 1} lit?\"", "untested it needs a person", "passed", "passed"},
		{"ask operator \"Loud?\"", "untested", "passed", `failed line 4: the operator's answer to "Loud?" is no`},
		{"ask operator \"How many?\" as n: int 1..9\ncheck n == 7", "untested", "untested line 4: nobody is there", "passed"},
		{"ask operator \"How many?\" as n: int 1..9\nask operator \"How many?\" as m: int 1..9\ncheck n == m", "untested", "untested", "untested line 5: the answer to \"How many?\""},
		{"ask operator \"Cold?\"", "untested", "passed", "untested line 4: " + file + " has no answer"},
	} {
		synctest.Test(t, func(t *testing.T) {
			answers, err := ReadAnswers(file)
			if err != nil {
				t.Fatal(err)
			}
			for i, o := range []Operator{nil, Agreeable{}, answers} {
				s := set(t, "procedure \"T\"\nport a\nstep \"s\"\n"+c.body+"\nend\n", nil)
				if s.Operator = o; o == nil {
					s.Operator = nil
				}
				if got, want := s.play(t.Context()), []string{c.none, c.yes, c.file}[i]; !strings.HasPrefix(got, want) {
					t.Errorf("%s: got %s, want %s", c.body, got, want)
				}
			}
		})
	}
}

// Only what was asked for is performed, beside what is needed or always.
func TestChosen(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nstep \"in\" needed\n say a: in\nend\nstep \"one\"\n say a: one\nend\nstep \"two\"\n say a: two\nend\nstep \"out\" always\n say a: out\nend\n", nil)
		s.Chosen = map[string]bool{"two": true}
		if got := s.play(t.Context()); got != "passed left out" || strings.Join(s.events, "") != ">in>two>out" {
			t.Errorf("%s, %v", got, s.events)
		}
	})
}

func TestCollectAndKeep(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nlet unit = \"../17\"\nstep \"s\"\n collect log from a until quiet 500ms\n keep log as \"{unit} boot.log\"\n check len(split(log, \"\\n\")) == 2\nend\n", nil)
		kept := ""
		s.Keep = func(name string, data []byte) (string, error) {
			kept = fmt.Sprintf("%s %q", name, data)
			return name, nil
		}
		s.after(300*time.Millisecond, "a", "one\r\ntwo\r\n")
		if got := s.play(t.Context()); got != "passed" || kept != `_17_boot.log "one\ntwo\n"` {
			t.Errorf("%s, kept %s", got, kept)
		}
		if !strings.Contains(s.record.String(), `"kind":"kept"`) || !strings.Contains(s.record.String(), `"sha256"`) {
			t.Error("the record does not tell of it")
		}
	})
}

// A port that goes away and comes back is opened again, and nothing else is
// taken for that.
func TestReopen(t *testing.T) {
	for gone, want := range map[bool]string{true: "passed", false: "failed line 4: a did not go away and come back within 5s"} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nstep \"s\"\n line a reopen within 5s\n hear a within 1s: back\nend\n", nil)
			first := s.host["a"]
			second, module := port.Pipe("a", uart.DefaultLine)
			back := time.Now().Add(3 * time.Second)
			opened := 0
			s.Stations["a"] = &bench.Station{Name: "a", Address: port.Address{Where: "a"}, Dial: func() (port.Port, error) {
				opened++
				switch {
				case opened == 1:
					return first, nil
				case time.Now().Before(back):
					return nil, &port.Error{Port: "a", Op: "open", Kind: port.Missing}
				}
				go module.Write([]byte("back\r\n"))
				return second, nil
			}}
			if gone {
				time.AfterFunc(time.Second, func() { s.module["a"].Close() })
			}
			if got := s.play(t.Context()); !strings.HasPrefix(got, want) {
				t.Errorf("gone %t: %s, want %s", gone, got, want)
			}
			module.Close()
		})
	}
}

func TestReach(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	number := ln.Addr().(*net.TCPAddr).Port
	text := func(within string) string {
		return fmt.Sprintf("procedure \"T\"\nport a\nlet host = \"127.0.0.1\"\nlet number_of = %d\nstep \"s\"\n reach \"{host}\" tcp {number_of} within %s\nend\n", number, within)
	}
	if res := set(t, text("10s"), nil).Do(t.Context()); res.Verdict != verdict.Passed {
		t.Error(res)
	}
	ln.Close()
	if res := set(t, text("300ms"), nil).Do(t.Context()); !strings.Contains(res.Steps[0].Why, "nothing listens at that port") {
		t.Error(res)
	}
}

// A link statement borrows the open ports, judges, and gives them back.
func TestLinkStatement(t *testing.T) {
	for body, want := range map[string]string{
		"link north south count 100 every 100ms both loss <= 10% p95 <= 300ms": "passed",
		"link north south count 100 every 100ms p95 <= 20ms":                   "failed",
		"link north south count 20 every 100ms loss <= 2%":                     "undecided",
	} {
		synctest.Test(t, func(t *testing.T) {
			res, events, rec := perform(t, t.Context(), head+"step \"s\"\n say north: AT~NODE?\n hear north: ~NODE: 1\n "+body+"\n say north: AT~NODE?\n hear north: ~NODE: 1\nend\nstep \"after\" always\n say south: AT\nend\n")
			if string(res.Verdict) != want || res.Steps[1].Verdict != verdict.Passed {
				t.Errorf("%s: %s, %v, %v", body, res.Verdict, res.Steps, events)
			}
			if len(res.Limits) == 0 || !strings.Contains(rec, `"kind":"link"`) || strings.Count(rec, `"kind":"open"`) != 2 {
				t.Errorf("%s: %+v", body, res.Limits)
			}
		})
	}
}

// A wait that lasts tells that it does, and what it waits for.
func TestSignsOfLife(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines\nstep \"s\"\n hear a within 30m: done\nend\n", nil)
		n, last, text := 0, Wait{}, ""
		s.watch = func(e record.Event) {
			if w, ok := e.Live.(Wait); ok {
				n++
				last, text = w, e.Text
			}
		}
		s.after(5*time.Minute, "a", "half\r\n")
		s.after(20*time.Minute-500*time.Millisecond, "a", "done\r\n") // between two signs
		if got := s.play(t.Context()); got != "passed" || n != 1199 || text != "done" || last.Within != 30*time.Minute || last.Silence.Round(time.Minute) != 15*time.Minute {
			t.Errorf("%s, %d signs, last %+v", got, n, last)
		}
	})
}

// What a failed try has measured does not count: the next measures it again.
func TestMeasurementsOfFailedTries(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nstep \"s\" tries 3\n say a: V?\n hear a within 1s: {v:int}\n limit v in 0..9 \"level\"\n limit v * 2 in 0..8 V \"twice\"\nend\n", nil)
		n := 0
		s.answers("a", func(string) string { n++; return []string{"99\r\n", "7\r\n", "3\r\n"}[n-1] })
		res := s.Do(t.Context())
		var got []string
		for _, m := range res.Limits {
			got = append(got, fmt.Sprintf("%s %v %s", m.What, m.Value, m.Verdict))
		}
		if all := strings.Join(got, ", "); res.Verdict != verdict.Passed || res.Steps[0].Tries != 3 || all != "level 3 passed, twice 6 passed" {
			t.Errorf("%s after %d tries: %s", res.Verdict, res.Steps[0].Tries, all)
		}
		s.module["a"].Close()
		time.Sleep(time.Minute)
	})
}
