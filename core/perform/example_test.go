package perform_test

import (
	"bufio"
	"context"
	"fmt"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/uart"
)

// A procedure is performed at a port, and each step has its verdict.
func Example() {
	file, err := procedure.Parse("node.parrot", `procedure "Node"
port radio: dialect at, ending cr
keep going
step "the address is 17"
    say radio: AT~NODE?
    hear radio: ~NODE: 17
end
`)
	if err != nil {
		fmt.Println(err)
		return
	}
	host, module := port.Pipe("radio", uart.DefaultLine)
	go func() { // a module whose address is another
		said, err := bufio.NewReader(module).ReadString('\r')
		if err == nil {
			fmt.Fprintf(module, "%s\r\n~NODE: 18\r\nOK\r\n", said)
		}
	}()
	radio := &bench.Station{Name: "radio", Setup: file.Ports[0].Setup, Dial: func() (port.Port, error) { return host, nil }}
	res := (&perform.Run{Procedure: file, Stations: map[string]*bench.Station{"radio": radio}}).Do(context.Background())
	for _, s := range res.Steps {
		fmt.Println(s.Title+":", s.Verdict)
	}
	// Output: the address is 17: failed
}
