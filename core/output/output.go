// Package output writes the files that a command makes. One rule holds for all of
// them: what exists is not replaced unless that is asked for, and records, ledgers and
// what the command itself reads never are; a file takes its name only when it is whole;
// and it belongs to its owner alone.
package output

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"uparrot/core/source"
)

// Files are the outputs of one command.
type Files struct {
	Overwrite bool     // replace what exists
	KeepBoth  bool     // take the next free name instead
	Inputs    []string // files that the command reads

	planned map[string]string // what each place is for, by its path
}

// tried makes a file in a folder, and takes it away again.
func tried(dir string) error {
	f, err := os.CreateTemp(dir, "uparrot-*.part")
	if err != nil {
		return errors.Unwrap(err) // the path is none of the user's
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// Plan looks, before anything is done, whether an output may be written at a path; what
// is the flag that named it. Errors are a *source.Problem.
func (f *Files) Plan(what, path string) error {
	if f.Overwrite && f.KeepBoth {
		return &source.Problem{What: "--overwrite and --keep-both exclude each other"}
	}
	place, err := resolve(path)
	if err != nil {
		return &source.Problem{What: fmt.Sprintf("%s %s: %v", what, path, err)}
	}
	if other, ok := f.planned[place]; ok {
		return &source.Problem{What: fmt.Sprintf("%s and %s are both %s", other, what, path), Mend: "Give each a file of its own."}
	}
	info, err := os.Stat(place)
	switch {
	case errors.Is(err, os.ErrNotExist):
		if dir, derr := os.Stat(filepath.Dir(place)); derr != nil || !dir.IsDir() {
			return &source.Problem{What: fmt.Sprintf("%s %s: there is no folder %s", what, path, filepath.Dir(path))}
		}
		if err := tried(filepath.Dir(place)); err != nil {
			return &source.Problem{What: fmt.Sprintf("%s %s: the folder takes no file: %v", what, path, err)}
		}
	case err != nil:
		return &source.Problem{What: fmt.Sprintf("%s: %v", what, err)}
	case info.IsDir():
		return &source.Problem{What: fmt.Sprintf("%s %s is a folder", what, path), Mend: "Name a file in it."}
	case !info.Mode().IsRegular(): // a device takes what it gets
		return nil
	case f.KeepBoth:
	default:
		if err := f.mayReplace(what, path, info); err != nil {
			return err
		}
	}
	f.plan(what, place)
	return nil
}

func (f *Files) plan(what, place string) {
	if f.planned == nil {
		f.planned = map[string]string{}
	}
	f.planned[place] = what
}

// Reserve keeps a path for something that is no output of these, such as a record.
func (f *Files) Reserve(what, path string) {
	if place, err := resolve(path); err == nil { // else whoever makes it says so
		f.plan(what, place)
	}
}

// Free is where a planned output that is written again and again stands: its path, or with
// KeepBoth the next name that is free.
func (f *Files) Free(path string) string {
	if path == "" || !f.KeepBoth {
		return path
	}
	ext, at := filepath.Ext(path), path
	for n := 2; ; n++ {
		if _, err := os.Lstat(at); err != nil {
			return at
		}
		at = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(path, ext), n, ext)
	}
}

// Again writes what stands at a path anew, whole or not at all.
func Again(path string, text []byte) error {
	_, err := (&Files{Overwrite: true}).Write(path, func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	})
	return err
}

// Forget removes the file of an earlier time that a planned output was to replace: it
// would pass for one of this time.
func (f *Files) Forget(path string) error {
	if info, err := os.Stat(path); !f.Overwrite || err != nil || !info.Mode().IsRegular() {
		return nil
	}
	return os.Remove(path)
}

// mayReplace reports why a file that exists may not be replaced.
func (f *Files) mayReplace(what, path string, info os.FileInfo) error {
	for _, in := range f.Inputs {
		if read, err := os.Stat(in); err == nil && os.SameFile(read, info) {
			return &source.Problem{What: fmt.Sprintf("%s %s is what this command reads", what, path), Mend: "Choose another name."}
		}
	}
	switch kind := evidence(path); {
	case kind != "":
		return &source.Problem{What: fmt.Sprintf("%s %s is %s, which nothing replaces", what, path, kind), Mend: "Choose another name."}
	case !f.Overwrite:
		return &source.Problem{What: fmt.Sprintf("%s %s exists", what, path), Mend: "Choose another name, or give --overwrite to replace it, or --keep-both to take the next free one."}
	}
	return nil
}

// evidence is what a file is that must last: "" if it is none.
func evidence(path string) string {
	file, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer file.Close()
	head := make([]byte, 512)
	n, _ := io.ReadFull(file, head)                             // a short file has a short head
	for _, part := range []string{"-wal", "-shm", "-journal"} { // as SQLite names them
		if whole, ok := strings.CutSuffix(path, part); ok && evidence(whole) != "" {
			return "a part of a ledger"
		}
	}
	switch text := string(head[:n]); {
	case strings.HasPrefix(text, "SQLite format 3\x00"):
		return "a ledger"
	case strings.HasPrefix(text, "{") && strings.Contains(text, `"kind":"record"`):
		return "a record"
	}
	return ""
}

