//go:build unix

package output

import (
	"errors"
	"syscall"
)

// Running reports whether there is a program of that number.
func Running(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
