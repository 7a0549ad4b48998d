package source

import (
	"fmt"
	"io"
	"os"
)

// MaxFile is how many bytes a file that a person wrote has at most, so that a device or
// a file of another kind takes no memory.
const MaxFile = 16 << 20

// ReadFile reads a file of at most MaxFile bytes.
func ReadFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, MaxFile+1))
	if err == nil && len(text) > MaxFile {
		err = &os.PathError{Op: "read", Path: path, Err: fmt.Errorf("it is longer than %d MiB", MaxFile>>20)}
	}
	return text, err
}
