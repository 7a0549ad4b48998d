// Package tests drives the built program from outside, as a person would: on
// files in a temporary folder, with stand-ins on real pseudo-terminals.
package tests

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/examples"
	"uparrot/tests/loopback"
	"uparrot/tests/program"
)

var uparrot string // the program

func TestMain(m *testing.M) {
	program.Main(m, &uparrot)
}

// bench is a folder with the examples and, once started, their stand-ins.
type bench struct {
	t   testing.TB
	dir string
}

func newBench(t testing.TB) *bench {
	t.Helper()
	b := &bench{t, t.TempDir()}
	names, err := examples.Files.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		text, err := examples.Files.ReadFile(n.Name())
		if err != nil {
			t.Fatal(err)
		}
		b.write(n.Name(), string(text))
	}
	return b
}

func (b *bench) write(name, text string) {
	b.t.Helper()
	if err := os.WriteFile(filepath.Join(b.dir, name), []byte(text), 0o600); err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) read(name string) string {
	b.t.Helper()
	text, err := os.ReadFile(filepath.Join(b.dir, name))
	if err != nil {
		b.t.Fatal(err)
	}
	return string(text)
}

// holding are the files of the bench that hold a text, but for some.
func (b *bench) holding(text string, but ...string) (files []string) {
	b.t.Helper()
	err := filepath.WalkDir(b.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || slices.Contains(but, e.Name()) {
			return err
		}
		content, err := os.ReadFile(path)
		if bytes.Contains(content, []byte(text)) {
			files = append(files, path)
		}
		return err
	})
	if err != nil {
		b.t.Fatal(err)
	}
	return files
}

// call is one run of the program.
type call struct {
	status   int
	out, err string
}

func (b *bench) command(args ...string) (*exec.Cmd, *bytes.Buffer, *bytes.Buffer) {
	cmd := exec.Command(uparrot, args...)
	cmd.Dir = b.dir
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &err
	return cmd, &out, &err
}

func (b *bench) run(args ...string) call {
	b.t.Helper()
	cmd, out, err := b.command(args...)
	return call{b.status(cmd.Run()), out.String(), err.String()}
}

func (b *bench) status(err error) int {
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		return exit.ExitCode()
	}
	if err != nil {
		b.t.Fatal(err)
	}
	return 0
}

// wants fails unless a run ended with a status.
func (c call) wants(t testing.TB, status int, words ...string) call {
	t.Helper()
	all := c.out + c.err
	if c.status != status {
		t.Fatalf("ended with %d, want %d:\n%s", c.status, status, all)
	}
	flat := strings.Join(strings.Fields(c.err), " ") // messages are folded
	for _, w := range words {
		if !strings.Contains(all, w) && !strings.Contains(flat, w) {
			t.Errorf("missing %q in:\n%s", w, all)
		}
	}
	return c
}

