//go:build linux

// Package hostile drives the built program against files, servers and modules that mean
// harm, over its commands and forms. Whatever they hold or do: the program ends, soon
// after it is told to, with a status of its own, within bounded memory, and nothing of
// theirs steers the terminal or stands in a report as it is.
package hostile

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
	"unicode"

	"uparrot/examples"
	"uparrot/tests/program"
)

var uparrot string // the program

func TestMain(m *testing.M) {
	program.Main(m, &uparrot)
}

// mostMemory bounds the address space of the program, in KiB: its own needs are large on
// paper, and what grows without end meets it soon.
const mostMemory = 4 << 20

// trial is one run of the program.
type trial struct {
	name   string
	dir    string
	args   []string
	stop   time.Duration // Ctrl-C then; 0 waits for the end
	report bool          // afterwards reports are made of the record
}

// hold runs trials, some at a time, and holds each against what must be so in any case.
func hold(t *testing.T, trials []trial) {
	t.Helper()
	if len(trials) < 100 {
		t.Errorf("only %d rows", len(trials))
	}
	slots := make(chan struct{}, 6)
	var all sync.WaitGroup
	for _, one := range trials {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			one.check(t)
		})
	}
	all.Wait()
}

func (one trial) check(t *testing.T) {
	out := one.once(t, one.args, one.stop)
	if clean(t, one.name, out); len(out) > 8<<20 {
		t.Errorf("%s: it wrote %d bytes", one.name, len(out))
	}
	if !one.report {
		return
	}
	record := filepath.Join(one.dir, "t.record")
	if _, err := os.Stat(record); err != nil {
		return // it did not come so far
	}
	for _, form := range []string{"text", "markdown", "html", "csv", "junit", "hex", "pcapng"} {
		file := filepath.Join(one.dir, "out."+form)
		clean(t, one.name+" report", one.once(t, []string{"report", record, "--as", form, "--out", file}, 0))
		text, err := os.ReadFile(file)
		if err != nil && form != "csv" { // which may have no rows
			t.Errorf("%s: no report as %s", one.name, form)
		} else if form != "pcapng" {
			clean(t, one.name+" as "+form, text)
			if form == "html" && bytes.Contains(text, []byte("<script>alert")) {
				t.Errorf("%s: its script stands in the page", one.name)
			}
		}
	}
	clean(t, one.name+" verify", one.once(t, []string{"report", record, "--verify"}, 0))
	clean(t, one.name+" learn", one.once(t, []string{"learn", record}, 0))
}

// once runs the program and returns all that it wrote.
func (one trial) once(t *testing.T, args []string, stop time.Duration) []byte {
	words := append([]string{"-c", fmt.Sprintf(`ulimit -v %d; exec "$0" "$@"`, mostMemory), uparrot}, args...)
	cmd := exec.Command("sh", words...)
	cmd.Dir = one.dir
	cmd.Env = append(os.Environ(), "UPARROT_CODE=frost-and-rime")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Error(err)
		return nil
	}
	if stop > 0 {
		timer := time.AfterFunc(stop, func() { cmd.Process.Signal(syscall.SIGINT) })
		defer timer.Stop()
	}
	late := time.AfterFunc(60*time.Second, func() { cmd.Process.Kill() })
	cmd.Wait()
	if !late.Stop() {
		t.Errorf("%s: %v did not come to an end", one.name, args)
	}
	early := stop > 0 && out.Len() == 0 // told to stop before it had begun
	if status := cmd.ProcessState.ExitCode(); status < 0 && !early || status > 5 && status != 130 {
		t.Errorf("%s: %v ended with %d:\n%.2000s", one.name, args, status, out.Bytes())
	}
	return out.Bytes()
}

var colours = regexp.MustCompile("\x1b\\[[0-9;]*m")

// clean holds what the program wrote against what may never stand in it.
func clean(t *testing.T, name string, out []byte) {
	for _, word := range []string{"goroutine ", "fatal error", "panic:", "frost-and-rime"} {
		if bytes.Contains(out, []byte(word)) {
			t.Errorf("%s: %q stands in\n%.3000s", name, word, out)
		}
	}
	for _, r := range string(colours.ReplaceAll(out, nil)) {
		if r < ' ' && r != '\n' && r != '\r' && r != '\t' || r == 0x7f || unicode.Is(unicode.Cf, r) {
			t.Errorf("%s: %q stands in\n%.1000q", name, r, out)
			return
		}
	}
}

// bench is a folder with the examples, and some files besides.
func bench(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	names, err := examples.Files.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		text, err := examples.Files.ReadFile(n.Name())
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, n.Name()), text, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// harm is text that would steer a terminal, run in a page or be a formula.
const harm = "\x1b]0;owned\x07\x1b[2J</script><script>alert(1)</script>=cmd()|\u202eabc\u061c\u200b\U000e0041`$(id)`"

