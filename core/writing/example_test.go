package writing_test

import (
	"fmt"
	"os"

	"uparrot/core/writing"
)

// What an editor asks of a procedure that is being written.
func Example() {
	d := writing.Read("hello.parrot", "procedure \"Say hello\"\nport radio\nstep \"s\"\n    send radio: AT\nend\n", os.ReadFile)
	for _, m := range d.Mistakes {
		fmt.Printf("line %d: %s. %s\n", m.Line, m.What, m.Mend)
	}
	// Output:
	// line 4: unknown word "send". Here it is called say: say radio: AT
}
