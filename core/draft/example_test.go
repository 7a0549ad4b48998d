package draft_test

import (
	"context"
	"fmt"

	"uparrot/core/draft"
)

// A guide's table becomes the entries of a phrasebook; what it does not tell is asked.
func Example() {
	entries, err := draft.Table(context.Background(), "| command | meaning |\n| --- | --- |\n| AT~NODE? | reads the address |\n", nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range entries {
		fmt.Printf("%+v\n", e)
	}
	// Output:
	// {Name: Meaning:reads the address Say:AT~NODE? Read: Write: Answer: Range: Default: Unit:}
}
