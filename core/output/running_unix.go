//go:build unix

package output

import (
	"errors"
	"syscall"
)

// running reports whether there is a program of that number.
func running(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
