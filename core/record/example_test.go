package record_test

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// What happens is told once, to the record and to whoever watches; a value that is
// hidden stands in neither.
func Example() {
	var file bytes.Buffer
	w := record.New(&file, record.Origin{})
	events := record.NewStream(w, func(e record.Event) {
		if e.Kind == record.Verdict {
			fmt.Println("on the screen:", e.Verdict)
		}
	})
	events.Hide("snowline")
	events.Bytes(time.Now(), record.Out, "tower", []byte("login snowline\r"))
	events.Emit(record.Event{Kind: record.Verdict, Verdict: verdict.Passed})
	if err := w.Close(); err != nil {
		fmt.Println(err)
	}

	state, err := record.Read(strings.NewReader(file.String()), func(e record.Event) error {
		if e.Kind == record.Out {
			fmt.Printf("in the record: %q\n", e.Text)
		}
		return nil
	})
	fmt.Println(state.Whole(), err)
	// Output:
	// on the screen: passed
	// in the record: "login [secret]\r"
	// true <nil>
}
