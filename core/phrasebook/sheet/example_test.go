package sheet_test

import (
	"fmt"

	"uparrot/core/phrasebook/sheet"
)

// What is otherwise in a newer phrasebook.
func Example() {
	for _, c := range sheet.Changes(map[string]any{"family": "Dunlin", "dialect": "at"}, map[string]any{"family": "Dunlin", "dialect": "lines"}) {
		fmt.Println(c.What, c.Before, c.After)
	}
	// Output: dialect "at" "lines"
}
