package syserr_test

import (
	"fmt"
	"net"

	"uparrot/core/syserr"
)

// Whatever number the system has for it: nobody listens there.
func Example() {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	at := free.Addr().String()
	free.Close()
	_, err = net.Dial("tcp", at)
	fmt.Println(syserr.Is(err, syserr.Refused))
	// Output: true
}
