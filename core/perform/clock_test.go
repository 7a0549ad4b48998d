package perform

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// Times are values in seconds, exact in simulated time: each case says what was measured.
// The module answers a line 300 ms after it, and a second one 200 ms later.
func TestClock(t *testing.T) {
	for _, c := range []struct{ body, want, why string }{
		{"say a: x\nhear a took first: one\nhear a took second: two\nnote first\nnote second", "first = 0.3 s; second = 0.5 s", ""},
		{"say a: x\nhear a within 1s took first: one\nlimit first in 0.2..0.4 \"response\"", "response = 0.3 s", ""},
		{"say a: x\nhear a took first within 1s: one\nlimit first in 0.2..0.25 \"response\"", "response = 0.3 s", "response is 0.3"},
		{"pause 2s\nnote elapsed()\nlimit elapsed() in 1..3 \"so far\"", "elapsed() = 2 s; so far = 2 s", ""},
		{"say a: x\nhear a: {what:word}\npause 1s\nnote since(what)\nnote since(what) * 1000 in ms \"ago\"", "since(what) = 1 s; ago = 1000 ms", ""},
		{"pause 1s\nhear a within 1s took t: boot\nnote t", "t = 1.5 s", ""},
		{"any within 1s\ncase hear a took t: boot\n note t\nend", "t = 0.5 s", "wanted"},
		{"pause 2s\nsay a: x\nhear a took t: boot\nnote t", "", "had come before what was done last"},
		{"note now() \"when\"", "when = 2000-01-01 00:00:00", ""},
		{"let now = 3\nnote now + len(now()) \"a name and a function\"", "a name and a function = 22", ""},
		{"note since(n)", "", "nothing tells when n got its value"},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\ninput n: int\nlet m = n\nstep \"s\"\n"+c.body+"\nend\n", map[string]any{"n": 1})
			s.answers("a", func(string) string {
				time.AfterFunc(500*time.Millisecond, func() { fmt.Fprint(s.module["a"], "two\r\n") })
				time.Sleep(300 * time.Millisecond)
				return "one\r\n"
			})
			if strings.Contains(c.body, "boot") {
				s.after(1500*time.Millisecond, "a", "boot\r\n")
				if strings.HasPrefix(c.body, "any") {
					s.after(500*time.Millisecond, "a", "boot\r\n")
				}
			}
			res := s.Do(t.Context())
			s.module["a"].Close()
			time.Sleep(time.Minute)
			var got []string
			for _, m := range res.Limits {
				m.Value = record.Number(math.Round(float64(m.Value)*1e6) / 1e6) // the rest is what floating point leaves
				got = append(got, m.What+" = "+m.Shown())
			}
			if failed := res.Verdict != verdict.Passed; strings.Join(got, "; ") != c.want || failed && !strings.Contains(res.Steps[0].Why, c.why) {
				t.Errorf("%s:\ngot  %q, %s %s\nwant %s", c.body, got, res.Verdict, res.Steps[0].Why, c.want)
			}
		})
	}
}