// start starts the program and waits until it has printed some words on stdout.
func (b *bench) start(until string, args ...string) *exec.Cmd {
	b.t.Helper()
	cmd := exec.Command(uparrot, args...)
	cmd.Dir = b.dir
	out, err := cmd.StdoutPipe()
	if err != nil {
		b.t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	var seen []byte
	buf := make([]byte, 1000)
	for !bytes.Contains(seen, []byte(until)) {
		n, err := out.Read(buf)
		seen = append(seen, buf[:n]...)
		if err != nil {
			b.t.Fatalf("uparrot %v: %v after %s", args, err, seen)
		}
	}
	return cmd
}

// standins starts the stand-ins and gives both radios their addresses.
func (b *bench) standins(args ...string) *exec.Cmd {
	b.t.Helper()
	file := "larkfell.toml"
	if len(args) == 2 && args[0] == "--dir" {
		file = args[1] + "/bench.toml"
	}
	cmd := b.start("for other commands", append([]string{"standin", "larkfell.toml"}, args...)...)
	for i, name := range []string{"valley", "summit"} {
		b.run("run", "commission.parrot", "--bench", file, "--port", name, "--set", fmt.Sprintf("address=%d", i+1), "--quiet").wants(b.t, 0)
	}
	return cmd
}

func TestDemo(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	next := ""
	for range 2 { // a second run into the same folder works
		next = b.run("demo", "--dir", "out").wants(t, 0, "all 7 steps", "all 4 steps", "valley to summit", "summit to valley", "Try next").out
	}
	for _, f := range []string{"commission.parrot", "larkfell.toml", "dunlin.toml", "link.record", "frames.csv", "link-time.png", "link-distribution.png", "link-strength.png", "truth.json"} {
		if len(b.read("out/"+f)) < 100 {
			t.Errorf("%s is missing or empty", f)
		}
	}
	if _, err := os.Stat(filepath.Join(b.dir, "out/larkfell.ports")); err == nil {
		t.Error("the links to the ports were left behind")
	}
	b.write("out/mine.txt", "keep")
	b.run("demo", "--dir", "out").wants(t, 2, "mine.txt", "Example: uparrot demo")
	_, next, _ = strings.Cut(next, "Try next")
	b.typed("out", regexp.MustCompile(`(?m)^  (uparrot .*)$`).FindAllStringSubmatch(next, -1), 6)
	readme, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	b.typed("out", regexp.MustCompile(`(?m)^    \$ (uparrot .*)$`).FindAllStringSubmatch(string(readme), -1), 12)
}

// typed types lines that the README or the demo shows, in a folder, in their order.
func (b *bench) typed(folder string, lines [][]string, least int) {
	b.t.Helper()
	own := &bench{b.t, filepath.Join(b.dir, folder)}
	var standin *exec.Cmd
	typed := 0
	for _, m := range lines {
		line, _, _ := strings.Cut(m[1], "  #")
		args := shellWords(strings.TrimPrefix(strings.TrimSpace(line), "uparrot "))
		want := 0
		switch {
		case args[0] == "standin": // it runs on: the one before has served
			if standin != nil {
				stop(b.t, standin)
			}
			standin = own.start("for other commands", args...)
			typed++
			continue
		case args[0] == "watch": // a person ends it
			stop(b.t, standin)
			standin = own.start("for other commands", "standin", "workshop.toml")
			args = append(args, "--for", "3s")
		case args[0] == "rehearse": // that one is weak
			want = 1
		case strings.Contains(line, "results trend"):
			args = append(args, "--ledger", "evidence/ledger.sqlite")
		case args[0] == "link":
			args = append(args, "--count", "100", "--every", "50ms")
		}
		typed++
		if c := own.run(args...); c.status != want && !(args[0] == "link" && c.status == 4) { // a hundred frames may not decide it
			b.t.Errorf("%s: status %d: %s%s", line, c.status, c.out, c.err)
		}
	}
	if standin != nil {
		stop(b.t, standin)
	}
	if typed < least {
		b.t.Errorf("only %d commands were typed", typed)
	}
}

// shellWords cuts a call at blanks outside double quotes.
func shellWords(line string) (words []string) {
	for _, m := range regexp.MustCompile(`"([^"]*)"|(\S+)`).FindAllStringSubmatch(line, -1) {
		words = append(words, m[1]+m[2])
	}
	return words
}

// stop ends a program that was started, as Ctrl-C does.
func stop(t testing.TB, cmd *exec.Cmd) {
	t.Helper()
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait() // whoever started it waits too
}

// link is what a test reads out of a summary.
type summary struct {
	Verdict    string
	Directions []struct {
		From, To                                                            string
		Sent, Received, Lost, Late, Duplicated, Reordered, Damaged, Foreign int
		Loss                                                                map[string]float64
		LatencyMS                                                           struct{ Min, Median, P90, Max record.Number } `json:"latency_ms"`
		Verdict                                                             string
	}
}

// The counts of a link test over real pseudo-terminals are the air's truth.
func TestLinkAgainstTruth(t *testing.T) {
	t.Parallel()
	for _, seed := range []int{1, 2, 3} {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			air, _, _ := strings.Cut(b.read("larkfell.toml"), "[air]")
			b.write("larkfell.toml", air+fmt.Sprintf("[air]\nseed = %d\nloss = \"4%%\"\ndamage = 0.04\nduplicate = 0.04\nreorder = 0.04\ndelay = \"20ms\"\nspread = \"10ms\"\n", seed))
			standin := b.standins("--truth", "truth.json")
			c := b.run("link", "test", "valley", "summit", "--bench", "larkfell.toml", "--count", "150", "--every", "30ms", "--both", "--json", "--frames", "f.csv", "--record", "r.jsonl").wants(t, 0)
			standin.Process.Signal(os.Interrupt)
			if err := standin.Wait(); err != nil {
				t.Error(err)
			}
			var s summary
			var truth struct {
				Complete   bool
				Directions []struct {
					From, To                                      string
					Carried, Lost, Duplicated, Reordered, Damaged int
				}
			}
			for text, into := range map[string]any{c.out: &s, b.read("truth.json"): &truth} {
				if err := json.Unmarshal([]byte(text), into); err != nil {
					t.Fatal(err)
				}
			}
			if !truth.Complete || len(s.Directions) != 2 {
				t.Errorf("%+v\n%+v", truth, s)
			}
			for _, d := range s.Directions {
				for _, tr := range truth.Directions {
					if tr.From != d.From {
						continue
					}
					got := [...]int{d.Received, d.Lost, d.Duplicated, d.Reordered, d.Damaged, d.Foreign}
					if want := [...]int{tr.Carried, tr.Lost, tr.Duplicated, tr.Reordered, tr.Damaged, 0}; got != want {
						t.Errorf("%s: %v, want %v", d.From, got, want)
					}
				}
				if l := d.LatencyMS; l.Min < 20 || l.Median < l.Min || l.P90 < l.Median {
					t.Errorf("latencies are %+v", l)
				}
			}
			if rows := strings.Count(b.read("f.csv"), "\n"); rows != 301 {
				t.Errorf("%d rows of frames, want 301", rows)
			}
			if n := events(t, b.read("r.jsonl"))["link"]; n != 1 {
				t.Errorf("%d summaries in the record", n)
			}
			if left, _ := filepath.Glob(filepath.Join(b.dir, "larkfell.ports*")); left != nil {
				t.Errorf("left behind: %v", left)
			}
		})
	}
}

