package procedure_test

import (
	"fmt"

	"uparrot/core/procedure"
)

// A procedure is read, or every mistake in it is told with its place.
func Example() {
	f, err := procedure.Parse("hello.parrot", `procedure "Say hello"
port radio: dialect at
step "the radio answers"
    say radio: AT
end
`)
	fmt.Println(f.Title, len(f.Steps), err)
	_, err = procedure.Parse("hello.parrot", "procedure \"Say hello\"\nport radio\nstep \"s\"\n    send radio: AT\nend\n")
	fmt.Println(err)
	// Output:
	// Say hello 1 <nil>
	// hello.parrot:4:5: unknown word "send"
	//         send radio: AT
	//         ^^^^
	//     Here it is called say: say radio: AT
}
