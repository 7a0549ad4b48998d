package procedure

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"uparrot/core/source"
)

// Words from elsewhere get their own here, with the person's own line; known words stand by use.
func TestElsewhere(t *testing.T) {
	for line, want := range map[string]string{
		"    wait 5s":         "Here it is called pause: pause 5s",
		"    sleep 500ms":     "pause 500ms",
		"    send radio: AT":  "Here it is called say: say radio: AT",
		"    write radio: AT": "say radio: AT",
		"    read radio: OK":  "Here it is called hear: hear radio: OK",
		"    match radio: OK": "hear radio: OK",
		"    assert 1 == 1":   "Here it is called check: check 1 == 1",
		"    VERIFY 1 == 1":   "check 1 == 1",
		"    while 3 times":   "repeat 3 times",
		"    elif 1 == 1":     "else if 1 == 1",
		"    sya radio: AT":   `Did you mean "say"?`,
		"    zzzzzzzz":        "Known here: say, hear, check, limit, note, pause",
		"title \"x\"":         "Here it is called procedure: procedure \"x\"",
		"import \"x\"":        "include \"x\"",
		"function f()":        "routine f()",
		"send radio: AT":      "Here it is called say, and belongs between step and end.",
		"qqqqqqqqqqqq":        "Known here: procedure, step, port, input",
	} {
		text := "procedure \"X\"\nport radio\n"
		if strings.HasPrefix(line, " ") {
			text += "step \"s\"\n" + line + "\nend\n"
		} else {
			text += line + "\n"
		}
		_, err := Parse("x.parrot", text)
		mistakes, _ := errors.AsType[source.Mistakes](err)
		if len(mistakes) == 0 || !strings.Contains(mistakes[0].Mend, want) {
			t.Errorf("%s: %v, wanted %q", line, err, want)
		}
	}
	for _, w := range slices.Concat(header, inBlock) {
		if other, whole := called(w.Name); other != nil {
			t.Errorf("%s is a word here, and another name of %s", w.Name, whole)
		}
		for _, name := range w.called {
			if other, _ := called(name); other.Name != w.Name {
				t.Errorf("%s is another name of %s and of %s", name, w.Name, other.Name)
			}
		}
	}
}

// What the library of expressions says does not reach a person as it is.
func TestExpressionWords(t *testing.T) {
	for expression, want := range map[string]string{
		"now ==":      "it ends too early",
		"(now":        "it ends too early",
		"now now":     "now stands behind a value, with nothing between them",
		"now 3":       "3 stands behind a value",
		"now = 3":     "a single = compares nothing",
		"now > > 3":   "> stands where a value belongs",
		"\"abc":       "a text has no end",
		"now + \"a\"": "+ does not go between a number and a text",
		"now == 3)":   "the bracket ) has no other half here",
		"@":           "@ means nothing in an expression",
		"len()":       "len(...) wants more than is given to it",
		"now.x":       "a number has no part x",
		"now[0]":      "a number has no parts to be taken out",
	} {
		_, err := Parse("x.parrot", "procedure \"X\"\nport radio\nstep \"s\"\n    say radio: AT\n    hear radio: {now:int}\n    check "+expression+"\nend\n")
		if err == nil || !strings.Contains(err.Error(), "the expression cannot be used: "+want) {
			t.Errorf("%s: %v\nwanted %q", expression, err, want)
		}
		if err != nil && (strings.Contains(err.Error(), "token") || strings.Contains(err.Error(), "EOF")) {
			t.Errorf("%s: %v", expression, err)
		}
	}
}
