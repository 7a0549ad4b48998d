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

// Measurements of one name in different steps are warned of, also where a routine makes them.
func TestNamesakes(t *testing.T) {
	for _, c := range []struct {
		a, b   string
		warned bool
	}{
		{`limit 1 in 0..2 V "supply"`, `limit 1 in 0..2 V "supply"`, true},
		{`limit 1 in 0..2 V "supply"`, `note 1 in C "supply"`, true},
		{`do measure(1)`, `do measure(2)`, true},
		{"do measure(1)\n do measure(2)", `say: x`, false},
		{`limit 1 in 0..2 V "supply"`, `limit 1 in 0..2 V "air"`, false},
		{`limit 1 in 0..2 V "{x} supply"`, `limit 1 in 0..2 V "{x} supply"`, false},
		{"limit 1 in 0..2 V \"supply\"\n limit 1 in 0..2 V \"supply\"", `say: x`, false},
		{"if 1 == 1\n limit x in 0..2\n end", "repeat 2 times\n limit x in 0..2\n end", true},
		{"identity \"a\"", "identity \"a\"", false},
	} {
		f, err := Parse("t.parrot", "procedure \"T\"\nport dev\nlet x = 1\nroutine measure(v)\n limit v in 0..9 V \"value\"\nend\nstep \"one\"\n "+c.a+"\nend\nstep \"two\"\n "+c.b+"\n say: {x}\nend\n")
		if err != nil {
			t.Fatal(c.a, err)
		}
		told := ""
		if f.Warnings != nil {
			told = f.Warnings.Error()
		}
		if warned := strings.Contains(told, `is measured in step "one" too`); warned != c.warned {
			t.Errorf("%s, %s: %s", c.a, c.b, told)
		}
	}
}
