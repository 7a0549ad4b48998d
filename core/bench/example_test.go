package bench_test

import (
	"fmt"
	"os"

	"uparrot/core/bench"
)

// Which ports there are, with what is known of each.
func Example() {
	b, err := bench.Parse("bench.toml", `[port.valley]
at = "/dev/ttyUSB0"
speed = 9600
`, nil, os.ReadFile)
	if err != nil {
		fmt.Println(err)
		return
	}
	valley, ok := b.Port("valley")
	fmt.Println(b.Names(), ok, valley.Setup.Line())
	// Output:
	// [valley] true 9600 8N1
}
