package perform

import (
	"io"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/sim/simtest"
	"uparrot/core/verdict"
)

// habit is a module with a habit and a procedure for it: which steps must pass, with
// which words the others fail, what the module must have got, and how long it takes.
type habit struct {
	name    string
	header  string // of the port
	answers func(line string) string
	steps   string
	want    []string // a verdict a step, and words of its reason
	got     []string // lines that the module got
	took    time.Duration
	book    string // phrasebook of the port; "" is none
}

// slow answers one line after a time, others at once.
func slow(slowLine string, after time.Duration, prompt string) func(string) string {
	value := "1"
	return func(line string) string {
		if line == slowLine {
			time.Sleep(after)
		}
		if v, ok := strings.CutPrefix(line, "set "); ok {
			value = v
		}
		return line + "\r\nvalue " + value + "\r\n" + prompt
	}
}

const console = "dialect console, prompt \"tower#\", ending cr"

// habits are made anew each time: some modules remember.
func habits() []habit {
	return []habit{
		{"a late answer does not end the next command", console, slow("sleep 7; show", 7*time.Second, "tower# "),
			"step \"a\"\n say dev: sleep 7; show\n hear dev: value 1\nend\nstep \"b\"\n say dev: set 2\nend\nstep \"c\"\n say dev: set 3\n hear dev: value 3\nend\n",
			[]string{"failed", `failed still busy with "sleep 7; show"`, "passed"}, []string{"sleep 7; show", "set 3"}, 7 * time.Second, ""},
		{"what must always be done waits for a busy module too", console, slow("sleep 3", 3*time.Second, "tower# "),
			"step \"a\"\n say dev: sleep 3\n hear dev within 500ms: value 1\nend\nstep \"b\" always\n say dev: set 2\n hear dev: value 2\nend\n",
			[]string{"failed", "passed"}, []string{"sleep 3", "set 2"}, 3 * time.Second, ""},
		{"a refusal that comes late is not that of the next line", "dialect at, ending cr", func() func(string) string {
			first := true
			return func(line string) string {
				if first {
					first = false
					time.Sleep(3 * time.Second)
					return "\r\nERROR\r\n"
				}
				return "\r\nOK\r\n"
			}
		}(), "step \"a\"\n say dev: AT+LATE\nend\nstep \"b\"\n say dev: AT\nend\n",
			[]string{"failed", "passed"}, []string{"AT+LATE", "AT"}, 3 * time.Second, ""},
		{"a step with tries says it again to a module that heard nothing", "dialect at, ending cr", func() func(string) string {
			n := 0
			return func(string) string {
				if n++; n < 3 {
					return ""
				}
				return "\r\nOK\r\n"
			}
		}(), "step \"a\" tries 3 every 500ms\n say dev: AT\nend\n", []string{"passed"}, []string{"AT", "AT", "AT"}, 6 * time.Second, ""},
		{"another line is not said to one that owes an answer", "dialect at, ending cr", func(line string) string {
			if line == "AT+LOST" {
				return ""
			}
			return "\r\nOK\r\n"
		}, "step \"a\"\n say dev: AT+LOST\nend\nstep \"b\"\n say dev: AT\nend\n",
			[]string{"failed", `failed still busy with "AT+LOST"`}, []string{"AT+LOST"}, 4 * time.Second, ""},
		{"bytes that end a line wait for their own answer", console, func(line string) string {
			if line == "long" {
				time.Sleep(time.Second)
			}
			return line + "\r\n" + line + " result\r\ntower# "
		}, "step \"a\"\n say dev: short\nend\nstep \"b\"\n say bytes dev: long{cr}\n collect x from dev until prompt\n check x contains \"long result\"\nend\nstep \"c\"\n say bytes dev: long{cr}\nend\n",
			[]string{"passed", "passed", "passed"}, []string{"short", "long", "long"}, 2 * time.Second, ""},
		{"bytes that end a line are not said to a busy module", console, slow("sleep 5", 5*time.Second, "tower# "),
			"step \"a\"\n say dev: sleep 5\n hear dev within 500ms: value 1\nend\nstep \"b\"\n say bytes dev: set 2{cr}\nend\n",
			[]string{"failed", `failed still busy with "sleep 5"`}, []string{"sleep 5"}, 4500 * time.Millisecond, ""},
		{"a line that truly gets no answer", "dialect at, ending cr", func(line string) string {
			if line == "AT+SLEEP" {
				return ""
			}
			return "\r\nOK\r\n"
		}, "step \"a\"\n say dev without answer: AT+SLEEP\nend\nstep \"b\"\n say dev: AT\nend\n",
			[]string{"passed", "passed"}, []string{"AT+SLEEP", "AT"}, 0, ""},
		{"the module's own final results, in dialect lines", "dialect lines, ending cr", func(line string) string {
			if line == "lift" {
				return "NAY 4\r\n"
			}
			time.Sleep(time.Second)
			return "relay is on\r\nDONE\r\n"
		}, "step \"a\"\n say dev: relay\n hear dev: relay is on\n say dev: relay\nend\nstep \"b\"\n say dev: lift\nend\n",
			[]string{"passed", "failed said lift, was refused with NAY 4"}, []string{"relay", "relay", "lift"}, 2 * time.Second, "family = \"Dev\"\n[final]\nheard = [\"DONE\"]\n[refusal]\nheard = [\"NAY {n:int}\"]\n"},
		{"a final result that does not come", "dialect lines, ending cr", func(string) string { return "relay is on\r\n" },
			"step \"a\"\n say dev: relay\n hear dev: relay is on\nend\n", []string{"failed a final result, such as DONE did not come within 2s"}, []string{"relay"}, 2 * time.Second, "family = \"Dev\"\n[final]\nheard = [\"DONE\"]\n"},
		{"a line without answer may be refused", "dialect at, ending cr", func(string) string { return "\r\nERROR\r\n" },
			"step \"a\"\n say dev without answer: AT+SLEEP\n pause 100ms\nend\n", []string{"failed said AT+SLEEP, was refused with ERROR"}, []string{"AT+SLEEP"}, 100 * time.Millisecond, ""},
		{"a refusal behind an echo that is joined to it", "dialect console, prompt \"ok\", ending cr",
			func(line string) string { return line + "  undefined word\r\nok " },
			"step \"a\"\n say dev: lamp\nend\n", []string{"failed said lamp, was refused with lamp  undefined word"}, []string{"lamp"}, 0, refusing("undefined word")},
		{"a refusal in dialect lines ends the wait at once", "dialect lines, ending cr",
			func(string) string { return "what? relay\r\n" },
			"step \"a\"\n say dev: relay 9 on\n hear dev within 10s: relay 9 is on\nend\nstep \"b\"\n say dev: relay 9 on\n hear dev: what? ...\nend\n",
			[]string{"failed was refused with what? relay", "passed"}, []string{"relay 9 on", "relay 9 on"}, 0, refusing("what? ...")},
		{"a refusal at one port ends the wait at another", "dialect at, ending cr",
			func(string) string { return "\r\nERROR\r\n" },
			"step \"a\"\n say dev: AT+TELL\n hear far within 15s: hello\nend\n", []string{"failed dev: said AT+TELL, was refused with ERROR"}, []string{"AT+TELL"}, 0, ""},
		{"what is refused in vain at one port while another is quiet", "dialect at, ending cr",
			func(string) string { return "\r\nERROR\r\n" },
			"step \"a\"\n say dev: AT+TELL\n not hear far for 5s: hello\nend\n", []string{"failed dev: said AT+TELL, was refused with ERROR"}, []string{"AT+TELL"}, 0, ""},
	}
}

