package portlist_test

import (
	"fmt"

	"uparrot/core/port"
	"uparrot/core/port/portlist"
)

// The port whose adapter has a serial number, wherever it is plugged in.
func Example() {
	there := []portlist.Entry{{Path: "/dev/ttyUSB0", Serial: "LK17"}, {Path: "/dev/ttyUSB1", Serial: "LK18"}}
	wanted, err := port.ParseAddress("serial:LK18")
	if err != nil {
		fmt.Println(err)
		return
	}
	found, err := portlist.Resolve(wanted, there)
	fmt.Println(found.Where, err)
	// Output: /dev/ttyUSB1 <nil>
}
