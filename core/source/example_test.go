package source_test

import (
	"fmt"

	"uparrot/core/source"
)

// A mistake tells where it is, what is wrong, and how to mend it.
func Example() {
	word := "channle"
	fmt.Print(source.Mistake{
		File: "valley.toml", Line: 3, Column: 1, Width: len(word), Text: word + " = 9",
		What: "there is no setting " + word, Mend: source.DidYouMean(word, []string{"address", "channel", "power"}),
	}.Long())
	// Output:
	// valley.toml:3:1: there is no setting channle
	//     channle = 9
	//     ^^^^^^^
	//     Did you mean "channel"?
}
