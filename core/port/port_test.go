//go:build unix

package port

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"uparrot/core/uart"
)

func pseudo(t *testing.T) *Pseudo {
	t.Helper()
	p, err := OpenPseudo()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

func frame(t *testing.T, s string) uart.Frame {
	f, err := uart.ParseFrame(s)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func TestSettings(t *testing.T) {
	far := pseudo(t)
	before, err := unix.IoctlGetTermios(int(far.far.Fd()), getTermios)
	if err != nil {
		t.Fatal(err)
	}
	p, err := openAt(far.Path(), uart.Line{Speed: 9600, Frame: frame(t, "7E1")})
	if err != nil {
		t.Fatal(err)
	}
	for _, speed := range []int{300, 76800, 115200, 12345, 921600} {
		line := uart.Line{Speed: speed, Frame: frame(t, "8N2")}
		if err := p.SetLine(line); err != nil {
			t.Error(err)
		}
		now, err := unix.IoctlGetTermios(int(far.far.Fd()), getTermios)
		if err != nil || int(now.Ospeed) != speed || now.Cflag&unix.CSTOPB == 0 || p.Line() != line {
			t.Errorf("%d: the line is %d baud, %v, %v", speed, now.Ospeed, p.Line(), err)
		}
	}
	for _, bad := range []int{0, -1, uart.MaxSpeed + 1} {
		if err := p.SetLine(uart.Line{Speed: bad}); err == nil || p.Line().Speed != 921600 {
			t.Errorf("%d baud: %v, now %v", bad, err, p.Line())
		}
	}
	for _, f := range []string{"8N1", "7E1", "5N1.5", "8O2", "6S1"} {
		line := uart.Line{Speed: 19200, Frame: frame(t, f)}
		if err := p.SetLine(line); err != nil {
			t.Error(err)
		}
		if got, ok := far.HostLine(); !ok || got != line {
			t.Errorf("the module's side sees %v, want %v", got, line)
		}
	}
	if err := p.SetLine(uart.Line{Speed: 9600, Frame: frame(t, "8N1.5")}); KindOf(err) != Unsupported {
		t.Errorf("8N1.5: %v", err)
	}
	if err := p.Drain(); err != nil {
		t.Error(err)
	}
	for _, err := range []error{SetSignal(p, uart.DTR, true), SetSignal(p, uart.RTS, false)} {
		if KindOf(err) != Unsupported {
			t.Errorf("a pseudo-terminal has no signal lines: %v", err)
		}
	}
	if err := p.Close(); err != nil {
		t.Error(err)
	}
	after, err := unix.IoctlGetTermios(int(far.far.Fd()), getTermios)
	if err != nil || *after != *before {
		t.Errorf("settings were not put back: %+v, were %+v, %v", after, before, err)
	}
}

func TestBytesAndVanishing(t *testing.T) {
	far := pseudo(t)
	p, err := openAt(far.Path(), uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	all := make([]byte, 256)
	for i := range all {
		all[i] = byte(i)
	}
	for _, way := range []struct {
		write func([]byte) (int, error)
		read  func([]byte) (int, error)
	}{{func(b []byte) (int, error) { return p.Write(t.Context(), b) }, far.Read}, {far.Write, p.Read}} {
		if _, err := way.write(all); err != nil {
			t.Fatal(err)
		}
		var got []byte
		for buf := make([]byte, 300); len(got) < len(all); {
			n, err := way.read(buf)
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, buf[:n]...)
		}
		if string(got) != string(all) {
			t.Errorf("got %q", got)
		}
	}
	far.Close()
	if _, err := p.Read(all); KindOf(err) != Vanished {
		t.Errorf("read after the port went: %v", err)
	}
	p.Close()
	if _, err := p.Read(all); KindOf(err) != Closed {
		t.Errorf("read after close: %v", err)
	}
}

func TestOpenErrors(t *testing.T) {
	dir := t.TempDir()
	plain := filepath.Join(dir, "plain")
	if err := os.WriteFile(plain, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	stale := filepath.Join(dir, "valley")
	if err := os.Symlink("/dev/pts/999999", stale); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path string
		kind Kind
		want string
	}{
		{"/dev/no-such-port", Missing, "there is no such port"},
		{stale, Missing, "The link points at /dev/pts/999999, which is gone"},
		{"/dev/null", NotSerial, "not a serial port"},
		{plain, NotSerial, "not a serial port"},
	} {
		_, err := openAt(c.path, uart.DefaultLine)
		if KindOf(err) != c.kind || !strings.Contains(err.Error(), c.want) || !strings.Contains(err.Error(), c.path) {
			t.Errorf("%s: %v", c.path, err)
		}
	}
	if os.Getuid() != 0 { // root may open anything
		far := pseudo(t)
		if err := os.Chmod(far.Path(), 0); err != nil {
			t.Fatal(err)
		}
		if _, err := openAt(far.Path(), uart.DefaultLine); KindOf(err) != Permission {
			t.Errorf("without the right: %v", err)
		}
	}
}

func TestExclusive(t *testing.T) {
	lockDir = t.TempDir()
	far := pseudo(t)
	lock := lockName(far.Path())
	// Left by a program that has ended: taken over.
	for _, left := range []string{"junk\n", strings.Repeat(" ", 4) + "99999999\n"} {
		if err := os.WriteFile(lock, []byte(left), 0o600); err != nil {
			t.Fatal(err)
		}
		p, err := openAt(far.Path(), uart.DefaultLine)
		if err != nil {
			t.Fatalf("lock file %q: %v", left, err)
		}
		text, err := os.ReadFile(lock)
		if err != nil || len(text) != 11 {
			t.Errorf("the lock file holds %q, %v", text, err)
		}
		_, err = openAt(far.Path(), uart.DefaultLine)
		if KindOf(err) != Held || !strings.Contains(err.Error(), "it is held by") {
			t.Errorf("second opening: %v", err)
		}
		if err := p.Close(); err != nil {
			t.Error(err)
		}
		if _, err := os.Stat(lock); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("the lock file is still there: %v", err)
		}
	}
	// Held by a program that lives.
	if err := os.WriteFile(lock, []byte("         1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := openAt(far.Path(), uart.DefaultLine); KindOf(err) != Held || !strings.Contains(err.Error(), "process 1") {
		t.Errorf("with a living owner: %v", err)
	}
}

// The group of a port is named, and what lacks: being in it, or a login since then.
func TestGroupHint(t *testing.T) {
	for _, c := range []struct {
		here, listed bool
		want         string
	}{
		{false, false, `Its group "dialout" may: have yourself added with 'sudo usermod -aG dialout $USER', then log in anew.`},
		{false, true, `Its group "dialout" may, and you are in it, but this login began before that: log in anew.`},
		{true, true, `You are in its group "dialout", which may: something else keeps you out, such as a container or a security module.`},
	} {
		if got := groupHint("dialout", c.here, c.listed); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}

// What a port cannot do is named, not something else that it cannot do either.
func TestUnsupportedIsNamed(t *testing.T) {
	a, b := Pipe("here", uart.Line{})
	t.Cleanup(func() { a.Close(); b.Close() })
	for want, err := range map[string]error{
		"no break":        Break(a, time.Millisecond),
		"no flow control": SetFlow(a, uart.NoFlow),
		"no signal lines": SetSignal(a, uart.DTR, true),
		"no error counters": func() error {
			_, err := CountersOf(a)
			return err
		}(),
	} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
}