// events counts the kinds of event in a record and fails if it cannot be read.
func events(t *testing.T, text string) map[string]int {
	t.Helper()
	n := map[string]int{}
	if _, err := record.Read(strings.NewReader(text), func(e record.Event) error { n[string(e.Kind)]++; return nil }); err != nil {
		t.Error(err)
	}
	return n
}

// Output that nobody reads any more stops no run: a module must not be left changed.
func TestClosedPipe(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.standins()
	b.write("long.parrot", `procedure "Long"
port valley: dialect at, ending cr, phrasebook "dunlin.toml"
step "changed"
    say: AT~GROUP=9
    pause 700ms
end
step "looked at"
    say: AT~GROUP?
    hear: ~GROUP: 9
end
step "put back" always
    say: AT~GROUP=7
    say: AT~GROUP?
    hear: ~GROUP: 7
end
`)
	for _, more := range [][]string{nil, {"--json"}} {
		cmd, _, _ := b.command(append([]string{"run", "long.parrot", "--bench", "larkfell.toml", "--record", "long.record", "--no-ledger"}, more...)...)
		cmd.Stdout, cmd.Stderr = nil, nil
		var sides [2]io.ReadCloser
		var err error
		if sides[0], err = cmd.StdoutPipe(); err != nil {
			t.Fatal(err)
		}
		if sides[1], err = cmd.StderrPipe(); err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if _, err := io.ReadFull(sides[1], make([]byte, 4)); err != nil {
			t.Fatal(err)
		}
		for _, s := range sides {
			s.Close()
		}
		if status := b.status(cmd.Wait()); status != 0 {
			t.Errorf("%v: ended with %d", more, status)
		}
		b.run("report", "long.record", "--verify").wants(t, 0, "whole")
		b.run("report", "long.record", "--as", "text").wants(t, 0, "all 3 steps passed")
		if err := os.Remove(filepath.Join(b.dir, "long.record")); err != nil {
			t.Fatal(err)
		}
	}
}

