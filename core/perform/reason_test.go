package perform

import (
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/verdict"
)

// Why a step has failed says what was wanted and what came, with the values of both, and a long text is cut in
// the middle. A limit that is broken ends its step only without keep going, and passes in no way.
func TestReasons(t *testing.T) {
	long := strings.Repeat("cabin ", 30)
	for _, c := range []struct{ head, body, answer, why, reason, limits string }{
		{"", "say a: id / hear a within 1s: $ID: {=105}", "$ID: 0\r\n", "line 7: a: wanted $ID: 105, heard $ID: 0 within 1s", "wanted $ID: 105, heard $ID: 0 within 1s", ""},
		{"", "say a: id / hear a within 1s: $ID: {n:int} {=len(\"abc\")}", "other\r\n$ID: 5 4\r\nmore\r\n", "", "wanted $ID: {n:int} 3, heard $ID: 5 4 within 1s", ""},
		{"", "say a: id / hear next a: up", "down\r\n", "", "wanted up next, heard down", ""},
		{"", "say a: id / hear a within 1s: up", "", "", "wanted up, heard nothing within 1s", ""},
		{"", "say a: id / hear a within 1s: up", "id\r\n", "", "wanted up, heard only the echo within 1s", ""},
		{"", "say a: id / hear a within 1s: {=code}", "no\r\n", "", "wanted [secret], heard no within 1s", ""},
		{"", "say a: id / hear a within 1s: " + long + "x", long + "y\r\n", "", "wanted ... cabin cabin cabin x, heard ... cabin cabin cabin y within 1s", ""},
		{"", "let n = 4 / check n == 5", "", "line 7: check n == 5 is false: n is 4", "check n == 5 is false: n is 4", ""},
		{"", "let t = repeat(\"abc \", 40) / check t == repeat(\"abc \", 20) + \"abC \" + repeat(\"abc \", 19)", "", "", `is false: wanted "c abc abc abC abc abc abc abc abc ab" (from character 83 on), is "c abc abc abc abc abc abc abc abc ab"`, ""},
		{"", "limit 3 in 5..6 V \"supply\" / note 4 \"after\"", "", "", "supply is 3 V, wanted 5..6 V", "supply"},
		{"keep going", "limit 3 in 5..6 V \"supply\" / note 4 \"after\"", "", "line 6: supply is 3 V, wanted 5..6 V", "supply is 3 V, wanted 5..6 V", "supply after"},
		{"keep going", "limit 3 in 5..6 V \"supply\" / limit 5 in 5..6 V \"good\" / limit 7 in 5..6 V \"air\"", "", "", "supply is 3 V, wanted 5..6 V; air is 7 V, wanted 5..6 V", "supply good air"},
		{"keep going", "limit 3 in 5..6 V \"supply\" / skip \"no more\"", "", "", "supply is 3 V, wanted 5..6 V", "supply"},
		{"keep going", "limit 3 in 5..6 V \"supply\" / untested \"no more\"", "", "", "supply is 3 V, wanted 5..6 V", "supply"},
		{"keep going", "limit 3 in 5..6 V \"supply\" / check 1 == 2", "", "", "supply is 3 V, wanted 5..6 V; then line 7: check 1 == 2 is false", "supply"},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nsecret code\n"+c.head+"\nstep \"s\"\n"+strings.ReplaceAll(c.body, " / ", "\n")+"\nend\n", map[string]any{"code": "gr4nite"})
			s.answers("a", func(string) string { return c.answer })
			res := s.Do(t.Context())
			s.module["a"].Close()
			time.Sleep(time.Minute)
			var limits []string
			for _, m := range res.Limits {
				limits = append(limits, m.What)
			}
			st := res.Steps[0]
			if res.Verdict != verdict.Failed || !strings.Contains(st.Why, c.why) || !strings.Contains(Reason(st.Err), c.reason) || strings.Join(limits, " ") != c.limits {
				t.Errorf("%s:\n%s: %s\n%s, %v\nwant %s, %s, %s", c.body, res.Verdict, st.Why, Reason(st.Err), limits, c.why, c.reason, c.limits)
			}
		})
	}
	if got := Reason(errors.New("plain")); got != "plain" {
		t.Error(got)
	}
}
