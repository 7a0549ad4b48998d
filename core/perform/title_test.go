package perform

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"
)

// Values stand in what a measurement is called and in its unit, and in why a check failed: so what a routine
// measures of several things is not one series. A secret stands in none.
func TestTitles(t *testing.T) {
	const routine = "routine measure(what, kind, value)\n limit value in 0..20 {kind} \"{what} of the mast\"\n note value in {kind} \"{what}\"\nend\n"
	for _, c := range []struct{ head, body, want, why string }{
		{routine, "do measure(\"supply\", \"V\", 12.5)\n do measure(\"air\", \"C\", 3)", "supply of the mast 12.5 V, supply 12.5 V, air of the mast 3 C, air 3 C", ""},
		{routine, "do measure(\"supply\", \"V\", 25)", "supply of the mast 25 V", "supply of the mast is 25 V, wanted 0..20 V"},
		{"", "for place in [\"hut\", \"tower\"]\n limit len(place) in 1..9 \"{place}, letters\"\nend", "hut, letters 3, tower, letters 5", ""},
		{"", "for v in [1, 2]\n limit v in 1..9 \"both\"\nend", "both 2 values, 1 to 2, mean 1.5, spread 0.707", ""},
		{"", "let v = 7\n check v == 8 \"{v} is no {v + 1}\"", "", "7 is no 8"},
		{"", "check code == \"x\" \"it is {code}\"", "", "it is {code}"}, // as written: see TestBesideASecret
		{"", "let v = 7\n check v == 8 \"it is {code}\"", "", "it is [secret]"},
		{"", "limit 1 in 0..2 \"{code}\"", "", "this is made of a secret"},
		{"", "limit 1 in 0..2 \"{{a}}\"", "{a} 1", ""},
		{"", "watch 2 times\n reading a: {place:word} {v:num}\n limit v in 0..9 V \"{place}\"\nend", "hut 1 V, tower 2 V", ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nsecret code\n"+c.head+"step \"s\"\nsay a: x\n"+c.body+"\nend\n", map[string]any{"code": "gr4nite"})
			s.answers("a", func(string) string {
				time.Sleep(50 * time.Millisecond)
				return "hut 1\r\ntower 2\r\n"
			})
			res := s.Do(t.Context())
			s.module["a"].Close()
			time.Sleep(time.Minute)
			var got []string
			for _, m := range res.Limits {
				got = append(got, strings.TrimSpace(m.What+" "+m.Shown()))
			}
			if strings.Join(got, ", ") != c.want || !strings.Contains(res.Steps[0].Why, c.why) || (c.why == "") != (res.Steps[0].Why == "") {
				t.Errorf("%s:\n%q\n%s\nwant %s, %s", c.body, got, res.Steps[0].Why, c.want, c.why)
			}
		})
	}
}
