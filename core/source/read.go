package source

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// MaxFile is how many bytes a file that a person wrote has at most, so that a device or
// a file of another kind takes no memory.
const MaxFile = 16 << 20

// Unreadable is why a file that a person named cannot be read, with the name of one that is called nearly
// so. What went wrong stays in it.
func Unreadable(path string, err error) error {
	why := Cause(err)
	mend := ""
	if errors.Is(err, os.ErrNotExist) {
		mend = NearFile(path, path, "")
	}
	if mend != "" {
		return fmt.Errorf("%s cannot be read: %w. %s", path, why, mend)
	}
	return fmt.Errorf("%s cannot be read: %w", path, why)
}

// Cause is why a file cannot be read, without its path.
func Cause(err error) error {
	if p, ok := errors.AsType[*os.PathError](err); ok {
		return p.Err
	}
	return err
}

// NearFile is a hint that names a file of nearly the same name in the same folder, as named; another
// hint if there is none.
func NearFile(path, named, otherwise string) string {
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return otherwise // there is no such folder
	}
	var names []string
	for _, e := range entries {
		if readable := e.Type().IsRegular() || e.Type()&fs.ModeSymlink != 0; readable && filepath.Ext(e.Name()) == filepath.Ext(path) && e.Name() != filepath.Base(path) {
			names = append(names, e.Name())
		}
	}
	near := nearest(filepath.Base(path), names)
	if near == "" {
		return otherwise
	}
	return fmt.Sprintf("Did you mean %q?", strings.TrimSuffix(named, filepath.Base(named))+near)
}

// Beside is a path that a file names, taken from the folder of that file.
func Beside(file, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(file), path)
}

// ReadFile reads a file of at most MaxFile bytes.
func ReadFile(path string) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return ReadAll(f, path)
}

// ReadAll reads what comes up to its end, at most MaxFile bytes; more is an error, never cut. The
// name is what the error calls it.
func ReadAll(from io.Reader, name string) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(from, MaxFile+1))
	if err == nil && len(text) > MaxFile {
		err = &os.PathError{Op: "read", Path: name, Err: fmt.Errorf("it is longer than %d MiB", MaxFile>>20)}
	}
	return text, err
}
