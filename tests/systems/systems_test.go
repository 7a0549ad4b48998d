//go:build linux && amd64

// Package systems drives the program as it is built for other systems: for Windows under a
// compatibility layer, for small machines under emulation of their processors. Where these are not
// installed a test is skipped and says what to install; run with -v to see it.
package systems

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"uparrot/examples"
	"uparrot/tests/program"
)

var uparrot string // the program for this system

func TestMain(m *testing.M) { program.Main(m, &uparrot) }

// need skips a test unless a program is there.
func need(t *testing.T, tool, pkg string) string {
	t.Helper()
	for _, path := range []string{tool, filepath.Join("/usr/lib/wine", tool)} {
		if found, err := exec.LookPath(path); err == nil {
			return found
		}
	}
	t.Skipf("SKIPPED: %s is not installed (Debian: %s)", tool, pkg)
	return ""
}

// built is the program for another system: one that is built already, in the folder that
// UPARROT_TEST_PROGRAMS names, or one that is built now.
func built(t *testing.T, system, arch string) string {
	t.Helper()
	if dir := os.Getenv("UPARROT_TEST_PROGRAMS"); dir != "" {
		path := filepath.Join(dir, "uparrot-"+system+"-"+arch)
		if _, err := os.Stat(path); err != nil {
			t.Fatal(err)
		}
		return path
	}
	path := filepath.Join(t.TempDir(), "uparrot.exe")
	compile(t, system, arch, "build", "-o", path, "uparrot")
	return path
}

func compile(t *testing.T, system, arch string, args ...string) {
	t.Helper()
	cmd := exec.Command("go", args...)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+strings.TrimSuffix(arch, "v7"), "GOARM=7")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("go %s: %v\n%s", strings.Join(args, " "), err, out)
	}
}

// other is the program for another system, on files in a folder.
type other struct {
	t    *testing.T
	dir  string
	call []string // what runs it
	env  []string

	prefix string // of the layer, where there is one
}

// patience is how long a call may take: the layer and the emulation take their time.
const patience = 2 * time.Minute

func (o *other) command(words []string) *exec.Cmd {
	all := append(slices.Clone(o.call), words...)
	cmd := exec.Command(all[0], all[1:]...)
	cmd.Dir, cmd.Env = o.dir, append(os.Environ(), o.env...)
	return cmd
}

// do runs the program with what it reads, and wants an exit status. It returns what it printed.
func (o *other) do(status int, in string, words ...string) (out, errs string) {
	o.t.Helper()
	cmd := o.command(words)
	var stdout, stderr bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(in), &stdout, &stderr
	if err := cmd.Start(); err != nil {
		o.t.Fatal(err)
	}
	timer := time.AfterFunc(patience, func() { _ = cmd.Process.Kill() })
	err := cmd.Wait()
	timer.Stop()
	if got := exitCode(err); got != status {
		o.t.Fatalf("uparrot %s: exit status %d, wanted %d\n%s%s", strings.Join(words, " "), got, status, stdout.String(), stderr.String())
	}
	return stdout.String(), stderr.String()
}

func exitCode(err error) int {
	if e, ok := errors.AsType[*exec.ExitError](err); ok {
		return e.ExitCode()
	}
	if err != nil {
		return -1
	}
	return 0
}

// native runs the program for this system in the same folder.
func native(t *testing.T, dir string, words ...string) string {
	t.Helper()
	here := &other{t: t, dir: dir, call: []string{uparrot}}
	out, _ := here.do(0, "", words...)
	return out
}

// live starts the stand-ins of a bench, waits until they run and has them ended with the test.
func (o *other) live(bench string) (kill func()) {
	o.t.Helper()
	cmd := o.command([]string{"standin", bench})
	errs, err := cmd.StderrPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		o.t.Fatal(err)
	}
	ended := make(chan struct{})
	running := make(chan struct{})
	go func() {
		defer close(ended)
		var said strings.Builder
		b := make([]byte, 1024)
		told := false
		for {
			n, err := errs.Read(b)
			said.Write(b[:n])
			if !told && strings.Contains(said.String(), "Running.") {
				told = true
				close(running)
			}
			if err != nil {
				return
			}
		}
	}()
	kill = func() {
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
		<-ended
	}
	o.t.Cleanup(kill)
	select {
	case <-running:
	case <-time.After(patience):
		o.t.Fatal("the stand-ins do not run")
	case <-ended:
		o.t.Fatal("the stand-ins have ended")
	}
	return kill
}