// While a line is waited for, it is told that the answer has ended.
func TestWaitingTellsTheEnd(t *testing.T) {
	for header, want := range map[string]string{console: "the prompt is back", "dialect at, ending cr": "the final result has come", "dialect lines, ending cr": ""} {
		synctest.Test(t, func(t *testing.T) {
			run := played(t, "procedure \"W\"\nport dev: "+header+"\nstep \"a\"\n say dev: go\n hear later dev within 3500ms: ready\nend\n", "",
				func(io.Writer, string) string { return "\r\nOK\r\ntower# " })
			var told []string
			run.Events = record.NewStream(nil, func(e record.Event) {
				if w, ok := e.Live.(Wait); ok {
					told = append(told, w.Ended)
				}
			})
			run.Do(t.Context())
			if len(told) < 3 || told[0] != want {
				t.Errorf("%s: told %q, want %q", header, told, want)
			}
		})
	}
}

// What a collect has gathered when it fails is kept, marked, and is no value.
func TestKeepPart(t *testing.T) {
	const head = "procedure \"P\"\nport dev: dialect lines, ending cr\nkeep going\nstep \"boot\"\n say dev: go\n"
	const gather = " collect boot from dev until within 2s: ready\n keep boot as \"boot.log\"\n"
	for _, body := range []string{gather + "end\nstep \"look\"\n check boot contains \"store\"\nend\n", " if 1 == 1\n" + gather + " end\nend\n"} {
		synctest.Test(t, func(t *testing.T) {
			run := played(t, head+body, "", func(io.Writer, string) string { return "store clean\r\nrope sensor 1\r\n" })
			kept := ""
			run.Keep = func(name string, data []byte) (string, error) { kept = name + ":" + string(data); return name, nil }
			res := run.Do(t.Context())
			if !strings.HasPrefix(kept, "boot.log:store clean\nrope sensor 1\n[cut short: ") {
				t.Errorf("kept %q", kept)
			}
			for _, s := range res.Steps {
				if s.Verdict != verdict.Failed {
					t.Errorf("%s %s", s.Title, s.Verdict)
				}
			}
		})
	}
}

