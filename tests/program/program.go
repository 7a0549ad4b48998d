// Package program builds the program for tests that drive it from outside.
package program

import (
	"os"
	"os/exec"
	"path/filepath"
)

// Build builds the program into a folder of its own, and sees to it that the ledger of
// whoever tests is left alone. Remove takes the folder away.
func Build() (path string, remove func(), err error) {
	dir, err := os.MkdirTemp("", "uparrot-test-")
	if err != nil {
		return "", nil, err
	}
	path = filepath.Join(dir, "uparrot")
	build := exec.Command("go", "build", "-o", path, "uparrot")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		return "", nil, err
	}
	return path, func() { os.RemoveAll(dir) }, os.Setenv("XDG_DATA_HOME", filepath.Join(dir, "data"))
}