// resolve is where a path leads, through links, as one that can be compared.
func resolve(path string) (string, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(abs); err == nil {
		return real, nil
	}
	if target, err := os.Readlink(abs); err == nil { // a link to what is not there yet
		if !filepath.IsAbs(target) {
			target = filepath.Join(filepath.Dir(abs), target)
		}
		abs = target
	}
	if dir, err := filepath.EvalSymlinks(filepath.Dir(abs)); err == nil {
		return filepath.Join(dir, filepath.Base(abs)), nil
	}
	return abs, nil
}

// Lost says that an output could not be written, though what it tells of was done.
type Lost struct {
	Path string
	Err  error
}

func (l *Lost) Error() string { return fmt.Sprintf("write %s: %v", l.Path, l.Err) }

func (l *Lost) Unwrap() error { return l.Err }

// telling is a file whose errors say that an output is lost.
type telling struct {
	*os.File
	path string
}

func (t telling) Write(b []byte) (int, error) {
	n, err := t.File.Write(b)
	if err != nil {
		err = &Lost{t.path, errors.Unwrap(err)}
	}
	return n, err
}

// File is an output that grows. It has no name until Keep.
type File struct {
	io.Writer
	files       *Files
	file        *os.File
	path, place string
	device      bool
}

// Create begins a planned output.
func (f *Files) Create(path string) (*File, error) {
	place, err := resolve(path)
	if err != nil {
		return nil, fmt.Errorf("write %s: %w", path, err)
	}
	o := &File{files: f, path: path, place: place}
	if info, serr := os.Stat(place); serr == nil && !info.Mode().IsRegular() { // such as /dev/null
		o.device = true
		o.file, err = os.OpenFile(place, os.O_WRONLY, 0)
	} else {
		o.file, err = newPart(place)
	}
	if err != nil {
		return nil, &Lost{path, err}
	}
	o.Writer = telling{o.file, path}
	return o, nil
}

// Keep gives the output its name, which with KeepBoth may be another than was planned,
// and returns it.
func (o *File) Keep() (string, error) {
	if err := o.file.Close(); err != nil {
		return "", o.Drop(&Lost{o.path, err})
	}
	if o.device {
		return o.path, nil
	}
	named, err := o.files.name(o.file.Name(), o.place)
	if err != nil {
		return "", o.Drop(&Lost{o.path, err})
	}
	if named == o.place {
		return o.path, nil
	}
	return filepath.Join(filepath.Dir(o.path), filepath.Base(named)), nil
}

// Drop gives the output up: what was there stays. It returns why, with its path.
func (o *File) Drop(why error) error {
	_ = o.file.Close() // why it is given up comes first
	err := why
	if _, lost := errors.AsType[*Lost](why); !lost {
		err = fmt.Errorf("write %s: %w", o.path, why)
	}
	if o.device {
		return err
	}
	if rerr := os.Remove(o.file.Name()); !errors.Is(rerr, os.ErrNotExist) {
		err = errors.Join(err, rerr)
	}
	return err
}

// Write writes a planned output. The file takes its name when write has returned
// without an error. It returns where the file is.
func (f *Files) Write(path string, write func(io.Writer) error) (string, error) {
	o, err := f.Create(path)
	if err != nil {
		return "", err
	}
	if err := write(o); err != nil {
		return "", o.Drop(err)
	}
	return o.Keep()
}

// name gives a whole part its name.
func (f *Files) name(part, place string) (string, error) {
	if f.Overwrite {
		return place, os.Rename(part, place)
	}
	ext := filepath.Ext(place)
	base := strings.TrimSuffix(place, ext)
	for n, at := 2, place; ; n++ {
		err := os.Link(part, at) // unlike a rename it never replaces what has come meanwhile
		switch {
		case err == nil:
			return at, os.Remove(part)
		case errors.Is(err, os.ErrExist) && f.KeepBoth:
			at = fmt.Sprintf("%s-%d%s", base, n, ext)
		case errors.Is(err, os.ErrExist):
			return "", fmt.Errorf("%s has come to exist meanwhile", at)
		default: // this file system has no links
			if _, serr := os.Lstat(at); !errors.Is(serr, os.ErrNotExist) {
				return "", errors.Join(err, serr)
			}
			return at, os.Rename(part, at)
		}
	}
}

// newPart makes the file in which an output grows, beside its place. Parts that a
// killed program has left there go away.
func newPart(place string) (*os.File, error) {
	old, _ := filepath.Glob(glob(place) + ".*.part") // the pattern is right
	for _, path := range old {
		number := strings.TrimSuffix(strings.TrimPrefix(path, place+"."), ".part")
		if pid, err := strconv.Atoi(number); err == nil && !Running(pid) {
			_ = os.Remove(path) // if it cannot be, it harms nobody
		}
	}
	return os.OpenFile(fmt.Sprintf("%s.%d.part", place, os.Getpid()), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
}

// glob is a path as a pattern for itself.
func glob(path string) string {
	return strings.NewReplacer(`*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
}
