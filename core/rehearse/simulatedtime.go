package rehearse

import (
	"fmt"
	"runtime/debug"
	"testing"
	"testing/synctest"
)

// inMadeUpTime does something in a bubble of its own, in which time passes only while all wait: an
// hour takes no longer than what is done in it. Everything in the bubble runs as it does anywhere
// else; nothing of it may outlive the call.
//
// The standard library has such bubbles for tests. The test that it wants is a handle and nothing
// more: an empty one serves, which the tests of this package hold every version of Go against.
func inMadeUpTime(do func()) (err error) {
	defer func() {
		if fault := recover(); fault != nil { // such as something that waits for ever
			err = fmt.Errorf("the rehearsal did not come to its end, by a fault of this program: %v", fault)
		}
	}()
	synctest.Test(new(testing.T), func(*testing.T) {
		defer func() {
			if fault := recover(); fault != nil {
				err = fmt.Errorf("the rehearsal ended in a fault of this program: %v\n%s", fault, debug.Stack())
			}
		}()
		do()
	})
	return err
}
