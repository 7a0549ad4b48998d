package pattern_test

import (
	"fmt"

	"uparrot/core/pattern"
)

func Example() {
	p, err := pattern.Compile("~SUPPLY: {volts:num} V, {state:word}")
	if err != nil {
		fmt.Println(err)
		return
	}
	caps, ok := p.Match([]byte("~SUPPLY: 3.28 V, good"))
	fmt.Println(ok)
	for _, c := range caps {
		fmt.Printf("%s = %v\n", c.Name, c.Value)
	}
	_, ok = p.Match([]byte("~SUPPLY: low"))
	fmt.Println(ok)
	// Output:
	// true
	// volts = 3.28
	// state = good
	// false
}
