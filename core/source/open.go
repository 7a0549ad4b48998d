package source

import (
	"errors"
	"io/fs"
	"os"
	"time"
)

// errNoFile is that a path leads to something else than a file, in words.
func errNoFile(path string, mode fs.FileMode) error {
	what := "it is no file"
	switch {
	case mode.IsDir():
		what = "it is a folder"
	case mode&fs.ModeDevice != 0:
		what = "it is a device, which is not opened to be read as a file"
	case mode&fs.ModeSocket != 0:
		what = "it is a socket"
	}
	return &os.PathError{Op: "open", Path: path, Err: errors.New(what)}
}

// longestPipe is how long a pipe may take before it is given up.
const longestPipe = 5 * time.Second

// Open opens a file to be read. A device is refused before it is opened, since that alone moves the lines of a
// serial port; a pipe is read, but not waited for: one that nobody writes to is empty, and one that is not
// read to its end within five seconds is an error.
func Open(path string) (*os.File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	switch mode := info.Mode(); {
	case mode.IsRegular():
		return os.Open(path)
	case mode&fs.ModeNamedPipe != 0:
		f, err := openPipe(path)
		if err == nil {
			_ = f.SetReadDeadline(time.Now().Add(longestPipe)) // where that cannot be set it is waited for
		}
		return f, err
	default:
		return nil, errNoFile(path, mode)
	}
}
