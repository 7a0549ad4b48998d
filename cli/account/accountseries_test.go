package account

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"uparrot/cli/shell"
	"uparrot/core/perform"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// A day of rounds is told on one screen: the first, those with a value outside, the last, and
// the one in which it failed; how many others there were is told.
func TestAccountFolds(t *testing.T) {
	tell := func(rounds, bad int, fails bool) string {
		var b bytes.Buffer
		a := &Run{Streams: &shell.Streams{Err: shell.NewScreen(&b)}}
		a.Event(record.Event{Kind: record.Step, Step: "a day", Live: perform.StepBegins{Number: 1, Tries: 1}})
		for i := 1; i <= rounds; i++ {
			a.Event(record.Event{Kind: record.Round, Value: record.RoundMark{Number: i, Outside: i-1 == bad}})
			a.Event(record.Event{Kind: record.Said, Text: fmt.Sprint("volts? ", i)})
			a.Event(record.Event{Kind: record.Heard, Text: "volts 24"})
		}
		if !fails {
			a.Event(record.Event{Kind: record.Round, Value: record.RoundMark{Number: rounds, Over: true}})
			a.Event(record.Event{Kind: record.Step, Verdict: verdict.Passed})
			return b.String()
		}
		a.Event(record.Event{Kind: record.Step, Verdict: verdict.Failed, Err: errors.New("nothing came")})
		return b.String()
	}
	for _, c := range []struct {
		rounds, bad int
		fails       bool
		said        string // the numbers of the rounds that are told
		more        string
	}{
		{86_400, 40_000, false, "1 2 3 40000 86400", "39996 46399"},
		{86_400, -1, true, "1 2 3 86400", "86396"},
		{3, -1, false, "1 2 3", ""},
		{4, -1, false, "1 2 3 4", ""},
		{4, 4, true, "1 2 3 4", ""},
		{5, -1, false, "1 2 3 5", "1"},
		{2, 1, true, "1 2", ""},
	} {
		out := tell(c.rounds, c.bad, c.fails)
		var said, more []string
		for _, l := range strings.Split(out, "\n") {
			if _, n, ok := strings.Cut(l, "volts? "); ok {
				said = append(said, n)
			}
			if n, ok := strings.CutPrefix(strings.TrimSpace(l), "... "); ok {
				more = append(more, strings.Fields(n)[0])
			}
		}
		if strings.Join(said, " ") != c.said || strings.Join(more, " ") != c.more || strings.Count(out, "\n") > 30 {
			t.Errorf("%+v: %q, more %q", c, said, more)
		}
	}
}
