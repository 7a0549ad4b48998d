package run

import (
	"bytes"
	"testing"

	"uparrot/cli/shell"
	"uparrot/core/procedure"
)

// The plan shows what would be said with the values that are known, blocks and
// routines too.
func TestPlan(t *testing.T) {
	proc, err := procedure.Parse("p.parrot", `procedure "P"
port radio: dialect at
input n: int = 4
let twice = n * 2
routine greet(word)
    say radio: {word} {twice}
end
step "one"
    hear radio: {now:int}
    say radio: A={twice},{now},{{x}}
    if now > 1
        say bytes radio: {hex 41}{cr}
    else
        do greet("hi")
    end
end
step "two"
    say radio: B
end
`)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	a := &shell.Streams{Out: &out, Err: shell.NewScreen(&bytes.Buffer{})}
	if err := printPlan(a, t.Context(), proc, map[string]any{"n": 5}, map[string]bool{"one": true}); err != nil {
		t.Fatal(err)
	}
	want := `P
  port radio: at, 115200 8N1, crlf

1  one
    hear radio: {now:int}
    say radio: A=10,{now},{x}
    if now > 1
        say bytes radio: A\r
    else
        do greet("hi")
            say radio: {word} 10

2  two  (left out)
`
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
}
