package find

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/bringup/probe"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/port/portlist"
	"uparrot/core/uart"
)

func writeFile(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// What a probe has found goes into a bench without touching what is there.
func TestWriteEntry(t *testing.T) {
	file := writeFile(t, "b.toml", "# by hand\n[port.valley]\nat = \"/dev/ttyUSB0\" # left alone\n")
	frame, err := uart.ParseFrame("7E1")
	if err != nil {
		t.Fatal(err)
	}
	found := probe.Result{Kind: probe.Found, Speed: 76800, Frame: frame, Ending: phrasebook.LF, Dialect: phrasebook.Lines, Sure: true}
	if err := canWrite(file, "summit"); err != nil {
		t.Fatal(err)
	}
	if err := writeEntry(file, "summit", port.Address{Where: "/dev/ttyUSB1"}, found); err != nil {
		t.Fatal(err)
	}
	found.Sure = false
	if err := writeEntry(file, "tower", port.Address{Scheme: port.RFC2217, Where: "127.0.0.1:4001"}, found); err != nil {
		t.Fatal(err)
	}
	b, err := bench.Read(file, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, ok := b.Port("summit")
	if !ok || p.Setup.Words() != "lines, 76800 7E1, lf" || p.At.String() != "/dev/ttyUSB1" || len(b.Ports) != 3 {
		t.Errorf("%+v", p)
	}
	text, err := os.ReadFile(file)
	if err != nil || !strings.HasPrefix(string(text), "# by hand\n[port.valley]\nat = \"/dev/ttyUSB0\" # left alone\n\n[port.summit]") || !strings.Contains(string(text), "# likely, not sure\n[port.tower]\nat = \"rfc2217://127.0.0.1:4001\"") {
		t.Errorf("%s, %v", text, err)
	}
	if err := canWrite(file, "summit"); err == nil || !strings.Contains(err.Error(), "has a port summit already") {
		t.Errorf("got %v", err)
	}
	if err := canWrite(writeFile(t, "x.toml", "port = 5\n"), "a"); err == nil {
		t.Error("a broken bench can be written")
	}
	if err := canWrite(filepath.Join(t.TempDir(), "new.toml"), "a"); err != nil {
		t.Error(err)
	}
	for address, want := range map[string]string{"/dev/ttyUSB0": "ttyusb0", "/dev/serial/by id": "by_id", "tcp://127.0.0.1:4001": "127_0_0_1_4001", "COM3": "com3"} {
		if got := benchName(address); got != want {
			t.Errorf("%s: %s, want %s", address, got, want)
		}
	}
}

func TestPortWords(t *testing.T) {
	back := 16
	p := portlist.Entry{Path: "/dev/ttyUSB0", Make: "Larkfell Works", Product: "Line\x1b[2J Adapter", Serial: "LW-1", Socket: "1-1.2", Hint: "end logger", HoldBack: &back}
	if got := portWords(p); got != `/dev/ttyUSB0, Larkfell Works Line\x1b[2J Adapter, serial LW-1, socket 1-1.2, end logger` {
		t.Error(got)
	}
	var b strings.Builder
	a := &shell.Streams{Out: &b}
	portTable(a, []portlist.Entry{p, {Path: "/dev/ttyS0", Free: true}})
	if got := b.String(); !strings.Contains(got, "/dev/ttyS0    ") || !strings.Contains(got, "free") || !strings.Contains(got, "holds bytes back for up to 16 ms") || strings.Contains(got, "\x1b") {
		t.Error(got)
	}
	b.Reset()
	portTable(a, nil)
	if !strings.Contains(b.String(), "no serial port") {
		t.Error(b.String())
	}
	if port.KindOf(nil) != port.Other {
		t.Error("no error has a kind")
	}
}
