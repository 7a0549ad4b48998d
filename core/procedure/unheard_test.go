package procedure

import (
	"strings"
	"testing"
)

// Two said lines without a hear between are warned of where nothing tells the end of an answer.
func TestUnheard(t *testing.T) {
	const lines, at = "dialect lines", "dialect at"
	for _, c := range []struct {
		port, body string
		warned     bool
	}{
		{lines, "say: a\n say: b", true},
		{lines, "say: a\n let x = 1\n check x == 1\n say: b", true},
		{lines, "repeat 2 times\n  say: a\n  say: b\n end", true},
		{lines, "say: a\n hear: ok\n say: b", false},
		{lines, "say: a\n pause 1s\n say: b", false},
		{lines, "say without answer: a\n say: b", false},
		{lines, "say: a\n say without answer: b", false},
		{lines, "say: \n say: b", false},
		{lines, "say: a\n say bytes: b", false},
		{lines + ", final \"ok\"", "say: a\n say: b", false},
		{lines + ", prompt \">\"", "say: a\n say: b", false},
		{at, "say: a\n say: b", false},
		{"speed 9600", "say: a\n say: b", false}, // the bench may say more
	} {
		f, err := Parse("t.parrot", "procedure \"T\"\nport dev: "+c.port+"\nstep \"s\"\n "+c.body+"\nend\n")
		if err != nil {
			t.Fatal(c.body, err)
		}
		if warned := strings.Contains(f.Warnings.Error(), "two lines are said to dev without a hear between"); warned != c.warned {
			t.Errorf("%s: %s: %v", c.port, c.body, f.Warnings)
		}
	}
}
