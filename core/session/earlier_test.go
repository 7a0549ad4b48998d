package session

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// What an earlier run found is taken up for the same module under the same inputs alone, and of steps that passed.
func TestEarlierByHand(t *testing.T) {
	file, err := procedure.Parse("t.parrot", "procedure \"T\"\nport a: dialect lines\ninput node: int\nstep \"read\"\nsay: who\nhear: board {board:int}\nend\nstep \"compare\"\ncheck board > 0\nend\nstep \"other\"\nsay: AT\nend\n")
	if err != nil {
		t.Fatal(err)
	}
	text := func(s string) record.Given { return record.Given{Text: &s} }
	n := 0
	type change func(o *record.Origin, list []record.Event) []record.Event
	earlier := func(how change) *Earlier {
		o := record.Origin{Tool: "test", Unit: "LK-1"}
		list := []record.Event{
			{Kind: record.Begin, Text: "T", Value: map[string]any{"inputs": map[string]any{"node": 5, "gone": "x"}}},
			{Kind: record.Open, Port: "a", Value: record.Opened{Address: "/dev/one"}},
			{Kind: record.Step, Step: "read"},
			{Kind: record.Step, Step: "read", Try: 1, Verdict: "passed", Value: record.StepEnd{Values: map[string]record.Given{"board": record.NewGiven(7, func(string) bool { return false })}}},
			{Kind: record.Step, Step: "other", Try: 1, Verdict: "passed"},
			{Kind: record.Verdict, Verdict: "failed"},
		}
		if how != nil {
			list = how(&o, list)
		}
		n++
		path := filepath.Join(t.TempDir(), fmt.Sprint(n))
		w, err := record.Create(path, o)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range list {
			w.Event(e)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		r, err := ReadEarlier(path, file)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	ends := func(v verdict.Verdict, given record.Given) change {
		return func(_ *record.Origin, list []record.Event) []record.Event {
			list[3].Verdict, list[3].Value = v, record.StepEnd{Values: map[string]record.Given{"board": given}}
			return list
		}
	}
	without := func(i int) change {
		return func(_ *record.Origin, list []record.Event) []record.Event { return append(list[:i:i], list[i+1:]...) }
	}
	unit := func(u string) change {
		return func(o *record.Origin, list []record.Event) []record.Event { o.Unit = u; return list }
	}
	for name, c := range map[string]struct {
		how    change
		unit   string // of this run
		at     string // the port's address
		node   int
		chosen string
		want   string // what is taken up, or why not
	}{
		"the same":                           {nil, "LK-1", "/dev/one", 5, "compare", "read gives map[board:7] passed; other gives map[] passed"},
		"the same unit at another port":      {nil, "LK-1", "/dev/two", 5, "compare", "read gives map[board:7] passed; other gives map[] passed"},
		"another unit":                       {nil, "LK-2", "/dev/one", 5, "compare", "is of unit LK-1, and this is LK-2"},
		"a unit that is not named now":       {nil, "", "/dev/one", 5, "compare", "read gives map[board:7] passed; other gives map[] passed"},
		"not named, and at another port":     {nil, "", "/dev/two", 5, "compare", "port a is /dev/two now, and was /dev/one in"},
		"not named then":                     {unit(""), "LK-1", "/dev/one", 5, "compare", "read gives map[board:7] passed; other gives map[] passed"},
		"not named then, at another port":    {unit(""), "LK-1", "/dev/two", 5, "compare", "port a is /dev/two now"},
		"at no address, such as a pipe":      {unit(""), "", "", 5, "compare", "read gives map[board:7] passed; other gives map[] passed"},
		"under another input":                {nil, "LK-1", "/dev/one", 6, "compare", "node is 6 now, and was 5 in"},
		"a step that failed":                 {ends("failed", record.Given{}), "LK-1", "/dev/one", 5, "compare", "in RECORD that step is failed"},
		"a step that failed, with its value": {ends("failed", text("7")), "LK-1", "/dev/one", 5, "compare", "in RECORD that step is failed"},
		"a step that did not come to be":     {without(3), "LK-1", "/dev/one", 5, "compare", "RECORD does not tell it"},
		"a value that is not kept":           {ends("passed", record.Given{Not: "it holds a secret"}), "LK-1", "/dev/one", 5, "compare", "RECORD does not tell it: it holds a secret"},
		"a value with a secret hidden":       {ends("passed", text("x [secret]")), "LK-1", "/dev/one", 5, "compare", "RECORD does not tell it: it holds a secret"},
		"nothing is needed":                  {nil, "LK-1", "/dev/one", 5, "other", "read gives map[] passed"},
		"left out there, passed before that": {func(_ *record.Origin, list []record.Event) []record.Event {
			list[4] = record.Event{Kind: record.Step, Step: "other", Verdict: "skipped", Value: record.StepEnd{LeftOut: true, Passed: true}}
			return list
		}, "LK-1", "/dev/one", 5, "compare", "read gives map[board:7] passed; other gives map[] passed"},
		"left out there": {func(_ *record.Origin, list []record.Event) []record.Event {
			list[4] = record.Event{Kind: record.Step, Step: "other", Verdict: "skipped", Value: record.StepEnd{LeftOut: true}}
			return list
		}, "LK-1", "/dev/one", 5, "compare", "read gives map[board:7] passed"},
	} {
		r := earlier(c.how)
		p := &Procedure{File: file, Earlier: r, Values: map[string]any{"node": c.node}, Chosen: map[string]bool{c.chosen: true}, Keep: Keep{Unit: c.unit}}
		st := &bench.Station{Name: "a"}
		if c.at != "" {
			st.Address = port.Address{Where: c.at}
		}
		before, err := p.complete(map[string]*bench.Station{"a": st})
		var got []string
		for _, title := range []string{"read", "compare", "other"} {
			if b, is := before[title]; is {
				got = append(got, fmt.Sprintf("%s gives %v%s", title, b.Values, map[bool]string{true: " passed"}[b.Passed]))
				if b.From != r.path {
					t.Errorf("%s: %s is from %s", name, title, b.From)
				}
			}
		}
		if err != nil {
			got = []string{strings.ReplaceAll(err.Error(), r.path, "RECORD")}
		}
		if told := strings.Join(got, "; "); told != c.want && (err == nil || !strings.Contains(told, c.want)) {
			t.Errorf("%s: %s\nwant %s", name, told, c.want)
		}
	}
	r := earlier(nil)
	for name, want := range map[string]string{"node": "5 true", "gone": "x true", "none": " false"} {
		v, is := r.Input(name)
		if got := fmt.Sprint(v, is); got != want && got != strings.Replace(want, " ", "", 1) {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}
