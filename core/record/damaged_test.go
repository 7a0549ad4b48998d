package record

import (
	"bytes"
	"strings"
	"testing"
)

// What is damaged is told with its line, in no words of a library.
func TestDamagedWords(t *testing.T) {
	var buf bytes.Buffer
	w := New(&buf, Origin{Tool: "test", Run: "0123456789abcdef"})
	w.Event(Event{Kind: Note, Text: "hut"})
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(buf.String(), "\n")
	for line, want := range map[string]string{
		`{"t":"2026","kind":"note"}`:                                  "line 2 is no event: its time is none",
		`{"t":"2026-12-01T00:00:00Z","kind":"note","port":5}`:         "line 2 is no event: port cannot be a number",
		`{"t":"2026-12-01T00:00:00Z","kind":"note","took_ms":"long"}`: "line 2 is no event: took_ms cannot be a string",
		`{"t":"2026-12-01T00:00:00Z","kind":`:                         "line 2 is no event: it was cut or changed",
	} {
		state, err := Read(strings.NewReader(lines[0]+line+"\n"+strings.Join(lines[2:], "")), func(Event) error { return nil })
		told := state.Altered
		if err != nil {
			told += err.Error()
		}
		if !strings.Contains(told, want) || strings.Contains(told, "json:") || strings.Contains(told, "parsing") {
			t.Errorf("%s: %q, want %q", line, told, want)
		}
	}
}
