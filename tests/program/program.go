// Package program builds the program for tests that drive it from outside.
package program

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Main builds the program, says where it is, runs the tests and takes it away again.
func Main(m *testing.M, path *string) {
	built, remove, err := build()
	if err != nil {
		fmt.Fprintln(os.Stderr, "build the program:", err)
		os.Exit(1)
	}
	*path = built
	status := m.Run()
	remove()
	os.Exit(status)
}

// build builds the program into a folder of its own, and sees to it that the ledger of
// whoever tests is left alone. Remove takes the folder away.
func build() (path string, remove func(), err error) {
	dir, err := os.MkdirTemp("", "uparrot-test-")
	if err != nil {
		return "", nil, err
	}
	if err := seen(); err != nil {
		return "", nil, err
	}
	path = filepath.Join(dir, "uparrot")
	compile := exec.Command("go", "build", "-o", path, "uparrot")
	compile.Stderr = os.Stderr
	if err := compile.Run(); err != nil {
		return "", nil, err
	}
	return path, func() { os.RemoveAll(dir) }, errors.Join(os.Setenv("XDG_DATA_HOME", filepath.Join(dir, "data")), os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config")))
}

// seen looks at each file that the program is made of: a result of a test is kept by the files that the test
// looked at, and is not taken for that of another program then.
func seen() error {
	out, err := exec.Command("go", "list", "-f", "{{.Dir}}", "uparrot").Output()
	if err != nil {
		return fmt.Errorf("find the sources of the program: %w", err)
	}
	return filepath.WalkDir(strings.TrimSpace(string(out)), func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() && strings.HasPrefix(e.Name(), ".") {
			return filepath.SkipDir
		}
		if err == nil && strings.HasSuffix(path, ".go") {
			_, err = os.Stat(path)
		}
		return err
	})
}