func TestVerdictsAndStatus(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.standins("--dir", "here")
	at := []string{"--bench", "here/bench.toml"}
	link := func(more ...string) call {
		return b.run(append(append([]string{"link", "test", "valley", "summit", "--quiet", "--every", "20ms", "--deadline", "2s"}, at...), more...)...)
	}
	if _, err := os.Stat("/dev/full"); err == nil {
		link("--count", "2", "--frames", "/dev/full").wants(t, 5, "write the frames", "no space left")
		link("--count", "2", "--record", "/dev/full").wants(t, 5, "the record is not complete", "no space left")
	}
	link("--count", "2", "--frames", "none/f.csv").wants(t, 2, "there is no folder none")
	// Plain lines leave rubbish in the radio's input; the next test copes.
	b.write("plain.toml", "family = \"Plain\"\n")
	link("--count", "3", "--phrasebook", "plain.toml").wants(t, 1, "nothing arrived")
	link("--count", "5", "--max-loss", "2%").wants(t, 4, "undecided", "about 190 frames in all would tell", "5 frames cannot show a loss of at most 2.00 %: with none lost it takes 189")
	link("--count", "20", "--max-p95", "10ms").wants(t, 1, "took longer than 10 ms", "breaks the limit of 5 %")
	link("--count", "80", "--max-loss", "90%", "--max-p95", "1s").wants(t, 0, "keeps the limit")
	b.write("fail.parrot", `procedure "Fails"
port radio: dialect at, ending cr, phrasebook "dunlin.toml"
input big: int = 70000
step "refused"
    say: AT~NODE={big}
end
step "not reached"
    say: AT
end
step "put back" always
    say: AT~GROUP=7
end
`)
	c := b.run(append([]string{"run", "fail.parrot", "--port", "valley", "--record", "r.jsonl"}, at...)...)
	c.wants(t, 1, "~REFUSED: 32", "the value is out of range", "line 5", "untested", "AT~GROUP=7", "1 of 3 steps passed")
	if n := events(t, b.read("r.jsonl")); n["step"] != 5 || n["verdict"] != 1 || n["in"] == 0 || n["out"] == 0 {
		t.Errorf("the record holds %v", n)
	}
	var res struct {
		Verdict string
		Steps   []struct{ Title, Verdict, Why string }
	}
	if err := json.Unmarshal([]byte(b.run(append([]string{"run", "fail.parrot", "--port", "valley", "--json", "--quiet"}, at...)...).out), &res); err != nil || res.Verdict != "failed" || res.Steps[1].Verdict != "untested" || res.Steps[2].Verdict != "passed" {
		t.Errorf("%+v, %v", res, err)
	}
}

func TestWrongUse(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("bad.parrot", "procedure \"Bad\"\nport radio\nstep \"x\"\n\tsya radio: AT\nend\n")
	b.write("secret.parrot", "procedure \"Secret\"\nport radio\nsecret key\nstep \"x\"\n    say: AT {key}\nend\n")
	run := []string{"run", "commission.parrot", "--bench", "larkfell.toml", "--port", "valley"}
	test := []string{"link", "test", "valley", "summit", "--bench", "larkfell.toml"}
	for _, c := range []struct {
		args   []string
		status int
		words  string
	}{
		{[]string{"demos"}, 2, `Did you mean "demo"`},
		{[]string{"check"}, 2, "takes one or more files|Example: uparrot check"},
		{[]string{"check", "commission.parrot", "greeting.parrot", "larkfell.toml", "dunlin.toml"}, 0, "no mistakes"},
		{[]string{"check", "bad.parrot"}, 2, "bad.parrot:4:2: unknown word \"sya\"|\t^^^|Did you mean \"say\"?"},
		{[]string{"check", "none.parrot"}, 2, "none.parrot"},
		{[]string{"check", "--json", "bad.parrot"}, 2, `"line": 4|"column": 2`},
		{[]string{"run"}, 2, "takes one procedure|Example: uparrot run"},
		{[]string{"run", "bad.parrot"}, 2, "unknown word"},
		{[]string{"run", "secret.parrot", "--port", "/dev/x"}, 2, "UPARROT_KEY"},
		{run, 2, "--set address=...  (the address printed on the lid)"},
		{append(run, "--set", "addres=3"), 2, `Did you mean "address"`},
		{append(run, "--set", "address"), 2, "wanted NAME=VALUE"},
		{append(run, "--set", "address=0"), 2, "0 is outside 1..65534"},
		{append(run, "--set", "address=x"), 2, "whole number"},
		{append(run, "--set", "address=1"), 3, "uparrot standin larkfell.toml"},
		{append(run, "--sett", "address=1"), 2, `no flag --sett. Did you mean "--set"?`},
		{append(run, "--set", "address=1", "--port", "antenna=valley"), 2, `no port "antenna"`},
		{[]string{"run", "commission.parrot", "--set", "address=1"}, 2, "--port radio=ADDRESS"},
		{[]string{"run", "commission.parrot", "--set", "address=1", "--bench", "larkfell.toml"}, 2, "On the bench: summit, valley"},
		{[]string{"run", "commission.parrot", "--set", "address=1", "--port", "/dev/nothing"}, 3, "there is no such port"},
		{[]string{"run", "commission.parrot", "--set", "address=1", "--port", "/dev/null"}, 3, "not a serial port"},
		{[]string{"run", "commission.parrot", "--set", "address=1", "--bench", "none.toml"}, 2, "none.toml"},
		{[]string{"link", "tset"}, 2, `Did you mean "test"?`},
		{[]string{"link", "test", "a", "b", "c"}, 2, "takes one or two ports"},
		{[]string{"link", "test", "valley", "valley", "--bench", "larkfell.toml"}, 2, "a link has two"},
		{[]string{"link", "test", "valley", "sumit", "--bench", "larkfell.toml"}, 3, "not running"},
		{[]string{"link", "test", "a", "b"}, 2, "no address"},
		{append(test, "--count", "x"), 2, `--count: "x" is not a whole number|Example: uparrot link test`},
		{append(test, "--every", "5"), 2, "a time such as 500ms"},
		{append(test, "--max-loss", "200"), 2, "not a percentage"},
		{append(test, "--speed", "-1"), 2, "outside"},
		{append(test, "--frame", "9N1"), 2, "invalid frame"},
		{[]string{"standin", "none.toml"}, 2, "none.toml"},
		{[]string{"standin", "plover.toml"}, 2, "dialect bytes makes no stand-in"},
		{[]string{"--version"}, 0, "uparrot 0.1.0, commit "},
	} {
		got := b.run(c.args...).wants(t, c.status, strings.Split(c.words, "|")...)
		if strings.Contains(got.err, "panic") || strings.Contains(got.err, "goroutine") {
			t.Errorf("%v: %s", c.args, got.err)
		}
	}
}

