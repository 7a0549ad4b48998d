package perform

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/verdict"
)

// A table is judged row by row: a bad row stops nothing, all that are bad are told, and a
// table without a row has not passed.
func TestRows(t *testing.T) {
	const table = "cabin 1 load 240 kg\r\ncabin 2 load 999 kg\r\n-- spare --\r\ncabin 3 load 310 kg\r\ncabin 4 load 1200 kg\r\nend\r\n"
	const aligned = "  no  name             value\r\n   1  air temperature   12.5 C\r\n   2  air  humidity      -- C\r\n  10  rope             3.25 C\r\n      3 sensors\r\nend\r\n"
	const sensors = "rows a until: end\n row: {no:int} {name} {value:num} C\n "
	const rows = "rows a until: end\n row: cabin {place:int} load {load:num} kg\n "
	for _, c := range []struct{ body, came, want, why string }{
		{rows + "limit load in 0..1500 kg \"load\"\nend", table, "load 240 kg, load 999 kg, load 310 kg, load 1200 kg", ""},
		{rows + "check load < 500\nend", table, "", `2 of 4 rows: "cabin 2 load 999 kg": line 8: check load < 500 is false: load is 999; "cabin 4 load 1200 kg": line 8: check load < 500 is false: load is 1200`},
		{rows + "limit load in 0..500 kg \"load\"\n note place \"cabin\"\nend", table, "load 240 kg, cabin 1, load 999 kg, load 310 kg, cabin 3, load 1200 kg", "2 of 4 rows: "},
		{rows + "let double = 2 * load\n check double == load + load\nend", table, "", ""},
		{rows + "check load > 0\nend", "end\r\n", "", "of 1 lines none is a row like cabin {place:int} load {load:num} kg, nor begins as one"},
		{rows + "check load > 0\nend", "cabin 1 load 240 lb\r\ncab\r\nend\r\n", "", `the nearest is "cabin 1 load 240 lb", which parts at "lb"`},
		{rows + "check load > 0\nend", "cabin 1 load\r\nend\r\n", "", `the nearest is "cabin 1 load", which ends too early`},
		{sensors + "limit value in 0..20 C \"value\"\nend", aligned, "value 12.5 C, value 3.25 C", ""},
		{sensors + "limit value in 0..20 C \"value\"\n check no < 10\nend", aligned, "value 12.5 C, value 3.25 C", `1 of 2 rows: "10  rope             3.25 C": `},
		{rows + "check load > 0\nend", "cabin x load y kg\r\nend\r\n", "", "none is a row like"},
		{"rows a until within 1s: end\n row: cabin {place:int} load {load:num} kg\n check load > 0\nend", "cabin 1 load 240 kg\r\n", "", "line 6: "},
		{"rows a until quiet 500ms\n row: cabin {place:int} ...\n check place < 4\nend", table, "", `1 of 4 rows: "cabin 4 load 1200 kg"`},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, ending cr\nsecret code\nstep \"s\"\nsay a: x\n"+c.body+"\nend\n", map[string]any{"code": "gr4nite"})
			s.answers("a", func(string) string { return c.came })
			res := s.Do(t.Context())
			s.module["a"].Close()
			time.Sleep(time.Minute)
			var got []string
			for _, m := range res.Limits {
				got = append(got, m.What+" "+m.Shown())
			}
			if told := strings.Contains(s.record.String(), `looks like a row and is none: \"2  air  humidity      -- C\", which parts at \"`); told != (c.came == aligned) || strings.Contains(s.record.String(), "none: \\\"no") {
				t.Errorf("%s: %s", c.body, s.record.String())
			}
			if strings.Join(got, ", ") != c.want || !strings.Contains(res.Steps[0].Why, c.why) || (res.Verdict == verdict.Passed) != (c.why == "") {
				t.Errorf("%s:\n%q\n%s %s\nwant %s, %s", c.body, got, res.Verdict, res.Steps[0].Why, c.want, c.why)
			}
		})
	}
}
