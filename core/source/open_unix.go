//go:build unix

package source

import (
	"os"

	"golang.org/x/sys/unix"
)

func openPipe(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
}
