package perform

import (
	"context"
	"io"
	"strings"
	"testing"
	"testing/synctest"
)

// A value from elsewhere says no second line, by whatever way it comes to be said; bytes that the procedure makes
// itself, and say bytes, are free.
func TestSecondLine(t *testing.T) {
	const bad = "tower\rnode=9"
	for _, c := range []struct{ body, value, told, why string }{
		{"say a: name={name}", "tower", "name=tower", ""},
		{"say a: name={name}", bad, "", `name, an input, holds a line end (CR): character 6 of "tower\rnode=9"`},
		{"say a: name={name}", "tower\nnode=9", "", "holds a line end (LF): character 6"},
		{"say a: name={name}", "tower\x1b[A", "", "holds a control byte (1B)"},
		{"say a: name={name}", "Türe\t", "", "a control byte (09): character 5"},
		{"say a: name={upper(name)}", bad, "", "name, an input, holds a line end"},
		{"say a: name={split(name, char(13))[0]}", bad, "name=tower", ""},
		{"let x = name + \"!\" / say a: {x}", bad, "", "x, an input, holds a line end"},
		{"for x in [name] / say a: {x} / end", bad, "", "x, an input"},
		{"do put(a, name)", bad, "", "n, an input"},
		{"say a: {code}", "tower", "", "code, a secret, holds a line end (CR): character 5."},
		{"ask operator \"?\" as word: text / say a: {word}", "tower", "", "word, answered, holds a line end (CR)"},
		{"say a: list / collect all from a until: end / say a: {all}", "tower", "list", "all, collected, holds a line end (LF)"},
		{"say a: x / hear bytes a: <{v:bytes(5)}> / say a: {v}", "tower", "x", "v, heard, holds a line end (CR): character 3"},
		{"let x = \"a\" + char(13) + \"b\" / say a: {x}", "tower", "a|b", ""},
		{"say a: a{cr}b", "tower", "a|b", ""},
		{"say a: {name}{char(13)}b", "tower", "tower|b", ""},
		{"say bytes a: {name}{cr}", bad, "tower|node=9", ""},
		{"let x = name / let x = \"clean\" / say a: {x}", bad, "clean", ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			text := "procedure \"T\"\nport a: dialect lines, ending cr\ninput name: text\nsecret code\nroutine put(p, n)\nsay p: {n}\nend\nstep \"s\"\n" + strings.ReplaceAll(c.body, " / ", "\n") + "\npause 100ms\nend\n"
			var told []string
			run := played(t, text, "", func(_ io.Writer, line string) string {
				told = append(told, line)
				return map[string]string{"list": "one\r\ntwo\r\nend\r\n", "x": "<ab\rcd>"}[line]
			})
			run.Values["name"], run.Values["code"] = c.value, "gr4n\rite"
			run.Operator = sayer("up\rdown")
			res := run.Do(t.Context())
			synctest.Wait()
			if got := strings.Join(told, "|"); got != c.told || !strings.Contains(res.Steps[0].Why, c.why) || (c.why == "") != (res.Steps[0].Why == "") || strings.Contains(res.Steps[0].Why, "gr4n") {
				t.Errorf("%s: told %q, %s, want %q, %s", c.body, got, res.Steps[0].Why, c.told, c.why)
			}
		})
	}
}

// sayer answers with itself.
type sayer string

func (sayer) Tell(context.Context, string) error            { return nil }
func (sayer) Confirm(context.Context, string) (bool, error) { return true, nil }
func (s sayer) Value(_ context.Context, _ string, check func(string) error) (string, error) {
	return string(s), check(string(s))
}
