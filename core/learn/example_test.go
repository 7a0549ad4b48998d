package learn_test

import (
	"fmt"

	"uparrot/core/learn"
)

// How the lines of another program's log are made: which were said, and which were heard.
func Example() {
	c, err := learn.ParseColumns("{time:word} {way:word} {text}", "TX", "RX")
	fmt.Printf("%T %v\n", c, err)
	_, err = learn.ParseColumns("{time:word} {text}", "TX", "RX")
	fmt.Println(err)
	// Output:
	// learn.Columns <nil>
	// the columns do not say where way stands. Capture it, such as {time:word} {way:word} {text}; way tells what was said from what was heard.
}
