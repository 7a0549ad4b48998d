package sim_test

import (
	"bufio"
	"context"
	"fmt"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/uart"
)

// A simulated relay board answers at its wire.
func Example() {
	board := bench.Standin{Name: "gates", Family: "redshank", Line: uart.Line{Speed: 9600, Frame: uart.DefaultLine.Frame}, Settings: map[string]string{"board": "7"}}
	b, err := sim.New(sim.Config{Modules: []bench.Standin{board}, Families: families.All})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer b.Close()
	host, module := port.Pipe("gates", board.Line)
	defer host.Close()
	if _, err := b.Attach("gates", module); err != nil {
		fmt.Println(err)
		return
	}
	if _, err := host.Write(context.Background(), []byte("who\n")); err != nil {
		fmt.Println(err)
		return
	}
	for s := bufio.NewScanner(host); s.Scan(); {
		if s.Text() == "redshank board 7" { // status lines may come before
			fmt.Println(s.Text())
			return
		}
	}
	// Output: redshank board 7
}
