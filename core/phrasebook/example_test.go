package phrasebook_test

import (
	"fmt"

	"uparrot/core/phrasebook"
)

// What one module family understands.
func Example() {
	pb, err := phrasebook.Parse("dunlin.toml", `family = "Dunlin"
dialect = "at"
[[setting]]
name = "channel"
type = "int"
range = [0, 79]
read = "AT~CHANNEL?"
answer = "~CHANNEL: {value:int}"
write = "AT~CHANNEL={value}"
`)
	if err != nil {
		fmt.Println(err)
		return
	}
	s := pb.Settings[0]
	fmt.Println(pb.Family, s.Name, s.Range, s.Read)
	// Output:
	// Dunlin channel [0 79] AT~CHANNEL?
}
