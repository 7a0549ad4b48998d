package port_test

import (
	"fmt"

	"uparrot/core/port"
)

func ExampleParseAddress() {
	for _, text := range []string{"/dev/ttyUSB0", "serial:LF-0017", "tcp://gateway:4001", "tcp://gateway"} {
		a, err := port.ParseAddress(text)
		if err != nil {
			fmt.Println(err)
			continue
		}
		fmt.Printf("%q %s, in the network: %v\n", a.Scheme, a.Where, a.Network())
	}
	// Output:
	// "" /dev/ttyUSB0, in the network: false
	// "serial" LF-0017, in the network: false
	// "tcp" gateway:4001, in the network: true
	// "tcp://gateway" names no host and port. Write tcp://HOST:PORT.
}