// files puts the examples into the folder.
func (o *other) files() {
	o.t.Helper()
	names, err := examples.Files.ReadDir(".")
	if err != nil {
		o.t.Fatal(err)
	}
	for _, n := range names {
		b, err := examples.Files.ReadFile(n.Name())
		if err == nil {
			err = os.WriteFile(filepath.Join(o.dir, n.Name()), b, 0o644)
		}
		if err != nil {
			o.t.Fatal(err)
		}
	}
}

// sameReports wants every form of report of a record to be the same, byte for byte, as this
// system's program writes it.
func (o *other) sameReports(record string) {
	o.t.Helper()
	for _, form := range []string{"text", "junit", "csv", "hex", "markdown", "html", "pcapng"} {
		for _, name := range []string{"theirs." + form, "ours." + form} {
			_ = os.Remove(filepath.Join(o.dir, name)) // there is none the first time
		}
		o.do(0, "", "report", record, "--as", form, "--out", "theirs."+form)
		native(o.t, o.dir, "report", record, "--as", form, "--out", "ours."+form)
		theirs, err := os.ReadFile(filepath.Join(o.dir, "theirs."+form))
		ours, err2 := os.ReadFile(filepath.Join(o.dir, "ours."+form))
		if err := errors.Join(err, err2); err != nil {
			o.t.Fatal(err)
		}
		if len(ours) == 0 || !bytes.Equal(theirs, ours) {
			o.t.Errorf("%s as %s: %d bytes here, %d bytes there, and they differ", record, form, len(ours), len(theirs))
		}
	}
	if theirs, _ := o.do(0, "", "report", record, "--verify"); theirs != native(o.t, o.dir, "report", record, "--verify") {
		o.t.Errorf("verified otherwise: %s", theirs)
	}
}

// commissions performs the procedure at a running stand-in, and holds what is left of it
// against what this system's program reads.
func (o *other) commissions(record string) {
	o.t.Helper()
	_ = os.Remove(filepath.Join(o.dir, record)) // there is none the first time
	out, _ := o.do(0, "", "run", "commission.parrot", "--bench", "larkfell.toml", "--port", "valley", "--set", "address=1", "--unit", "DL-0017", "--record", record, "--ledger", "ledger.sqlite")
	if !strings.Contains(out, "passed: all 7 steps") {
		o.t.Errorf("the procedure: %s", out)
	}
	o.sameReports(record)
	theirs, _ := o.do(0, "", "results", "--ledger", "ledger.sqlite")
	if ours := native(o.t, o.dir, "results", "--ledger", "ledger.sqlite"); theirs != ours || !strings.Contains(ours, "DL-0017") {
		o.t.Errorf("the ledger there:\n%s\nhere:\n%s", theirs, ours)
	}
}

// checks reads and tidies files, and finds mistakes.
func (o *other) checks(pattern ...string) {
	o.t.Helper()
	out, _ := o.do(0, "", append([]string{"check"}, pattern...)...)
	if strings.Count(out, "no mistakes") < 10 || !strings.Contains(out, "commission.parrot") {
		o.t.Errorf("checked: %s", out)
	}
	tidy, err := os.ReadFile(filepath.Join(o.dir, "greeting.parrot"))
	if err != nil {
		o.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(o.dir, "untidy.parrot"), bytes.ReplaceAll(tidy, []byte("    "), []byte("\t ")), 0o644); err != nil {
		o.t.Fatal(err)
	}
	o.do(0, "", "tidy", "--write", "untidy.parrot")
	if got, err := os.ReadFile(filepath.Join(o.dir, "untidy.parrot")); err != nil || !bytes.Equal(got, tidy) {
		o.t.Errorf("tidied: %v\n%s", err, got)
	}
	wrong := fmt.Sprintf("%s\nstep \"no end\"\n    sya a: AT\n", "procedure \"Wrong\"")
	if err := os.WriteFile(filepath.Join(o.dir, "wrong.txt"), []byte(wrong), 0o644); err != nil {
		o.t.Fatal(err)
	}
	if out, errs := o.do(2, "", "check", "wrong.txt"); !strings.Contains(out+errs, "wrong.txt:") {
		o.t.Errorf("a file with mistakes: %s%s", out, errs)
	}
}

// talks speaks with a stand-in through a pipe.
func (o *other) talks() {
	o.t.Helper()
	out, _ := o.do(0, "AT\nATI\n", "talk", "summit", "--bench", "larkfell.toml")
	for _, want := range []string{"> ATI", "< Dunlin", "< OK"} {
		if !strings.Contains(out, want) {
			o.t.Errorf("%q is not in what was spoken:\n%s", want, out)
		}
	}
}
