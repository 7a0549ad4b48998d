package perform

import (
	"io"
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
