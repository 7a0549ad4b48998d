package conversation

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"uparrot/core/record"
)

var noon = time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)

// What was said is cut into turns however it went out and came back: line by line,
// key by key with its echo, or as bytes without a line end.
func TestRead(t *testing.T) {
	for name, c := range map[string]struct {
		pieces []string // > said, < heard
		want   string   // turns: what was said (echo) and what came
	}{
		"lines at once":           {[]string{">AT\r\nATI\r\n", "<OK\r\n"}, `"AT\r\n"() | "ATI\r\n"() "OK\r\n"`},
		"a line end in two":       {[]string{">AT\r", ">\n", "<OK\r\n"}, `"AT\r\n"() "OK\r\n"`},
		"key by key, echoed":      {[]string{">A", "<A", ">T", "<T", ">\r", "<\r\nOK\r\n"}, `"AT\r"(AT) "\r\nOK\r\n"`},
		"bytes, and their answer": {[]string{">\x01", "<\xa7\x00", ">\x02\x03", "<\xa7"}, `"\x01"() "\xa7\x00" | "\x02\x03"() "\xa7"`},
		"a prompt":                {[]string{">AT~PASS\r", "<> ", ">hi\x1a", "<OK\r\n"}, `"AT~PASS\r"() "> " | "hi\x1a"() "OK\r\n"`},
		"first of all":            {[]string{"<boot\r\n", ">\r", "<name: "}, `first "boot\r\n" | "\r"() "name: "`},
		"said, and no more":       {[]string{">AT"}, `"AT"()`},
	} {
		var buf bytes.Buffer
		w := record.New(&buf, record.Origin{Began: noon})
		w.Event(record.Event{Time: noon, Kind: record.Open, Port: "valley", Data: []byte(`{"speed":9600,"frame":"7E1"}`)})
		for i, p := range c.pieces {
			kind := map[byte]record.Kind{'>': record.Out, '<': record.In}[p[0]]
			w.Bytes(noon.Add(time.Duration(i+1)*time.Second), kind, "valley", []byte(p[1:]))
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		talks, state, err := Read(&buf)
		if err != nil || len(talks) != 1 || !state.Whole() || talks[0].Line.String() != "9600 7E1" {
			t.Fatalf("%s: %+v, %v", name, talks, err)
		}
		var got []string
		if first := talks[0].First; len(first) > 0 {
			got = append(got, fmt.Sprintf("first %q", first[0].Bytes))
		}
		for _, turn := range talks[0].Turns {
			text := fmt.Sprintf("%q(%s)", turn.Said, turn.Echo)
			for _, h := range turn.Heard {
				text += fmt.Sprintf(" %q", h.Bytes)
				if h.After != time.Second {
					t.Errorf("%s: %q came after %v", name, h.Bytes, h.After)
				}
			}
			got = append(got, text)
		}
		if got := strings.Join(got, " | "); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
}

// A conversation is kept in memory, so one that is too long is refused.
func TestTooLong(t *testing.T) {
	var buf bytes.Buffer
	w := record.New(&buf, record.Origin{})
	piece := bytes.Repeat([]byte("x"), 1<<20)
	for range most>>20 + 1 {
		w.Bytes(noon, record.In, "valley", piece)
	}
	if _, _, err := Read(&buf); err == nil || !strings.Contains(err.Error(), "more than 64 MiB") {
		t.Errorf("got %v", err)
	}
}
