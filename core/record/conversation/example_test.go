package conversation_test

import (
	"bytes"
	"fmt"
	"time"

	"uparrot/core/record"
	"uparrot/core/record/conversation"
	"uparrot/core/uart"
)

// What was said at a port, and what came after it.
func Example() {
	var kept bytes.Buffer
	at := time.Unix(0, 0)
	w := record.New(&kept, record.Origin{})
	w.Event(record.Event{Time: at, Kind: record.Open, Port: "valley", Value: record.Opened{Speed: 9600, Frame: uart.DefaultLine.Frame}})
	w.Bytes(at, record.Out, "valley", []byte("AT~NODE?\r"))
	w.Bytes(at.Add(20*time.Millisecond), record.In, "valley", []byte("~NODE: 3\r\nOK\r\n"))
	if err := w.Close(); err != nil {
		fmt.Println(err)
		return
	}
	talks, _, err := conversation.Read(&kept)
	if err != nil {
		fmt.Println(err)
		return
	}
	turn := talks[0].Turns[0]
	fmt.Printf("%s: %s, after %v %q\n", talks[0].Name, turn.Text(), turn.Heard[0].After, turn.Heard[0].Bytes)
	// Output: valley: AT~NODE?, after 20ms "~NODE: 3\r\nOK\r\n"
}
