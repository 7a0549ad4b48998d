package manual_test

import (
	"fmt"

	"uparrot/core/manual"
	"uparrot/docs"
)

// What the pages tell of a word.
func Example() {
	found, err := manual.Find(docs.Files, []string{"language.md"}, "pause")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range found {
		fmt.Print(e.Show())
	}
	// Output:
	// pause T
	//       waits a fixed time
}
