package text_test

import (
	"fmt"

	"uparrot/core/text"
)

// Line ends in a stream that comes in pieces: CR LF is one, also where a piece ends
// between the two.
func ExampleEnds() {
	var ends text.Ends
	lines := 0
	for _, piece := range []string{"OK\r", "\nready\n"} {
		for _, c := range []byte(piece) {
			if ends.Take(c) == text.End {
				lines++
			}
		}
	}
	fmt.Println(lines)
	// Output: 2
}

// What a module sends cannot steer a screen.
func ExampleLine() {
	fmt.Println(text.Line("\x1b[2Jready\a"))
	fmt.Printf("%s\n", text.Plain([]byte("\x1b[32mready\x1b[0m")))
	// Output:
	// \x1b[2Jready\x07
	// ready
}