// A port is for one program at a time, and one that vanishes is told of.
func TestHeldAndVanished(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	standin := b.standins()
	b.run("standin", "larkfell.toml").wants(t, 3, "running already")
	cmd, _, errOut := b.command("link", "test", "valley", "summit", "--bench", "larkfell.toml", "--count", "10000", "--record", "r.jsonl")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	b.waitFor("r.jsonl", `"kind":"in"`)
	b.run("run", "commission.parrot", "--bench", "larkfell.toml", "--port", "valley", "--set", "address=1").wants(t, 3, "it is held by uparrot (process "+fmt.Sprint(cmd.Process.Pid))
	standin.Process.Kill()
	if status := b.status(cmd.Wait()); status != 3 || !strings.Contains(errOut.String(), "vanished while in use") {
		t.Errorf("ended with %d: %s", status, errOut)
	}
	if n := events(t, b.read("r.jsonl")); n["link"] != 1 {
		t.Errorf("the record holds %v", n)
	}
	// A killed bench can be started again in the same place.
	again := b.start("for other commands", "standin", "larkfell.toml")
	again.Process.Signal(syscall.SIGTERM)
	if err := again.Wait(); err != nil {
		t.Error(err)
	}
	if left, _ := filepath.Glob(filepath.Join(b.dir, "larkfell.ports*")); left != nil {
		t.Errorf("left behind: %v", left)
	}
}

// waitFor waits until a file that a program is writing holds some text.
func (b *bench) waitFor(name, text string) {
	b.t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if got, err := os.ReadFile(filepath.Join(b.dir, name)); err == nil && strings.Contains(string(got), text) {
			return
		}
	}
	b.t.Fatalf("%s never came to hold %s", name, text)
}

// Ctrl-C and a kill both leave a record that reads; Ctrl-C also runs the steps
// that must run in any case.
func TestInterrupted(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.standins()
	b.write("long.parrot", `procedure "Long"
port radio: dialect at, ending cr
step "waits"
    say: AT
    pause 1h
end
step "never"
    say: AT
end
step "log out" always
    say: AT~GROUP=9
end
`)
	for _, c := range []struct {
		signal os.Signal
		status int
		kinds  string
	}{{os.Interrupt, 130, "verdict"}, {syscall.SIGTERM, 130, "verdict"}, {os.Kill, -1, "step"}} {
		cmd, _, errOut := b.command("run", "long.parrot", "--bench", "larkfell.toml", "--port", "valley", "--record", "r.jsonl")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		b.waitFor("r.jsonl", "OK")
		began := time.Now()
		cmd.Process.Signal(c.signal)
		status := b.status(cmd.Wait())
		if status != c.status || time.Since(began) > 5*time.Second {
			t.Errorf("%v: ended with %d after %v: %s", c.signal, status, time.Since(began), errOut)
		}
		text := b.read("r.jsonl")
		if events(t, text)[c.kinds] == 0 || c.status == 130 && !strings.Contains(text, "AT~GROUP=9") {
			t.Errorf("%v: the record is\n%s", c.signal, text)
		}
		os.Remove(filepath.Join(b.dir, "r.jsonl"))
	}
}

