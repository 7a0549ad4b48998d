package cli

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/bringup/probe"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/port/portlist"
	"uparrot/core/procedure"
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

// What a bench, a header, a phrasebook and the command line say of a line, in
// the order in which they count.
func TestWhoSaysWhat(t *testing.T) {
	seven, err := uart.ParseFrame("7E1")
	if err != nil {
		t.Fatal(err)
	}
	book, err := phrasebook.Parse("p", "family = \"F\"\ndialect = \"at\"\n[line]\nspeed = 1200\nending = \"cr\"\nflow = \"none\"\n")
	if err != nil {
		t.Fatal(err)
	}
	b := &bench.Bench{File: "b.toml", Ports: []*bench.Port{
		{Name: "bare", At: "/dev/a"},
		{Name: "own", At: "/dev/b", Own: phrasebook.Setup{Speed: 4800, Ending: "lf"}},
	}}
	header := phrasebook.Setup{Speed: 2400, Frame: &seven}
	for _, c := range []struct {
		port   string
		over   phrasebook.Setup
		header phrasebook.Setup
		book   *phrasebook.Phrasebook
		want   string
	}{
		{"bare", phrasebook.Setup{}, phrasebook.Setup{}, nil, "lines, 115200 8N1, crlf"},
		{"bare", phrasebook.Setup{}, phrasebook.Setup{}, book, "at, 1200 8N1, cr"},
		{"bare", phrasebook.Setup{}, header, book, "at, 2400 7E1, cr"},
		{"own", phrasebook.Setup{}, header, book, "at, 4800 7E1, lf"},
		{"own", phrasebook.Setup{Speed: 300}, header, book, "at, 300 7E1, lf"},
		{"/dev/c", phrasebook.Setup{}, header, nil, "lines, 2400 7E1, crlf"},
	} {
		s, err := (&ports{bench: b, over: c.over}).station(c.port, c.header, c.book)
		if err != nil || s.Setup.Words() != c.want {
			t.Errorf("%s: %v, %v, want %s", c.port, s, err, c.want)
		}
	}
	for name, want := range map[string]string{"won": `Did you mean "own"?`, "serial:none": "no port has the address"} {
		if _, err := (&ports{bench: b}).station(name, header, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
}

func TestStationsOfAProcedure(t *testing.T) {
	parse := func(ports string) *procedure.File {
		f, err := procedure.Parse("t", "procedure \"T\"\n"+ports+"step \"s\"\n say a: x\nend\n")
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	one, two := parse("port a\n"), parse("port a\nport b\n")
	b := &bench.Bench{File: "b.toml", Ports: []*bench.Port{{Name: "a", At: "/dev/a"}, {Name: "x", At: "/dev/x"}}}
	for _, c := range []struct {
		proc  *procedure.File
		bench *bench.Bench
		where []string
		want  string // addresses, or the error
	}{
		{one, nil, []string{"/dev/x"}, "/dev/x"},
		{one, nil, []string{"a=/dev/x"}, "/dev/x"},
		{one, b, nil, "/dev/a"},
		{one, b, []string{"x"}, "/dev/x"},
		{two, b, []string{"b=x"}, "/dev/a /dev/x"},
		{two, b, nil, "say which it is with --port b=NAME"},
		{two, b, []string{"b=a"}, "are both at /dev/a"},
		{two, b, []string{"x"}, "wanted NAME=ADDRESS"},
		{two, b, []string{"c=x"}, `no port "c"`},
		{one, nil, nil, "--port a=ADDRESS"},
	} {
		s, err := (&ports{bench: c.bench}).stations(&cobra.Command{}, c.proc, c.where, nil)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			var all []string
			for _, p := range c.proc.Ports {
				all = append(all, s[p.Name].Address)
			}
			got = strings.Join(all, " ")
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%v: %s, want %s", c.where, got, c.want)
		}
	}
}

// What a probe has found goes into a bench without touching what is there.
func TestWriteEntry(t *testing.T) {
	file := writeFile(t, "b.toml", "# by hand\n[port.valley]\nat = \"/dev/ttyUSB0\" # left alone\n")
	frame, err := uart.ParseFrame("7E1")
	if err != nil {
		t.Fatal(err)
	}
	found := probe.Result{Kind: probe.Found, Speed: 74880, Frame: frame, Ending: "lf", Dialect: "lines", Sure: true}
	if err := canWrite(file, "summit"); err != nil {
		t.Fatal(err)
	}
	if err := writeEntry(file, "summit", "/dev/ttyUSB1", found); err != nil {
		t.Fatal(err)
	}
	found.Sure = false
	if err := writeEntry(file, "tower", "rfc2217://127.0.0.1:4001", found); err != nil {
		t.Fatal(err)
	}
	b, err := bench.Read(file)
	if err != nil {
		t.Fatal(err)
	}
	p, ok := b.Port("summit")
	if !ok || p.Setup.Words() != "lines, 74880 7E1, lf" || p.At != "/dev/ttyUSB1" || len(b.Ports) != 3 {
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

func TestOrders(t *testing.T) {
	b, err := bench.Read("../examples/larkfell.toml")
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "ports")
	live, err := wake(b, dir, nil)
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
		err := tell(dir, order)
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v, want %q", order, err, want)
		}
	}
	if _, err := wake(b, dir, nil); err == nil || !strings.Contains(err.Error(), "running already") {
		t.Errorf("woken twice: %v", err)
	}
	if err := live.end(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(dir); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("something was left behind: %v", err)
	}
	if err := tell(dir, "power valley on"); err == nil || exitStatus(err) != exitBroken {
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
	if _, err := wake(b, dir, nil); err == nil || !strings.Contains(err.Error(), "in the way") {
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
		"udp://127.0.0.1:4001": "cannot be served over udp", "tcp://127.0.0.1": "this machine alone",
	} {
		err := served(&bench.Port{Name: "valley", At: at})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v, want %q", at, err, want)
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
	a := &app{out: &b}
	a.portTable([]portlist.Entry{p, {Path: "/dev/ttyS0", Free: true}})
	if got := b.String(); !strings.Contains(got, "/dev/ttyS0    ") || !strings.Contains(got, "free") || !strings.Contains(got, "holds bytes back for up to 16 ms") || strings.Contains(got, "\x1b") {
		t.Error(got)
	}
	b.Reset()
	a.portTable(nil)
	if !strings.Contains(b.String(), "no serial port") {
		t.Error(b.String())
	}
	if port.KindOf(nil) != port.Other {
		t.Error("no error has a kind")
	}
}