// refusing is a phrasebook with a refusal.
func refusing(text string) string {
	return "family = \"Dev\"\n[refusal]\nheard = [\"" + text + "\"]\n"
}

// Each habit meets the same performer, in made-up time.
func TestHabits(t *testing.T) {
	for _, h := range habits() {
		t.Run(h.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { h.hold(t) })
		})
	}
}

// played is a run of a procedure whose first port is a module that the test plays: it
// answers each line with what answers returns, and may write before that. Other ports
// are silent. The phrasebook may be empty.
func played(t *testing.T, text, book string, answers func(module io.Writer, line string) string) *Run {
	t.Helper()
	proc, err := procedure.Parse("played.parrot", text)
	if err != nil {
		t.Fatal(err)
	}
	var pb *phrasebook.Phrasebook
	if book != "" {
		if pb, err = phrasebook.Parse("dev.toml", book); err != nil {
			t.Fatal(err)
		}
	}
	run := &Run{Procedure: proc, Stations: map[string]*bench.Station{}, Values: map[string]any{}, Sleep: time.Sleep, Events: record.NewStream(nil)}
	for i, decl := range proc.Ports {
		station, module := simtest.Played(decl.Name, decl.Whole(), pb)
		run.Stations[decl.Name] = station
		if i == 0 {
			simtest.Answer(module, func(line string) string { return answers(module, line) })
		}
	}
	return run
}

func (h habit) hold(t *testing.T) {
	var got []string
	run := played(t, "procedure \"H\"\nport dev: "+h.header+"\nport far: "+h.header+"\nkeep going\n\n"+h.steps, h.book, func(_ io.Writer, line string) string {
		got = append(got, line)
		return h.answers(line)
	})
	began := time.Now()
	res := run.Do(t.Context())
	took := time.Since(began).Round(100 * time.Millisecond)
	time.Sleep(time.Minute) // the module may be busy still
	synctest.Wait()
	for i, s := range res.Steps {
		verdict, words, _ := strings.Cut(h.want[i], " ")
		if string(s.Verdict) != verdict || !strings.Contains(s.Why, words) {
			t.Errorf("step %s: %s: %s, want %s", s.Title, s.Verdict, s.Why, h.want[i])
		}
	}
	if len(res.Steps) != len(h.want) {
		t.Errorf("%d steps, want %d", len(res.Steps), len(h.want))
	}
	if !slices.Equal(got, h.got) {
		t.Errorf("the module got %q, want %q", got, h.got)
	}
	if took != h.took {
		t.Errorf("took %v, want %v", took, h.took)
	}
}
