package session

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uparrot/core/bench"
	"uparrot/core/port"
)

func TestOrders(t *testing.T) {
	b, err := bench.Read("../../examples/larkfell.toml", nil)
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "ports")
	live, err := Wake(b, dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	for order, want := range map[string]string{
		"power valley off":     "",
		"power valley on":      "",
		"power summit cycle":   "",
		"wire valley open":     "",
		"wire valley crossed":  "",
		"power valley of":      `Did you mean "on"?`,
		"power vally off":      `no stand-in "vally"`,
		"wire valley strait":   `Did you mean "straight"?`,
		"switch valley off":    "wanted",
		"power valley":         "wanted",
		"power valley off now": "wanted",
	} {
		err := Tell(dir, order)
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v, want %q", order, err, want)
		}
	}
	if _, err := Wake(b, dir, nil); err == nil || !strings.Contains(err.Error(), "running already") {
		t.Errorf("woken twice: %v", err)
	}
	if err := live.End(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(dir); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("something was left behind: %v", err)
	}
	if err := Tell(dir, "power valley on"); err == nil {
		t.Errorf("nobody is there: %v", err)
	}
	// A file of somebody else's is not touched.
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	mine := filepath.Join(dir, "valley")
	if err := os.WriteFile(mine, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Wake(b, dir, nil); err == nil || !strings.Contains(err.Error(), "in the way") {
		t.Errorf("got %v", err)
	}
	if text, err := os.ReadFile(mine); err != nil || string(text) != "mine" {
		t.Errorf("the file is %q, %v", text, err)
	}
}

func TestServed(t *testing.T) {
	for at, want := range map[string]string{
		"tcp://127.0.0.1:4001": "", "rfc2217://localhost:4001": "", "rfc2217://[::1]:4001": "",
		"tcp://0.0.0.0:4001": "this machine alone", "tcp://:4001": "this machine alone", "tcp://station.example:4001": "this machine alone",
		"udp://127.0.0.1:4001": "cannot be served over udp",
	} {
		a, err := port.ParseAddress(at)
		if err != nil {
			t.Fatal(err)
		}
		err = served(&bench.Entry{Name: "valley", At: a})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v, want %q", at, err, want)
		}
	}
}
