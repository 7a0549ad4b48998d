package session

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// No text becomes a path that leads elsewhere.
func TestSlug(t *testing.T) {
	for text, want := range map[string]string{
		"Commission a tower radio": "commission-a-tower-radio", "../../etc/passwd": "etc-passwd", "": "run", "///": "run", "LK 17": "lk-17", "a\x00b\nc": "a-b-c",
		"Größe 4": "größe-4", strings.Repeat("long ", 30): "long-long-long-long-long-long-long-long", "-rf": "rf", "C:\\x": "c-x",
	} {
		if got := slug(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	dir := t.TempDir()
	path, err := recordPath(filepath.Join(dir, "l.sqlite"), record.Origin{Run: "0123456789abcdef", Unit: "../x"}, "../y")
	if ok, _ := regexp.MatchString(`^records/\d{4}-\d\d/\d{8}-\d{6}-y-x-01234567\.record$`, strings.TrimPrefix(path, dir+"/")); err != nil || !ok {
		t.Errorf("%s, %v", path, err)
	}
	t.Setenv("XDG_DATA_HOME", dir)
	if path, err := recordPath("postgres://bench@host/db", record.Origin{Run: "0123456789abcdef"}, "y"); err != nil || !strings.HasPrefix(path, dir+"/uparrot/records/") {
		t.Errorf("beside a database: %s, %v", path, err)
	}
}

func TestLedgerPlace(t *testing.T) {
	t.Setenv("XDG_DATA_HOME", "/data")
	t.Setenv(LedgerVariable, "")
	if got, err := LedgerPlace(""); err != nil || got != "/data/uparrot/ledger.sqlite" {
		t.Errorf("%s, %v", got, err)
	}
	t.Setenv(LedgerVariable, "postgres://bench@host/db")
	if got, _ := LedgerPlace(""); got != "postgres://bench@host/db" {
		t.Error(got)
	}
	if got, _ := LedgerPlace("l.sqlite"); got != "l.sqlite" {
		t.Error(got)
	}
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
	b := &bench.Bench{File: "b.toml", Ports: []*bench.Entry{
		{Name: "bare", At: port.Address{Where: "/dev/a"}},
		{Name: "own", At: port.Address{Where: "/dev/b"}, Own: phrasebook.Setup{Speed: 4800, Ending: phrasebook.LF}},
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
		s, err := (&Ports{Bench: b, Over: c.over}).Station(c.port, c.header, c.book)
		if err != nil || s.Setup.Words() != c.want {
			t.Errorf("%s: %v, %v, want %s", c.port, s, err, c.want)
		}
	}
	for name, want := range map[string]string{"won": `Did you mean "own"?`, "serial:none": "no port has the address"} {
		if _, err := (&Ports{Bench: b}).Station(name, header, nil); err == nil || !strings.Contains(err.Error(), want) {
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
	b := &bench.Bench{File: "b.toml", Ports: []*bench.Entry{{Name: "a", At: port.Address{Where: "/dev/a"}}, {Name: "x", At: port.Address{Where: "/dev/x"}}}}
	for _, c := range []struct {
		proc  *procedure.File
		bench *bench.Bench
		where map[string]string
		want  string // addresses, or the error
	}{
		{one, nil, map[string]string{"a": "/dev/x"}, "/dev/x"},
		{one, b, nil, "/dev/a"},
		{one, b, map[string]string{"a": "x"}, "/dev/x"},
		{two, b, map[string]string{"b": "x"}, "/dev/a /dev/x"},
		{two, b, nil, "say which it is with --port b=NAME"},
		{two, b, map[string]string{"b": "a"}, "are both at /dev/a"},
		{one, nil, nil, "--port a=ADDRESS"},
	} {
		s, err := (&Procedure{File: c.proc, Ports: &Ports{Bench: c.bench}, At: c.where}).stations(t.Context())
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			var all []string
			for _, p := range c.proc.Ports {
				all = append(all, s[p.Name].Address.String())
			}
			got = strings.Join(all, " ")
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%v: %s, want %s", c.where, got, c.want)
		}
	}
}

// A kept file takes a name that is free, and is never written over.
func TestKeepFile(t *testing.T) {
	dir := t.TempDir()
	var names []string
	for _, text := range []string{"one", "two", "three"} {
		path, err := keepFile(dir, "boot.log", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(path)
		if err != nil || string(got) != text {
			t.Errorf("%s: %q, %v", path, got, err)
		}
		names = append(names, filepath.Base(path))
	}
	if got := strings.Join(names, " "); got != "boot.log boot-2.log boot-3.log" {
		t.Error(got)
	}
	if _, err := keepFile(filepath.Join(dir, "none"), "x", nil); err == nil {
		t.Error("wrote into a folder that is not there")
	}
}

// What is to be repeated is what did not pass last, and what is not in the record.
func TestNotPassed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "r")
	w, err := record.Create(path, record.Origin{Tool: "test"})
	if err != nil {
		t.Fatal(err)
	}
	w.Event(record.Event{Kind: record.Begin, Text: "T", Value: map[string]any{}})
	for _, e := range [][2]string{{"a", ""}, {"a", "failed"}, {"a", "passed"}, {"b", "failed"}, {"c", "untested"}, {"d", "passed"}, {"e", "skipped"}, {"f", "broken"}} {
		w.Event(record.Event{Kind: record.Step, Step: e[0], Verdict: verdict.Verdict(e[1])})
	}
	w.Event(record.Event{Kind: record.Step, Step: "h", Verdict: verdict.Skipped, Why: "left out"}) // as records of before have it
	w.Event(record.Event{Kind: record.Step, Step: "i", Verdict: verdict.Skipped, Why: "in other words", Data: []byte(`{"left_out":true}`)})
	w.Event(record.Event{Kind: record.Step, Step: "j", Verdict: verdict.Skipped, Why: "left out", Data: []byte(`{"left_out":false}`)})
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	steps := func(titles string) *procedure.File {
		f := &procedure.File{Title: "T"}
		for _, title := range strings.Split(titles, "") {
			f.Steps = append(f.Steps, &procedure.Step{Title: title})
		}
		return f
	}
	notPassed := func(file *procedure.File) (map[string]bool, error) {
		r, err := ReadEarlier(path, file)
		if err != nil {
			t.Fatal(err)
		}
		return r.NotPassed(file)
	}
	got, err := notPassed(steps("abcdefghij"))
	if err != nil || fmt.Sprint(got) != "map[b:true c:true f:true g:true h:true i:true]" {
		t.Errorf("%v, %v", got, err)
	}
	if _, err := notPassed(steps("ad")); err == nil || !strings.Contains(err.Error(), "every step has passed") {
		t.Errorf("%v", err)
	}
	if _, err := ReadEarlier(path+"x", steps("a")); err == nil {
		t.Error("took a record that is not there")
	}
}

// Values come from a file and the command line, which goes before it; secrets from
// a file or the environment.
func TestValues(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	proc, err := procedure.Parse("p", "procedure \"P\"\nport a\ninput n: int 1..9 \"how many\"\ninput s = x\nsecret code\nstep \"s\"\n say: {n}{s}{code}\nend\n")
	if err != nil {
		t.Fatal(err)
	}
	file := write("v.toml", "n = 3\ns = \"from file\"\n")
	for _, c := range []struct {
		given Inputs
		want  string
	}{
		{Inputs{Set: []string{"n=4"}}, "map[n:4 s:x]"},
		{Inputs{File: file}, "map[n:3 s:from file]"},
		{Inputs{File: file, Set: []string{"n=5"}}, "map[n:5 s:from file]"},
		{Inputs{}, "--set n=...  (how many)"},
		{Inputs{Set: []string{"n=12"}}, "--set n=12: 12 is outside 1..9 for n"},
		{Inputs{Set: []string{"m=1"}}, `no input "m"`},
		{Inputs{Set: []string{"n"}}, "wanted NAME=VALUE"},
		{Inputs{File: write("bad.toml", "n = \n")}, "bad.toml:1"},
		{Inputs{File: filepath.Join(dir, "none")}, "--set-file"},
	} {
		values, err := c.given.Values(proc)
		got := fmt.Sprint(values)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%+v: %s, want %s", c.given, got, c.want)
		}
	}
	secret := write("code.txt", "snow line\r\n")
	for _, c := range []struct {
		files []string
		env   string
		want  string
	}{
		{[]string{"code=" + secret}, "", "snow line"},
		{nil, "from outside", "from outside"},
		{[]string{"code=" + secret}, "from outside", "snow line"}, // the nearer one
		{nil, "", "UPARROT_CODE"},
		{[]string{"code"}, "", "wanted NAME=FILE"},
		{[]string{"cod=" + secret, "code=" + secret}, "", `no secret "cod"`},
		{[]string{"code=" + filepath.Join(dir, "none")}, "", "read the secret code"},
	} {
		t.Setenv("UPARROT_CODE", c.env)
		values := map[string]any{}
		err := Secrets{Files: c.files}.Into(values, proc)
		got := fmt.Sprint(values["code"])
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%v, %q: %s, want %s", c.files, c.env, got, c.want)
		}
	}
	// A file of a secret that is empty is a mistake: nobody is asked in its place.
	empty := filepath.Join(dir, "empty")
	if err := os.WriteFile(empty, []byte("\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	asked := false
	err = Secrets{Files: []string{"key=" + empty}, Ask: func(*procedure.Secret) (string, error) { asked = true; return "x", nil }}.
		Into(map[string]any{}, &procedure.File{Secrets: []*procedure.Secret{{Name: "key"}}})
	if err == nil || asked {
		t.Errorf("an empty file of a secret: %v, asked %v", err, asked)
	}
}

// A choice of steps that lacks a value is refused before any port is opened.
func TestStepsThatNeedOthers(t *testing.T) {
	const text = `procedure "Needs"
port gates: dialect lines
let base = 1
step "read"
    say: who
    hear: redshank board {board:int}
    let base = 2
end
step "compare"
    check board + base > 0
end
step "alone"
    check base > 0
end
`
	file, err := procedure.Parse("needs.parrot", text)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		chosen []string
		want   string
	}{
		{[]string{"compare"}, `step "compare" needs board, which step "read" gives`},
		{[]string{"read", "compare"}, ""},
		{[]string{"alone"}, ""},
	} {
		chosen := map[string]bool{}
		for _, title := range c.chosen {
			chosen[title] = true
		}
		if _, err := (&Procedure{File: file, Chosen: chosen}).complete(nil); (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v: %v, want %q", c.chosen, err, c.want)
		}
	}
}
