//go:build unix && !linux

package port

import (
	"fmt"

	"golang.org/x/sys/unix"
)

const (
	getTermios = unix.TIOCGETA
	setTermios = unix.TIOCSETA
)

// openBy is not known here: there is no process table to read.
func openBy(string) string { return "" }

func process(pid int) string { return fmt.Sprintf("process %d", pid) }

// counters are not to be had here.
func (g *guard) counters() (Counters, error) { return Counters{}, unix.ENOTSUP }
