package frame_test

import (
	"fmt"

	"uparrot/core/link/frame"
)

// A frame as text, and what is read of it again.
func Example() {
	text := frame.Frame{Way: 0, Run: 0x123456, Number: 7}.Append(nil, 24)
	f, err := frame.Decode(text)
	fmt.Println(len(text), f.Run == 0x123456, f.Number, err)
	text[20]++
	_, err = frame.Decode(text)
	fmt.Println(err)
	// Output:
	// 24 true 7 <nil>
	// this is no whole frame
}
