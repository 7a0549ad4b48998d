package port

import (
	"os"
	"path/filepath"
	"strings"
)

// A stand-in is found by a name in a folder. Where there are pseudo-terminals the name is a
// link to one. Where there are none it is a small file with the address at which the stand-in
// is served on this machine: opening the file as a port goes there.

// StandinLock is the name of a file that a program holds locked for as long as the names
// beside it lead to its stand-ins.
const StandinLock = ".standin"

// servedPrefix is what such a file begins with.
const servedPrefix = "rfc2217://127.0.0.1:"

// PointTo makes a file by which the stand-in that is served at an address is found.
func PointTo(path string, a Address) error {
	return os.WriteFile(path, []byte(a.String()+"\n"), 0o600)
}

// Points reports whether path is such a file.
func Points(path string) bool { return pointer(path) != "" }

// servedAt is the address in such a file; nil if path leads to anything else.
func servedAt(path string) (*Address, error) {
	text := pointer(path)
	if text == "" {
		return nil, nil
	}
	if LeftOver(path) {
		return nil, killed(path)
	}
	a, err := ParseAddress(text)
	if err != nil {
		return nil, &Error{Port: path, Op: "open", Kind: NotSerial, Why: "the file has no address of a stand-in", Mend: "Start the stand-ins again: uparrot standin BENCH.", Err: err}
	}
	return &a, nil
}

// pointer is what such a file holds; "" for anything else.
func pointer(path string) string {
	if namesDevice(path) {
		return ""
	}
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Size() > 100 {
		return ""
	}
	b, err := os.ReadFile(path)
	if err != nil || !strings.HasPrefix(string(b), servedPrefix) {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// LeftOver reports whether a path is the name of a stand-in whose program was killed: what it
// leads to may be somebody else's by now.
func LeftOver(path string) bool {
	if namesDevice(path) {
		return false
	}
	info, err := os.Lstat(path)
	if err != nil || info.Mode()&os.ModeSymlink == 0 && pointer(path) == "" {
		return false
	}
	held, there := lockHeld(filepath.Join(filepath.Dir(path), StandinLock))
	return there && !held // without that file it is a link of somebody else
}

func killed(path string) error {
	return &Error{Port: path, Op: "open", Kind: Missing, Why: "its stand-in was killed, and where the link leads is not known any more", Mend: "Start the stand-ins again: uparrot standin BENCH."}
}
