package rehearse_test

import (
	"context"
	"fmt"

	"uparrot/core/bench"
	"uparrot/core/procedure"
	"uparrot/core/rehearse"
	"uparrot/core/uart"
)

// A good board is accepted, and every bad one caught that this procedure can tell from it.
func Example() {
	file, err := procedure.Parse("hasty.parrot", "procedure \"Hasty\"\nport gates: dialect lines, ending lf\nstep \"it answers\"\n    say: who\n    hear: redshank board 7\nend\n")
	if err != nil {
		fmt.Println(err)
		return
	}
	line := uart.DefaultLine
	play := &rehearse.Play{
		File:     file,
		Stations: map[string]*bench.Station{"gates": {Name: "gates", Setup: file.Ports[0].Setup}},
		Modules:  map[string]bench.Standin{"gates": {Name: "gates", Family: "redshank", Line: line, Settings: map[string]string{"board": "7"}}},
		Seed:     1,
	}
	r, err := play.Rehearse(context.Background(), 0)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Count(rehearse.Missed) == 0, r.Alarms())
	// Output:
	// true 0
}
