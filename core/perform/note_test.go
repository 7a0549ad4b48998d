package perform

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/synctest"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// A note keeps a number or a text, with its unit and what it is; what it cannot keep fails
// the step, and a secret is told nowhere.
func TestNotes(t *testing.T) {
	const long = "repeat(\"x\", 1001)"
	for _, c := range []struct{ body, want, why string }{
		{"note 24.5 in V \"supply\"", "supply = 24.5 V", ""},
		{"note 3 + 4", "3 + 4 = 7", ""},
		{"note \"LK-\" + \"41\" \"serial number\"", "serial number = LK-41", ""},
		{"note 5 in [1, 5]", "5 in [1, 5] = true", ""},
		{"note (5 in [1, 5]) \"one of them\"", "one of them = true", ""},
		{"let volts = 3.3\nnote volts in V", "volts = 3.3 V", ""},
		{"note 1.0/0.0 \"x\"", "x = +Inf", ""},
		{"note 0.0/0.0 \"x\"", "", "0.0/0.0 is no number (NaN), so it is no measurement"},
		{"note [1, 2]", "", "neither a number nor a text"},
		{"note " + long, "", "the text has 1001 bytes"},
		{"note code", "", "made of a secret"},
		{"note len(code)", "", "made of a secret"},
		{"identity \" LK-7 \"", "identity = LK-7", ""},
		{"identity 41", "identity = 41", ""},
		{"identity \" \"", "", "it names no unit"},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines\nsecret code\nstep \"s\"\n"+c.body+"\nend\n", map[string]any{"code": "gr4nite"})
			res := s.Do(t.Context())
			s.module["a"].Close()
			var got []string
			for _, m := range res.Limits {
				if m.Judged() {
					t.Errorf("%s: %+v", c.body, m)
				}
				got = append(got, m.What+" = "+m.Shown())
			}
			if strings.Join(got, "; ") != c.want || !strings.Contains(res.Steps[0].Why, c.why) || (res.Verdict == verdict.Passed) != (c.why == "") {
				t.Errorf("%s: %q, %s, %s", c.body, got, res.Verdict, res.Steps[0].Why)
			}
			if strings.Contains(s.record.String(), "gr4nite") {
				t.Errorf("%s: the record tells a secret", c.body)
			}
		})
	}
}

// A module that says that it is another than the one named leaves that one untested; one that has passed
// today is asked about, and where nobody is there that is told.
func TestIdentity(t *testing.T) {
	before := func(context.Context, string) (string, error) { return "at 10:02:00", nil }
	for name, c := range map[string]struct {
		adjust func(*Run)
		want   verdict.Verdict
		unit   string
		told   string
	}{
		"named by itself":    {func(*Run) {}, verdict.Passed, "LK-7", ""},
		"named so before":    {func(r *Run) { r.Unit = "LK-7" }, verdict.Passed, "LK-7", ""},
		"another is meant":   {func(r *Run) { r.Unit = "LK-8" }, verdict.Untested, "", "the module says that it is LK-7, and the run is of unit LK-8"},
		"passed, nobody":     {func(r *Run) { r.Passed = before }, verdict.Passed, "LK-7", "has passed this before today, at 10:02:00"},
		"passed, always yes": {func(r *Run) { r.Passed, r.Operator = before, Agreeable{} }, verdict.Passed, "LK-7", "has passed this before today"},
		"passed, and again":  {func(r *Run) { r.Passed, r.Operator, r.Asks = before, Agreeable{}, true }, verdict.Passed, "LK-7", "has passed this before today"},
		"passed, by mistake": {func(r *Run) { r.Passed, r.Operator, r.Asks = before, naysayer{}, true }, verdict.Untested, "LK-7", "was not meant to be tested again"},
		"no ledger to ask": {func(r *Run) {
			r.Passed = func(context.Context, string) (string, error) { return "", errors.New("gone") }
		}, verdict.Passed, "LK-7", "is not known: gone"},
	} {
		res, _, rec := performWith(t, t.Context(), head+"step \"s\"\nidentity \"LK-7\"\nend\n", c.adjust)
		if res.Verdict != c.want || res.Unit != c.unit || !strings.Contains(rec, c.told) {
			t.Errorf("%s: %s, unit %q, %s", name, res.Verdict, res.Unit, rec)
		}
	}
}

