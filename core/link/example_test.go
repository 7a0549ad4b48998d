package link_test

import (
	"context"
	"fmt"
	"io"
	"time"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/port"
	"uparrot/core/uart"
)

// Twenty frames from one port to another, over a wire that carries each byte.
func Example() {
	near, nearWire := port.Pipe("valley", uart.DefaultLine)
	far, farWire := port.Pipe("summit", uart.DefaultLine)
	go io.Copy(farWire, nearWire) //nolint:errcheck // it ends with the ports
	go io.Copy(nearWire, farWire) //nolint:errcheck // the same
	end := func(p port.Port) *bench.Station {
		return &bench.Station{Name: p.Name(), Dial: func() (port.Port, error) { return p, nil }}
	}
	t := &link.Test{A: end(near), B: end(far), Plan: link.Plan{Count: 20, Every: time.Millisecond, Deadline: time.Second}}
	sum, err := t.Do(context.Background())
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, d := range sum.Directions {
		fmt.Printf("%s to %s: %d sent, %d received, %d lost\n", d.From, d.To, d.Sent, d.Received, d.Lost)
	}
	// Output: valley to summit: 20 sent, 20 received, 0 lost
}