// A secret is in nothing that the program prints or writes.
func TestSecretIsNowhere(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.standins()
	b.write("secret.parrot", `procedure "Secret"
port radio: dialect at, ending cr
secret key
step "echoed, refused, checked"
    say: ATE1
    say: AT~NAME="{key}"
    say: AT~NAME?
    hear: ~NAME: {name:quoted}
    check name == key
    check len(key) == 3 "on purpose"
end
step "refused" always
    say: AT~{key}
end
step "missed" always
    say: AT~NAME?
    hear within 100ms: never {=key}
end
`)
	const secret = "gr4nite-key"
	for _, args := range [][]string{{}, {"--json"}} {
		cmd, out, errOut := b.command(append([]string{"run", "secret.parrot", "--bench", "larkfell.toml", "--port", "valley", "--record", "r.jsonl", "--keep-both"}, args...)...)
		cmd.Env = append(os.Environ(), "UPARROT_KEY="+secret)
		if status := b.status(cmd.Run()); status != 1 {
			t.Errorf("ended with %d: %s", status, errOut)
		}
		for what, text := range map[string]string{"stdout": out.String(), "stderr": errOut.String(), "record": b.read("r.jsonl")} {
			if strings.Contains(text, secret) {
				t.Errorf("the secret is in %s:\n%s", what, text)
			}
		}
		if !strings.Contains(b.read("r.jsonl"), "[secret]") {
			t.Error("the record does not show where the secret was")
		}
	}
}

// Two addresses without a bench make a link; on seven bits it goes as plain lines.
func TestPlainLink(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	var far [2]*port.Pseudo
	for i := range far {
		var err error
		if far[i], err = port.OpenPseudo(); err != nil {
			t.Fatal(err)
		}
		defer far[i].Close()
	}
	go io.Copy(far[1], far[0])
	// The way back loses every fifth line and adds a word of its own.
	go func() {
		lines := bufio.NewScanner(far[1])
		for n := 1; lines.Scan(); n++ {
			if n%5 > 0 {
				fmt.Fprintf(far[0], "%s\n", lines.Text())
			}
			if n == 7 {
				fmt.Fprintf(far[0], "station log: all quiet\r\n")
			}
		}
	}()
	c := b.run("link", "test", far[0].Path(), far[1].Path(), "--count", "50", "--every", "5ms", "--both", "--speed", "57600", "--frame", "7E1", "--deadline", "3s", "--json", "--quiet").wants(t, 0)
	var s summary
	if err := json.Unmarshal([]byte(c.out), &s); err != nil {
		t.Fatal(err)
	}
	if there, back := s.Directions[0], s.Directions[1]; there.Received != 50 || back.Received != 40 || back.Lost != 10 || back.Foreign != 1 || back.Loss["ratio"] != 0.2 {
		t.Errorf("%+v", s)
	}
}

// Three radios: a message to everyone is heard by all of the same group, and
// by nobody else.
func TestBroadcast(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("three.toml", `[port.valley]
phrasebook = "dunlin.toml"
[port.valley.standin]
family = "dunlin"
settings = { node = 1 }
[port.summit]
phrasebook = "dunlin.toml"
[port.summit.standin]
family = "dunlin"
place = 1400.0
settings = { node = 2 }
[port.tower]
phrasebook = "dunlin.toml"
[port.tower.standin]
family = "dunlin"
place = 700.0
settings = { node = 3, group = 5 }
[air]
delay = "20ms"
`)
	b.write("all.parrot", `procedure "To everyone"
port valley: dialect at, ending cr
port summit: dialect at, ending cr
port tower: dialect at, ending cr
step "the group hears"
    say valley: AT~TELL=0,4,lift
    hear summit: ~HEARD: 1,{s:int},{},4,lift
    limit s in -120..-90 dBm
    not hear tower for 300ms: ~HEARD: ...
end
step "after it has joined, the tower hears too"
    say tower: AT~GROUP=0
    say tower: AT~GROUP?
    hear tower: ~GROUP: 0
    say valley: AT~TELL=0,4,stop
    hear tower: ~HEARD: 1,{t:int},{},4,stop
    check t > s "the tower is nearer"
    hear summit: ~HEARD: ...stop
end
`)
	b.start("for other commands", "standin", "three.toml")
	b.run("run", "all.parrot", "--bench", "three.toml").wants(t, 0, "all 2 steps")
}

