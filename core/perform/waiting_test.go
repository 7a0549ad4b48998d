package perform

import (
	"bytes"
	"encoding/json"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

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

// What a port has not confirmed is no lost port: the step has failed, and others go on.
func TestOutcome(t *testing.T) {
	for kind, want := range map[port.Kind]verdict.Verdict{port.Unconfirmed: verdict.Failed, port.Vanished: verdict.Broken, port.Unsupported: verdict.Broken} {
		if got := outcome(&Failure{Err: &port.Error{Kind: kind}}); got != want {
			t.Errorf("kind %d: %s, want %s", kind, got, want)
		}
	}
}

// What is no number fails its limit with words, whatever side of it is open, and is
// written as such; a limit that is none itself fails too.
func TestNoNumbers(t *testing.T) {
	for statement, want := range map[string]string{
		"limit 5 / n in 1..9":         "5 / n is +Inf: no number to hold against 1..9",
		"limit 5 / n in 1..":          "5 / n is +Inf: no number",
		"limit -5 / n in ..9":         "-5 / n is -Inf: no number",
		"limit n / n in 0..9 V \"u\"": "u is NaN: no number to hold against 0..9 V",
		"limit big * 10 in 1..":       "big * 10 is +Inf",
		"limit 5 in 1..5/n":           "5/n is +Inf: that limits nothing",
		"limit 5 in n/n..":            "n/n is NaN: that limits nothing",
		"check 5 / n < 1":             "is false: n is 0",
	} {
		synctest.Test(t, func(t *testing.T) {
			run := played(t, "procedure \"N\"\nport dev: dialect lines, ending cr\nkeep going\nstep \"a\"\n say dev: go\n hear dev: n {n:int} {big:num}\n "+statement+"\nend\nstep \"b\" always\n say dev: back\n hear dev: n {}\nend\n", "",
				func(io.Writer, string) string { return "n 0 9e307\r\n" })
			var written bytes.Buffer
			w := record.New(&written, record.Origin{})
			run.Events = record.NewStream(w)
			res := run.Do(t.Context())
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			if res.Err != nil || res.Steps[0].Verdict != verdict.Failed || !strings.Contains(res.Steps[0].Why, want) || res.Steps[1].Verdict != verdict.Passed {
				t.Errorf("%s: %v: %+v", statement, res.Err, res.Steps)
			}
			text, err := json.Marshal(res)
			if err != nil {
				t.Errorf("%s: as JSON: %v", statement, err)
			}
			var back Result
			if err := json.Unmarshal(text, &back); err != nil {
				t.Errorf("%s: read back: %v", statement, err)
			}
		})
	}
}

// A fault of the program itself ends its step as broken, and what must always be done
// is done; nothing that it was told in secret is printed.
func TestFaultOfTheProgram(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var got []string
		run := played(t, "procedure \"F\"\nport dev: dialect lines, ending cr\nsecret code\nstep \"a\"\n say dev: {code}\nend\nstep \"b\"\n say dev: on\nend\nstep \"c\" always\n say dev: back\n hear dev: so\nend\n", "",
			func(_ io.Writer, line string) string { got = append(got, line); return "so\r\n" })
		run.Values["code"] = "frost-and-rime"
		run.Events = record.NewStream(nil, func(e record.Event) {
			if e.Kind == record.Said {
				panic("at " + run.Values["code"].(string))
			}
		})
		res := run.Do(t.Context())
		if res.Verdict != verdict.Broken || res.Err == nil || strings.Contains(res.Err.Error(), "frost") || !strings.Contains(res.Err.Error(), "please report this") {
			t.Errorf("%s: %v", res.Verdict, res.Err)
		}
		if len(res.Steps) != 3 || res.Steps[0].Verdict != verdict.Broken || res.Steps[1].Verdict != verdict.Untested || res.Steps[2].Verdict != verdict.Passed || !slices.Equal(got, []string{"back"}) {
			t.Errorf("the module got %q: %+v", got, res.Steps)
		}
	})
}
