package account

import (
	"bytes"
	"testing"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/perform"
	"uparrot/core/record"
)

// Where nothing can be drawn anew, a long wait is told after ten seconds and then
// every half minute.
func TestSignsOfLife(t *testing.T) {
	var out bytes.Buffer
	a := &Run{Streams: &shell.Streams{Err: shell.NewScreen(&out)}}
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
