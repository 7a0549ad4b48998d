//go:build unix

package source

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"github.com/creack/pty"
)

// What is named as a file is no device, and a pipe is not waited for.
func TestOpen(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	if err := os.WriteFile(at("file"), []byte("text"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mkfifo(at("pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	near, far, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	defer near.Close()
	defer far.Close()
	if err := os.Symlink(far.Name(), at("link")); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{at("file"): "", at("pipe"): "", at("none"): "no such file", dir: "it is a folder", far.Name(): "it is a device", at("link"): "it is a device", "/dev/null": "it is a device"} {
		began := time.Now()
		f, err := Open(path)
		if err == nil {
			_, err = io.ReadAll(f)
			f.Close()
		}
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) || time.Since(began) > 2*time.Second {
			t.Errorf("%s: %v after %v", path, err, time.Since(began))
		}
	}
	go func() {
		if w, err := os.OpenFile(at("pipe"), os.O_WRONLY, 0); err == nil {
			io.WriteString(w, "through a pipe")
			w.Close()
		}
	}()
	for {
		text, err := ReadFile(at("pipe"))
		if err != nil {
			t.Fatal(err)
		}
		if string(text) == "through a pipe" {
			return
		}
		if len(text) > 0 {
			t.Fatalf("%q", text)
		}
	}
}
