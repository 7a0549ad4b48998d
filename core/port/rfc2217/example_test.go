package rfc2217_test

import (
	"fmt"

	"uparrot/core/port/rfc2217"
	"uparrot/core/uart"
)

// The bytes that set a port's speed, as RFC 2217 has them.
func Example() {
	line := uart.DefaultLine
	line.Speed = 9600
	fmt.Printf("% x\n", rfc2217.Sub(rfc2217.SetBaudRate, rfc2217.Value(line, rfc2217.SetBaudRate)...))
	// Output: ff fa 2c 01 00 00 25 80 ff f0
}
