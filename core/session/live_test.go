package session

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/sim/families"
	"uparrot/core/uart"
	"uparrot/examples"
)

// Where there are no pseudo-terminals the stand-ins of a bench are served in the network of the
// machine, and found by the same names: opened, spoken with, set otherwise, refused while they are
// held, told when they were killed, and gone in the end.
func TestStandinsWithoutPseudoTerminals(t *testing.T) {
	openPseudo = func() (*port.Pseudo, error) { return nil, errors.ErrUnsupported }
	defer func() { openPseudo = port.OpenPseudo }()
	dir := t.TempDir()
	for _, name := range []string{"larkfell.toml", "dunlin.toml"} {
		b, err := examples.Files.ReadFile(name)
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), b, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	b, err := bench.Read(filepath.Join(dir, "larkfell.toml"), families.All.Names())
	if err != nil {
		t.Fatal(err)
	}
	live, err := Wake(b, b.LinkDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	valley, _ := b.Port("valley")
	at := live.At(valley)
	if !valley.Running() || !at.Path() || !port.Points(at.Where) {
		t.Errorf("the stand-in is at %s, running: %v", at, valley.Running())
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	for _, speed := range []int{115200, 9600} { // at the wrong speed nothing readable comes
		p, err := port.Open(ctx, at, uart.Line{Speed: speed, Frame: uart.Frame{DataBits: 8}})
		if err != nil {
			t.Fatal(err)
		}
		if p.Name() != at.String() {
			t.Errorf("the port is called %s, not %s", p.Name(), at)
		}
		if _, err := p.Write(ctx, []byte("AT\r")); err != nil {
			t.Error(err)
		}
		heard := make(chan string, 1)
		go func() {
			var all []byte
			buf := make([]byte, 64)
			for !strings.Contains(string(all), "OK") {
				n, err := p.Read(buf)
				all = append(all, buf[:n]...)
				if err != nil {
					break
				}
			}
			heard <- string(all)
		}()
		select {
		case said := <-heard:
			if speed != 115200 || !strings.Contains(said, "OK") {
				t.Errorf("at %d baud: %q", speed, said)
			}
		case <-time.After(time.Second):
			if speed == 115200 {
				t.Error("nothing was heard")
			}
		}
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	}
	if _, err := Wake(b, b.LinkDir(), nil); err == nil || !strings.Contains(err.Error(), "running already") {
		t.Errorf("woken twice: %v", err)
	}
	// A program that is killed leaves its files, and its lock comes free.
	left, err := os.ReadFile(at.Where)
	if err != nil {
		t.Fatal(err)
	}
	if err := live.End(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(b.LinkDir()); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the folder is left behind: %v", err)
	}
	err = errors.Join(os.Mkdir(b.LinkDir(), 0o700), os.WriteFile(at.Where, left, 0o600), os.WriteFile(filepath.Join(b.LinkDir(), port.StandinLock), nil, 0o600))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := port.Open(ctx, at, uart.DefaultLine); port.KindOf(err) != port.Missing || !strings.Contains(err.Error(), "its stand-in was killed") {
		t.Errorf("a stand-in that was killed: %v", err)
	}
	if valley.Running() {
		t.Error("a stand-in that was killed is running")
	}
	again, err := Wake(b, b.LinkDir(), nil) // over what was left
	if err != nil {
		t.Fatal(err)
	}
	if err := again.End(); err != nil {
		t.Error(err)
	}
}
