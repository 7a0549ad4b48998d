package prbs_test

import (
	"fmt"

	"uparrot/core/prbs"
)

// The first bits of PRBS9, as ITU-T O.150 has it.
func Example() {
	s, err := prbs.New(9)
	if err != nil {
		fmt.Println(err)
		return
	}
	bits := make([]byte, 2)
	s.Fill(bits)
	fmt.Printf("%08b\n", bits)
	// Output:
	// [11111111 11000001]
}
