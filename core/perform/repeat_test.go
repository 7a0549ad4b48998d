package perform

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/verdict"
)

// A repetition for a time and at a pace, to the millisecond in simulated time: how often it
// was done, how long all took, and what fell out.
func TestRepeatForATime(t *testing.T) {
	for _, c := range []struct {
		body string
		says int
		took time.Duration
		note string
	}{
		{"repeat for 10s every 1s\n say a: x\nend", 10, 9 * time.Second, ""},
		{"repeat 3 times every 500ms\n say a: x\nend", 3, time.Second, ""},
		{"repeat 100 times for 2s every 500ms\n say a: x\nend", 4, 1500 * time.Millisecond, ""},
		{"repeat 2 times for 1m every 500ms\n say a: x\nend", 2, 500 * time.Millisecond, ""},
		{"repeat for 1s\n say a: x\n pause 300ms\nend", 4, 1200 * time.Millisecond, ""},
		{"repeat for 3s every 1s\n say a: x\n pause 1100ms\nend", 2, 3100 * time.Millisecond, "1 times fell out"},
		{"repeat for 10s every 1s\n say a: x\n pause 2500ms\nend", 4, 11500 * time.Millisecond, "6 times fell out"},
		{"repeat for 1s every 1s\n say a: x\nend", 1, 0, ""},
		{"repeat 2 * n times every n / 4\n say a: x\nend", 4, 1500 * time.Millisecond, ""},
		{"repeat for n every (n / 4)\n say a: x\nend", 4, 1500 * time.Millisecond, ""},
		{"repeat n times\n say a: x\nend", 2, 0, ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\ninput n: int = 2\nstep \"s\"\n"+c.body+"\nend\n", map[string]any{"n": 2})
			s.answers("a", func(string) string { return "" })
			res := s.Do(t.Context())
			s.module["a"].Close()
			time.Sleep(time.Minute)
			says := strings.Count(strings.Join(s.events, " "), ">x")
			took := time.Duration(res.Steps[0].TookMS * float64(time.Millisecond)).Truncate(10 * time.Millisecond) // a port is listened to for 5 ms before it is first spoken to
			if res.Verdict != verdict.Passed || says != c.says || took != c.took {
				t.Errorf("%s: %s %s, said %d times in %v, want %d in %v", c.body, res.Verdict, res.Steps[0].Why, says, took, c.says, c.took)
			}
			if rec := s.record.String(); !strings.Contains(rec, c.note) || c.note == "" && strings.Contains(rec, "fell out") {
				t.Errorf("%s: the record does not tell what fell out: %s", c.body, rec)
			}
		})
	}
}
