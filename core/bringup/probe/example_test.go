package probe_test

import (
	"context"
	"fmt"

	"uparrot/core/bench"
	"uparrot/core/bringup/probe"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/uart"
)

// A radio whose speed nobody knows is found.
func Example() {
	radio := bench.Standin{Name: "valley", Family: "dunlin", Line: uart.Line{Speed: 38400, Frame: uart.DefaultLine.Frame}}
	b, err := sim.New(sim.Config{Modules: []bench.Standin{radio}, Families: families.All})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer b.Close()
	host, module := port.Pipe("valley", uart.DefaultLine)
	defer host.Close()
	if _, err := b.Attach("valley", module); err != nil {
		fmt.Println(err)
		return
	}
	p := probe.Probe{Port: host, Speeds: []int{9600, 38400}}
	found, err := p.Run(context.Background())
	fmt.Println(found.Kind, found.Speed, found.Frame, found.Dialect == phrasebook.AT, err)
	// Output: found 38400 8N1 true <nil>
}
