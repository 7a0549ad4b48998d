package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// A kept file takes a name that is free, and is never written over.
func TestKeepFile(t *testing.T) {
	dir := t.TempDir()
	var names []string
	for _, text := range []string{"one", "two", "three"} {
		path, err := keepFile(dir, "boot.log", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(path)
		if err != nil || string(got) != text {
			t.Errorf("%s: %q, %v", path, got, err)
		}
		names = append(names, filepath.Base(path))
	}
	if got := strings.Join(names, " "); got != "boot.log boot-2.log boot-3.log" {
		t.Error(got)
	}
	if _, err := keepFile(filepath.Join(dir, "none"), "x", nil); err == nil {
		t.Error("wrote into a folder that is not there")
	}
	for name, want := range map[string]string{"../../etc/x": "_.._etc_x", "a b\x1b[2J.log": "a_b__2J.log", "": "kept", "...": "kept", "tower-3.log": "tower-3.log", strings.Repeat("x", 300): strings.Repeat("x", 120)} {
		if got := perform.FileName(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}

// What is to be repeated is what did not pass last, and what is not in the record.
func TestNotPassed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "r")
	w, err := record.Create(path, record.Origin{Tool: "test"})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range [][2]string{{"a", ""}, {"a", "failed"}, {"a", "passed"}, {"b", "failed"}, {"c", "untested"}, {"d", "passed"}, {"e", "skipped"}, {"f", "broken"}} {
		w.Event(record.Event{Kind: record.Step, Step: e[0], Verdict: e[1]})
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	got, err := notPassed(path, strings.Split("abcdefg", ""))
	if err != nil || fmt.Sprint(got) != "map[b:true c:true f:true g:true]" {
		t.Errorf("%v, %v", got, err)
	}
	if _, err := notPassed(path, []string{"a", "d"}); err == nil || !strings.Contains(err.Error(), "every step has passed") {
		t.Errorf("%v", err)
	}
	if _, err := notPassed(path+"x", nil); err == nil {
		t.Error("took a record that is not there")
	}
}

// Where nothing can be drawn anew, a long wait is told after ten seconds and then
// every half minute.
func TestSignsOfLife(t *testing.T) {
	var out bytes.Buffer
	a := &app{err: newScreen(&out)}
	for s := 1; s <= 95; s++ {
		silence := time.Duration(-1)
		if s > 20 {
			silence = 12 * time.Second
		}
		a.waiting(perform.Event{Port: "radio", Text: "DUNLIN UP ...", Took: time.Duration(s) * time.Second, Within: 30 * time.Minute, Silence: silence})
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
	if err := a.plan(proc, map[string]any{"n": 5}, map[string]bool{"one": true}); err != nil {
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
