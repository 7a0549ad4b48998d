package cli

import (
	"bytes"
	"testing"
	"time"

	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// Where nothing can be drawn anew, a long wait is told after ten seconds and then
// every half minute.
func TestSignsOfLife(t *testing.T) {
	var out bytes.Buffer
	a := &account{app: &app{err: newScreen(&out)}}
	for s := 1; s <= 95; s++ {
		silence := time.Duration(-1)
		if s > 20 {
			silence = 12 * time.Second
		}
		a.waiting(record.Event{Port: "radio", Text: "DUNLIN UP ...", Live: perform.Wait{Took: time.Duration(s) * time.Second, Within: 30 * time.Minute, Silence: silence}})
	}
	want := "   waiting for DUNLIN UP ... at radio: 10.0 s of at most 30m0s, no byte yet\n" +
		"   waiting for DUNLIN UP ... at radio: 30.0 s of at most 30m0s, last byte 12.0 s ago\n" +
		"   waiting for DUNLIN UP ... at radio: 1m0s of at most 30m0s, last byte 12.0 s ago\n" +
		"   waiting for DUNLIN UP ... at radio: 1m30s of at most 30m0s, last byte 12.0 s ago\n"
	if out.String() != want {
		t.Errorf("got\n%swant\n%s", out.String(), want)
	}
}

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
	a := &app{out: &out, err: newScreen(&bytes.Buffer{})}
	if err := a.printPlan(t.Context(), proc, map[string]any{"n": 5}, map[string]bool{"one": true}); err != nil {
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