// TestFiles gives files that mean harm to every command that reads files.
func TestFiles(t *testing.T) {
	t.Parallel()
	head := "procedure \"P\"\nport dev: dialect lines\nsecret code\n"
	files := map[string]string{
		"empty":        "",
		"zeros":        strings.Repeat("\x00", 100_000),
		"noise":        strings.Repeat("\xff\xfe\x80\x1b[", 20_000),
		"harm":         harm,
		"long line":    strings.Repeat("x", 3<<20),
		"many lines":   strings.Repeat("x\n", 300_000),
		"parentheses":  head + "step \"a\"\n check " + strings.Repeat("(", 1<<20) + "\nend\n",
		"negations":    head + "step \"a\"\n check " + strings.Repeat("!", 15_000) + "true\nend\n",
		"nested":       head + "step \"a\"\n" + strings.Repeat(" if 1 == 1\n", 20_000),
		"doubling":     head + "let a0 = \"" + strings.Repeat("a", 30) + "\"\n" + doubling(40) + "step \"a\"\n say dev: {a40}\nend\n",
		"warnings":     head + "step \"a\"\n" + strings.Repeat(" hear dev: {v} "+strings.Repeat("y", 300)+"\n", 20_000) + "end\n",
		"device":       head + "include \"/dev/zero\"\n",
		"itself":       head + "include \"itself\"\n",
		"of a pipe":    strings.ReplaceAll(head, "lines", "lines, phrasebook \"silent pipe\"") + "include \"silent pipe\"\nstep \"a\"\n say dev: x\nend\n",
		"harmful step": head + "step \"" + strings.ReplaceAll(harm, "\"", "'") + "\"\n say dev: x\nend\n",
		"toml deep":    "family = \"x\"\nx = " + strings.Repeat("[", 200_000) + "\n",
		"toml wide":    "[port.a]\n" + strings.Repeat("speed = 9600\n", 50_000),
		"toml keys":    "[a" + strings.Repeat(".a", 100_000) + "]\n",
		"toml harm":    "[port.\"x\\u001b[2J\\u202e\"]\nat = \"/dev/none\\u001b[2J\"\nfamily = \"\\u202e\"\n",
		"record harm":  `{"t":"2026-11-02T07:30:00Z","kind":"record","data":{"version":3,"tool":"\u001b[2J\u202e","unit":"<script>alert(1)</script>","run":"\u001b"}}` + "\n" + `{"t":"2026-11-02T07:30:00Z","kind":"step","step":"\u001b[2J","verdict":"passed"}` + "\n",
		"record kinds": `{"t":"2026-11-02T07:30:00Z","kind":"record","data":{"version":3}}` + "\n" + `{"t":"0000-00-00","kind":"boo"}` + "\n",
		"record long":  `{"t":"2026-11-02T07:30:00Z","kind":"record","data":{"version":3}}` + "\n" + `{"t":"2026-11-02T07:30:00Z","kind":"in","port":"p","text":"` + strings.Repeat("\\u001b", 1<<19) + `"}` + "\n",
		"json deep":    strings.Repeat("[", 1<<20),
		"ledger":       "SQLite format 3\x00" + strings.Repeat("\xff", 5000),
	}
	dir := bench(t, files)
	for _, pipe := range []string{"pipe", "silent pipe"} {
		if err := syscall.Mkfifo(filepath.Join(dir, pipe), 0o600); err != nil {
			t.Fatal(err)
		}
		files[pipe] = ""
	}
	writer, err := os.OpenFile(filepath.Join(dir, "silent pipe"), os.O_RDWR, 0) // that never writes
	if err != nil {
		t.Fatal(err)
	}
	defer writer.Close()
	var trials []trial
	for name := range files {
		for _, args := range [][]string{
			{"check", name}, {"tidy", name}, {"run", name, "--port", "tcp://127.0.0.1:1", "--no-ledger"}, {"run", "commission.parrot", "--bench", name, "--no-ledger"},
			{"standin", name}, {"report", name}, {"report", name, "--verify"}, {"learn", name}, {"link", "compare", name, name},
			{"results", "show", "last", "--ledger", name}, {"results", "add", name, "--ledger", "l.sqlite"}, {"ports", "--bench", name},
		} {
			one := trial{name: name + ": " + strings.Join(args, " "), dir: dir, args: args}
			if args[0] == "standin" || name == "silent pipe" { // it would go on
				one.stop = 1500 * time.Millisecond
			}
			trials = append(trials, one)
		}
	}
	hold(t, trials)
}

func doubling(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "let a%d = a%d + a%d\n", i+1, i, i)
	}
	return b.String()
}