// A module over RFC 2217 is found, proven and spoken with as one on a cable is;
// its signal lines work.
func TestOverTheNetwork(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	free := func() string {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer ln.Close()
		return ln.Addr().String()
	}
	remote, plain := free(), free()
	b.write("net.toml", fmt.Sprintf("[port.modem]\nat = \"rfc2217://%s\"\nphrasebook = \"curlew.toml\"\n[port.modem.standin]\nfamily = \"curlew\"\nspeed = 38400\nframe = \"7E1\"\n"+
		"[port.gates]\nat = \"tcp://%s\"\nphrasebook = \"redshank.toml\"\n[port.gates.standin]\nfamily = \"redshank\"\nsettings = { board = 3 }\n", remote, plain))
	b.write("who.parrot", "procedure \"Who\"\nport gates: dialect lines, ending lf\nstep \"who\"\n    say: who\n    hear: redshank board 3\nend\n")
	b.start("for other commands", "standin", "net.toml")
	b.run("probe", "modem", "--bench", "net.toml", "--into", "found.toml", "--name", "modem").wants(t, 0, "38400 7E1, ending cr, dialect at (sure")
	if got := b.read("found.toml"); !strings.Contains(got, "speed = 38400") || !strings.Contains(got, "rfc2217://"+remote) {
		t.Errorf("written: %s", got)
	}
	b.run("check", "found.toml").wants(t, 0)
	b.run("standin", "net.toml", "--tell", "wire modem looped").wants(t, 0)
	b.run("loopback", "modem", "--bench", "net.toml", "--no-ask", "--signals").wants(t, 0, "RTS reaches CTS", "DTR reaches DSR", "proven")
	b.run("standin", "net.toml", "--tell", "wire modem open").wants(t, 0)
	b.run("loopback", "modem", "--bench", "net.toml", "--no-ask", "--signals").wants(t, 1, "nothing came back", "CTS stayed off")
	b.run("standin", "net.toml", "--tell", "power modem of").wants(t, 2, "Did you mean")
	b.run("standin", "net.toml", "--tell", "power modme off").wants(t, 2, "there are gates, modem")
	b.run("run", "who.parrot", "--bench", "net.toml").wants(t, 0, "all 1 step")
	b.run("probe", "modem", "--bench", "net.toml", "--speeds", "9600", "--json").wants(t, 1, `"kind": "silence"`, "powered")
	b.write("stops.toml", "family = \"F\"\n[line]\ninterrupt = \"{ctrl-c}\"\n")
	b.run("probe", "modem", "--bench", "net.toml", "--phrasebook", "stops.toml", "--plan").wants(t, 0, "it would say {ctrl-c} again and again")
	b.run("probe", "modem", "--bench", "net.toml", "--phrasebook", "stops.toml", "--interrupt", "{esc}", "--plan").wants(t, 0, "it would say {esc} again and again")
	b.run("probe", "tcp://"+free()).wants(t, 3, "nothing listens there")
	b.run("probe", "gates", "--bench", "net.toml", "--wake", "who", "--into", "found.toml", "--name", "gates").wants(t, 0, "dialect lines", "not tried: speed and frame") // sure only if it sent nothing unasked meanwhile
	b.run("check", "found.toml").wants(t, 0)
	b.run("probe", "gates", "--bench", "net.toml", "--speeds", "9600").wants(t, 2, "no line of its own")
	b.write("wide.toml", strings.Replace(b.read("net.toml"), "127.0.0.1", "0.0.0.0", 1))
	b.run("standin", "wide.toml", "--dir", "wide").wants(t, 2, "this machine alone")
}

// A server that has closed the connection takes no words: what is said to it then
// has not been said.
func TestDeadServer(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			line := make([]byte, 64)
			if n, err := c.Read(line); err == nil && n > 0 {
				io.WriteString(c, "redshank board 3\r\n")
			}
			c.Close()
		}
	}()
	at := "tcp://" + ln.Addr().String()
	b.write("dead.parrot", "procedure \"Dead\"\nport gates: dialect lines, ending lf\nstep \"who\"\n    say: who\n    hear: redshank board 3\n    pause 100ms\nend\nstep \"put back\" always\n    say: relay 1 off\nend\n")
	b.run("run", "dead.parrot", "--port", at, "--record", "dead.record").wants(t, 3, "broken")
	if strings.Contains(b.read("dead.record"), `"text":"relay 1 off\n"`) {
		t.Error("the record has words that nobody took")
	}
	talk := exec.Command(uparrot, "talk", at, "--reopen", "--for", "4s", "--record", "talk.record")
	talk.Dir = b.dir
	in, err := talk.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	talk.Stdout, talk.Stderr = &out, &out
	if err := talk.Start(); err != nil {
		t.Fatal(err)
	}
	for range 12 { // some meet the connection, some the outage
		io.WriteString(in, "who\n")
		time.Sleep(150 * time.Millisecond)
	}
	in.Close()
	if status := b.status(talk.Wait()); status != 0 || strings.Count(out.String(), "redshank board 3") < 2 {
		t.Errorf("talk ended with %d:\n%s", status, out.String())
	}
}