// naysayer answers no.
type naysayer struct{ Agreeable }

func (naysayer) Confirm(context.Context, string) (bool, error) { return false, nil }

// To a module that is not the one that is meant nothing more is said: no step after that, and of those that
// are always performed only such as tell it nothing of the unit that is meant.
func TestOfAnother(t *testing.T) {
	for name, c := range map[string]struct {
		identity, always string
		adjust           func(*Run)
		told             string // what the module is told
		left             string // why the step that is always performed is left out
	}{
		"it is the one":        {"LK-7", "say a: node={node}", func(*Run) {}, "who|node=22|rest|node=22", ""},
		"another":              {"LK-8", "say a: bye", func(*Run) {}, "who|bye", ""},
		"an input":             {"LK-8", "say a: node={node}", func(*Run) {}, "who", "it says node of the unit that is meant, and the module says that it is LK-8"},
		"as bytes":             {"LK-8", "say bytes a: {char(node)}", func(*Run) {}, "who", "it says node"},
		"in an expression":     {"LK-8", "say a: node={node + 1}", func(*Run) {}, "who", "it says node"},
		"through a let":        {"LK-8", "let next = node + 1\nsay a: node={next}", func(*Run) {}, "who", "it says node"},
		"through a let before": {"LK-8", "say a: node={far}", func(*Run) {}, "who", "it says node"},
		"through a list":       {"LK-8", "for n in [node, 1]\nsay a: node={n}\nend", func(*Run) {}, "who", "it says node"},
		"through a routine":    {"LK-8", "do put(a, node)", func(*Run) {}, "who", "it says node"},
		"deep down":            {"LK-8", "if 1 == 1\nrepeat 1 times\nsay a: node={node}\nend\nend", func(*Run) {}, "who", "it says node"},
		"as a condition":       {"LK-8", "if node == 22\nsay a: bye\nend", func(*Run) {}, "who|bye", ""},
		"a secret":             {"LK-8", "say a: {code}", func(*Run) {}, "who|frost", ""},
		"a drawn secret":       {"LK-8", "say a: {code}", func(r *Run) { r.Drawn = []record.Drawn{{Name: "code"}} }, "who", "it says code"},
		"keep going":           {"LK-8", "say a: bye", func(r *Run) { r.Procedure.KeepGoing = true }, "who|bye", ""},
		"passed, by mistake": {"LK-7", "say a: node={node}", func(r *Run) {
			r.Passed = func(context.Context, string) (string, error) { return "at 10:02:00", nil }
			r.Operator, r.Asks = naysayer{}, true
		}, "who", "it says node of the unit that is meant, and LK-7 has passed before, and was not meant to be tested again"},
	} {
		synctest.Test(t, func(t *testing.T) {
			text := "procedure \"T\"\nport a: dialect lines, ending cr, final \"ok\"\ninput node: int\nsecret code\nlet far = node + 1\nroutine put(p, n)\nsay p: node={n}\nend\n" +
				"step \"who\" tries 3\nsay a: who\nhear a: board {id}\nidentity id\nsay a: node={node}\nend\nstep \"rest\"\nsay a: rest\nend\nstep \"back\" always\n" + c.always + "\nend\n"
			var told []string
			run := played(t, text, "", func(_ io.Writer, line string) string {
				told = append(told, line)
				return map[string]string{"who": "board " + c.identity + "\r\n"}[line] + "ok\r\n"
			})
			run.Values["node"], run.Unit = 22, "LK-7"
			c.adjust(run)
			res := run.Do(t.Context())
			synctest.Wait()
			want := map[bool]verdict.Verdict{true: verdict.Passed, false: verdict.Untested}[len(told) > 2 && told[1] != "bye"]
			if got := strings.Join(told, "|"); got != c.told || res.Verdict != want || res.Steps[1].Verdict != want || !strings.Contains(res.Steps[2].Why, c.left) || (c.left == "") != (res.Steps[2].Verdict == verdict.Passed) {
				t.Errorf("%s: told %s, %s, %+v", name, got, res.Verdict, res.Steps)
			}
		})
	}
}
