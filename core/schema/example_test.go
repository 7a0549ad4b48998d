package schema_test

import (
	"fmt"

	"uparrot/core/schema"
)

// What may stand in a file comes of the struct that it is read into.
func Example() {
	type tower struct {
		Name  string  `toml:"name" about:"its name"`
		Metre float64 `toml:"metre" about:"how far it is from the valley"`
	}
	text, err := schema.FromStruct[tower]("a tower of the cableway").JSON("tower", false)
	fmt.Println(string(text), err)
	// Output:
	// {
	//   "$schema": "https://json-schema.org/draft/2020-12/schema",
	//   "additionalProperties": false,
	//   "description": "a tower of the cableway",
	//   "properties": {
	//     "metre": {
	//       "description": "how far it is from the valley",
	//       "type": "number"
	//     },
	//     "name": {
	//       "description": "its name",
	//       "type": "string"
	//     }
	//   },
	//   "title": "tower",
	//   "type": "object"
	// } <nil>
}
