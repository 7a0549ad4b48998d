package uart_test

import (
	"fmt"

	"uparrot/core/uart"
)

// What a receiver at another speed makes of what was sent.
func Example() {
	sent := uart.Line{Speed: 9600}
	frame, err := uart.ParseFrame("8N1")
	if err != nil {
		fmt.Println(err)
		return
	}
	sent.Frame = frame
	set := sent
	set.Speed = 19200
	heard, errors := uart.Hear(sent, set, []byte("AT"))
	fmt.Printf("% X, %d frame errors\n", heard, errors.Frame)
	// Output:
	// 06 06 66, 3 frame errors
}
