package reach_test

import (
	"context"
	"fmt"
	"net"
	"time"

	"uparrot/core/perform/reach"
)

// Whether something takes connections at a port of this machine.
func Example() {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer ln.Close()
	took, err := reach.TCP(context.Background(), "127.0.0.1", ln.Addr().(*net.TCPAddr).Port, 5*time.Second)
	fmt.Println(took > 0, err)
	// Output: true <nil>
}
