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
	for i, words := range []map[string]reader{headerWords, blockWords} {
		for w := range words {
			if !slices.Contains([][]string{inHeader, inBlocks}[i], w) {
				t.Errorf("%s has no place in the order of use", w)
			}
			if _, is := elsewhere[w]; is {
				t.Errorf("%s is a word here", w)
			}
		}
	}
}
