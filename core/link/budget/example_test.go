package budget_test

import (
	"fmt"
	"time"

	"uparrot/core/link/budget"
	"uparrot/core/uart"
)

// What a frame of 24 bytes costs at 9600 8N1 and 2400 bits a second in the air, and what sets the interval.
func Example() {
	line := uart.DefaultLine
	line.Speed = 9600
	costs, err := budget.Budget{Line: line, Payload: 24, Command: 12, Arrival: 20, AirRate: 2400, Preamble: 40 * time.Millisecond}.Costs()
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(costs.SendWire, costs.Air, costs.Latency.Round(time.Millisecond), costs.Bottleneck)
	// Output: 37.5ms 120ms 203ms the air
}
