package toml_test

import (
	"fmt"

	"uparrot/core/source/toml"
)

// All mistakes of a file come together, each with its place and a mend.
func ExampleParse() {
	var radio struct {
		Name  string `toml:"name"`
		Speed int    `toml:"speed"`
	}
	doc := toml.Parse("valley.toml", "name = \"valley\"\nspede = 9600\nspeed = \"fast\"\n", &radio)
	fmt.Println(doc.Mistakes.Err())
	fmt.Println(radio.Name)
	// Output:
	// valley.toml:2:1: unknown key "spede"
	//     spede = 9600
	//     ^^^^^
	//     Did you mean "speed"?
	//
	// valley.toml:3:1: speed is a text in quotes
	//     speed = "fast"
	//     ^^^^^
	//     Wanted here: a whole number.
	// valley
}
