//go:build unix

package shell

import (
	"os"
)

// readyConsole has nothing to do: terminals here understand control codes.
func readyConsole(*os.File) bool { return true }