// A power cycle by order: boot noise, banner and ready notices in their time.
func TestModemStarts(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("start.parrot", `procedure "The modem starts"
port modem: dialect at, ending cr, speed 38400
step "banner, SIM and network, in this order"
    hear modem within 20s: CURLEW {v:num}
    say modem: AT+CMEE=1
    say modem: AT+CREG?
    hear modem: +CREG: 0,2
    hear modem within 10s: CURLEW: SIM OPEN
    hear modem within 10s: CURLEW: IN SERVICE
    say modem: AT+CREG?
    hear modem: +CREG: 0,1
    check v > 3
end
step "a message in two parts"
    say modem: AT+CMGS="+15550100"
    hear modem: +CMS ERROR: 302
    say modem: AT+CMGF=1
    say bytes modem: AT+CMGS="+15550100"{cr}
    hear bytes modem: > {}
    say bytes modem: Gondola 4 has stopped{ctrl-z}
    hear modem within 5s: +CMGS: {n:int}
    hear modem: OK
    check n == 1
end
`)
	b.write("start.parrot", strings.Replace(b.read("start.parrot"), "> {}", `"> "`, 1))
	b.start("for other commands", "standin", "station.toml")
	cmd, out, errOut := b.command("run", "start.parrot", "--bench", "station.toml", "--record", "r.jsonl")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	b.waitFor("r.jsonl", `"kind":"open"`)
	b.run("standin", "station.toml", "--tell", "power modem cycle").wants(t, 0)
	if status := b.status(cmd.Wait()); status != 0 {
		t.Errorf("ended with %d: %s%s", status, out, errOut)
	}
	if !strings.Contains(b.read("r.jsonl"), `"hex"`) {
		t.Error("the record holds no boot noise")
	}
}

func BenchmarkStart(b *testing.B) {
	dir := b.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "empty.go"), []byte("package main\n\nfunc main() {}\n"), 0o600); err != nil {
		b.Fatal(err)
	}
	empty := filepath.Join(dir, "empty")
	if out, err := exec.Command("go", "build", "-o", empty, filepath.Join(dir, "empty.go")).CombinedOutput(); err != nil {
		b.Fatalf("%v: %s", err, out)
	}
	for name, args := range map[string][]string{"uparrot": {uparrot, "--version"}, "bare": {empty}} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if err := exec.Command(args[0], args[1:]...).Run(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// A port may be where a step says: it is opened when it is first spoken at, and a step
// that comes too early is told so.
func TestPortAtCapturedAddress(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	at := loopback.Serve(t, func(conn net.Conn) {
		io.WriteString(conn, "page of the gate\r\n") // it speaks first
		io.Copy(conn, conn)
	})
	_, number, _ := net.SplitHostPort(at)
	head := "procedure \"Page\"\nport gates: dialect lines, ending lf\nport page: tcp to \"127.0.0.1:{base + board}\", dialect lines, ending crlf\ninput base: int\n"
	who := "step \"who\"\n    say gates: who\n    hear gates: redshank board {board:int}\nend\n"
	page := "step \"page\"\n    hear page: page of the gate\n    say page: rope\n    hear page: rope\nend\n"
	b.write("gates.toml", "[port.gates]\nphrasebook = \"redshank.toml\"\n[port.gates.standin]\nfamily = \"redshank\"\nsettings = { board = 3 }\n")
	b.write("page.parrot", head+who+page)
	b.write("early.parrot", head+page+who)
	b.start("for other commands", "standin", "gates.toml")
	n, err := strconv.Atoi(number)
	if err != nil {
		t.Fatal(err)
	}
	base := fmt.Sprintf("base=%d", n-3)
	b.run("run", "page.parrot", "--bench", "gates.toml", "--set", base).wants(t, 0, "passed: all 2 steps")
	b.run("run", "early.parrot", "--bench", "gates.toml", "--set", base).wants(t, 1, "of which a step before must give the values")
	// At an address that is given it is opened at the beginning, so that what it says first may be older than the first step.
	b.write("given.parrot", head+who+strings.Replace(page, "hear page: page", "hear earlier page: page", 1))
	b.run("run", "given.parrot", "--bench", "gates.toml", "--set", base, "--port", "page=tcp://"+at).wants(t, 0, "passed: all 2 steps")
	b.write("wrong.parrot", head+strings.ReplaceAll(who, "{board:int}", "3")+page)
	b.run("check", "wrong.parrot").wants(t, 2, "\"board\" has no value")
}
