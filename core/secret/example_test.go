package secret_test

import (
	"fmt"

	"uparrot/core/secret"
)

// A secret is hidden wherever it stands.
func Example() {
	var m secret.Mask
	m.Add("snowline")
	fmt.Println(m.Hide(`password=snowline, again "snowline"`))
	// Output:
	// password=[secret], again "[secret]"
}
