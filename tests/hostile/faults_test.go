//go:build linux

package hostile

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"github.com/creack/pty"

	"uparrot/tests/loopback"
	"uparrot/tests/postgres"
)

// faults is how many faults are made: a few dozen in each run of the tests, and 1000
// with -args -faults 1000.
var faults = flag.Int("faults", 120, "how many faults to make")

// job is a command that a fault meets; REC, LEDGER and OUT stand for files of the trial.
type job struct {
	args  string
	files bool // it writes a record and a ledger
	ports bool // it needs the bench
}

var jobs = []job{
	{"run commission.parrot --bench larkfell.ports/bench.toml --port valley --set address=3 --record REC --ledger LEDGER", true, true},
	{"link test valley summit --bench larkfell.ports/bench.toml --count 30 --every 15ms --record REC --ledger LEDGER --frames OUT.csv --plot OUT.png", true, true},
	{"talk valley --bench larkfell.ports/bench.toml --for 500ms --record REC", false, true},
	{"probe valley --bench larkfell.ports/bench.toml --record REC --ledger LEDGER", true, true},
	{"results export --ledger before.sqlite --as csv --out OUT", false, false},
	{"report before.record --as html --out OUT", false, false},
	{"learn before.record --out OUT", false, false},
	{"tidy ragged.parrot --write", false, false},
	{"results add before.record --ledger LEDGER", false, false},
}

// hit is one fault: it is made while the command runs, and held against what must be so.
type hit struct {
	t     *testing.T
	rnd   *rand.Rand
	dir   string
	job   job
	cmd   *exec.Cmd
	out   bytes.Buffer
	bench *exec.Cmd // its stand-ins

	socket string // of a real database; "" if there is none
}

// file is the path of a file of the trial.
func (h *hit) file(name string) string { return filepath.Join(h.dir, name) }

// program is a command of the program in the trial's folder; a shell may set bounds
// before.
func (h *hit) program(before, args string) *exec.Cmd {
	args = strings.NewReplacer("REC", "after.record", "LEDGER", "after.sqlite", "OUT", "out").Replace(args)
	words := append([]string{"-c", before + `exec "$0" "$@"`, uparrot}, strings.Fields(args)...)
	cmd := exec.Command("bash", words...)
	cmd.Dir = h.dir
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+h.file("data"))
	return cmd
}

// soon is a moment at which the command may be at anything.
func (h *hit) soon() time.Duration {
	if h.job.ports {
		return time.Duration(h.rnd.IntN(900)) * time.Millisecond
	}
	return time.Duration(h.rnd.IntN(60)) * time.Millisecond
}

// end waits for the command and returns its exit status, -1 if a signal ended it.
func (h *hit) end(within time.Duration) int {
	late := time.AfterFunc(within, func() { h.cmd.Process.Kill() })
	h.cmd.Wait()
	if !late.Stop() {
		h.t.Errorf("%s did not end within %v", h.job.args, within)
	}
	return h.cmd.ProcessState.ExitCode()
}

// record says what the record of the trial is, in the program's words; "" if there is
// none.
func (h *hit) record() string {
	if info, err := os.Stat(h.file("after.record")); err != nil || info.Size() == 0 {
		return ""
	}
	out, err := h.program("", "report after.record --verify").CombinedOutput()
	if _, ok := errors.AsType[*exec.ExitError](err); err != nil && !ok {
		h.t.Error(err)
	}
	return string(out)
}

// verdict is the verdict with which the record of the trial ends.
func (h *hit) verdict() string {
	text, _ := os.ReadFile(h.file("after.record"))
	last := ""
	for line := range bytes.SplitSeq(text, []byte("\n")) {
		var e struct{ Kind, Verdict string }
		if json.Unmarshal(line, &e) == nil && e.Kind == "verdict" {
			last = e.Verdict
		}
	}
	return last
}

// sound holds what is left behind against what must be so whatever has happened.
func (h *hit) sound(status int, finished bool) {
	t := h.t
	if text := h.out.String(); strings.Contains(text, "goroutine ") || strings.Contains(text, "panic") {
		t.Errorf("%s:\n%s", h.job.args, text)
	}
	switch rec := h.record(); {
	case strings.Contains(rec, "altered"), strings.Contains(rec, "unprotected"):
		t.Errorf("%s: the record is %s", h.job.args, rec)
	case status == 0 && rec == "" && strings.Contains(h.job.args, "REC"):
		t.Errorf("%s: status 0 without a record", h.job.args)
	case rec != "" && finished && status != 5 && !strings.Contains(rec, "whole"):
		t.Errorf("%s: status %d, and the record is %s", h.job.args, status, rec)
	case status == 0 && rec != "" && h.job.files && h.verdict() != "passed" && h.verdict() != "measured":
		t.Errorf("%s: status 0, and the record says %q", h.job.args, h.verdict())
	case status > 0 && status != 5 && h.verdict() == "passed":
		t.Errorf("%s: status %d, and the record says passed", h.job.args, status)
	}
	// The ledger can be read, and written to, whatever has happened.
	if _, err := os.Stat(h.file("after.sqlite")); err == nil && h.job.files {
		if out, err := h.program("", "results add before.record --ledger LEDGER").CombinedOutput(); err != nil {
			t.Errorf("%s: the ledger afterwards: %s", h.job.args, out)
		}
		if out, err := h.program("", "results --ledger LEDGER").CombinedOutput(); err != nil {
			t.Errorf("%s: the ledger afterwards: %s", h.job.args, out)
		}
	}
	// What carries the name of an output is whole, or is not there.
	for name, end := range map[string]string{"out": "", "out.csv": "\n", "ragged.parrot": "end\n"} {
		text, err := os.ReadFile(h.file(name))
		if name == "out" && strings.HasPrefix(h.job.args, "report") {
			end = "</html>\n"
		}
		if err == nil && (len(text) == 0 || !strings.HasSuffix(string(text), end)) {
			t.Errorf("%s: %s holds %d bytes and ends with %.60q", h.job.args, name, len(text), text[max(0, len(text)-60):])
		}
		if err != nil && name == "ragged.parrot" {
			t.Errorf("%s: %v", h.job.args, err)
		}
	}
	if status == 0 && strings.Contains(h.job.args, "--out OUT") {
		if _, err := os.Stat(h.file("out")); err != nil {
			t.Errorf("%s: status 0, and %v", h.job.args, err)
		}
	}
	// What came before the fault is untouched.
	if out, err := h.program("", "report before.record --verify").CombinedOutput(); err != nil {
		t.Errorf("%s: a record from before is %s", h.job.args, out)
	}
}

// start starts the command with a bound before it.
func (h *hit) start(before string) bool {
	h.cmd = h.program(before, h.job.args)
	h.cmd.Stdout, h.cmd.Stderr = &h.out, &h.out
	if err := h.cmd.Start(); err != nil {
		h.t.Error(err)
		return false
	}
	return true
}

// kinds are the faults.
var kinds = []struct {
	name string
	make func(*hit)
}{
	{"killed", func(h *hit) {
		if h.start("") {
			time.Sleep(h.soon())
			h.cmd.Process.Kill()
			h.sound(h.end(time.Minute), false)
		}
	}},
	{"told to stop", func(h *hit) {
		if !h.start("") {
			return
		}
		time.Sleep(50*time.Millisecond + h.soon())
		h.cmd.Process.Signal([]os.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP}[h.rnd.IntN(3)])
		status := h.end(10 * time.Second)
		if status > 5 && status != 130 || status < 0 && h.record() != "" { // it had not begun
			h.t.Errorf("%s ended with %d:\n%s", h.job.args, status, h.out.String())
		}
		h.sound(status, true)
	}},
	{"a full disk", func(h *hit) {
		// A file may not grow beyond some KiB.
		if !h.start(fmt.Sprintf("ulimit -f %d; ", 1+h.rnd.IntN(64))) {
			return
		}
		status := h.end(30 * time.Second)
		if status < 0 || status > 5 {
			h.t.Errorf("%s ended with %d:\n%s", h.job.args, status, h.out.String())
		}
		if status == 5 && h.out.Len() == 0 {
			h.t.Errorf("%s lost something without a word", h.job.args)
		}
		h.sound(status, status == 0)
	}},
	{"a vanished port", func(h *hit) {
		if !h.start("") {
			return
		}
		time.Sleep(h.soon())
		h.stopBench()
		status := h.end(30 * time.Second)
		if status < 0 || status > 5 {
			h.t.Errorf("%s ended with %d:\n%s", h.job.args, status, h.out.String())
		}
		h.sound(status, true)
	}},
	{"a frozen database", func(h *hit) {
		server, freeze := h.frozenDatabase()
		h.job.args = strings.Replace(h.job.args, "LEDGER", server, 1)
		if !h.start("") {
			return
		}
		time.Sleep(h.soon() / 2)
		freeze()
		time.Sleep(h.soon())
		h.cmd.Process.Signal(syscall.SIGINT)
		status := h.end(10 * time.Second)
		if status > 5 && status != 130 || status < 0 && h.record() != "" {
			h.t.Errorf("%s ended with %d:\n%s", h.job.args, status, h.out.String())
		}
		h.sound(status, true)
	}},
	{"a silent terminal", silentTerminal},
}

// silentTerminal is one that nobody reads, and that answers nothing.
func silentTerminal(h *hit) {
	person, far, err := pty.Open()
	if err != nil {
		h.t.Error(err)
		return
	}
	defer person.Close()
	defer far.Close()
	h.cmd = h.program("", h.job.args)
	h.cmd.Stdin, h.cmd.Stdout, h.cmd.Stderr = far, far, far
	h.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := h.cmd.Start(); err != nil {
		h.t.Error(err)
		return
	}
	time.Sleep(h.soon())
	if h.rnd.IntN(2) == 0 {
		h.cmd.Process.Signal(syscall.SIGINT)
	} else if h.rnd.IntN(2) == 0 { // as a key
		person.Write([]byte{3})
	}
	status := h.end(20 * time.Second)
	if state, err := unix.IoctlGetTermios(int(person.Fd()), unix.TCGETS); err != nil || state.Lflag&unix.ECHO == 0 || state.Lflag&unix.ICANON == 0 {
		h.t.Errorf("%s left the terminal without echo, %v", h.job.args, err)
	}
	if status < -1 || status > 5 && status != 130 {
		h.t.Errorf("%s ended with %d", h.job.args, status)
	}
	h.sound(status, status >= 0)
}

// frozenDatabase is a database that answers until it is frozen: a real one, at a socket,
// behind a proxy, or, where none is installed, a server that never says a word.
func (h *hit) frozenDatabase() (url string, freeze func()) {
	frozen := make(chan struct{})
	at := loopback.Serve(h.t, func(near net.Conn) {
		if h.socket == "" {
			io.Copy(io.Discard, near)
			return
		}
		far, err := net.Dial("unix", h.socket)
		if err != nil {
			return
		}
		defer far.Close()
		go pass(far, near, frozen)
		pass(near, far, frozen)
	})
	return "postgres://bench@" + at + "/postgres?sslmode=disable", sync.OnceFunc(func() { close(frozen) })
}

// pass copies until the connection ends; frozen, it takes what comes and hands on
// nothing.
func pass(to, from net.Conn, frozen <-chan struct{}) {
	buf := make([]byte, 4096)
	for {
		n, err := from.Read(buf)
		if err != nil {
			to.Close()
			return
		}
		select {
		case <-frozen:
		default:
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
	}
}

// startBench brings the trial's bench to life.
func (h *hit) startBench() {
	h.bench = h.program("", "standin larkfell.toml")
	told, err := h.bench.StdoutPipe()
	if err == nil {
		err = h.bench.Start()
	}
	if err != nil {
		h.t.Error(err)
		return
	}
	for lines := bufio.NewScanner(told); lines.Scan(); {
		if strings.Contains(lines.Text(), "for other commands") {
			go io.Copy(io.Discard, told)
			return
		}
	}
	h.t.Error("the bench did not come to life")
}

// stopBench ends it all at once.
func (h *hit) stopBench() {
	if h.bench != nil {
		h.bench.Process.Kill()
		h.bench.Wait()
		h.bench = nil
	}
}

// TestFaults makes faults at random moments of all commands: nothing that was promised
// is lost, nothing is half done under its own name, no verdict is better than what
// happened, and the exit status tells.
func TestFaults(t *testing.T) {
	t.Parallel()
	server, err := postgres.Start()
	url, socket := "", ""
	switch {
	case err == nil:
		defer server.Stop()
		url = server.URL
		_, dir, _ := strings.Cut(url, "host=")
		socket = filepath.Join(dir, ".s.PGSQL.5432")
	case !errors.Is(err, postgres.ErrMissing):
		t.Fatal(err)
	}
	before := beforeFaults(t)
	var mu sync.Mutex
	ends := map[string][]int{} // exit statuses, by the name of the fault
	slots := make(chan struct{}, 3)
	var all sync.WaitGroup
	for seed := range *faults {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			rnd := rand.New(rand.NewPCG(uint64(seed), 13))
			kind := kinds[seed%len(kinds)]
			candidates := jobs
			if strings.Contains(kind.name, "port") || strings.Contains(kind.name, "database") {
				candidates = jobs[:2]
			}
			h := &hit{t: t, rnd: rnd, dir: bench(t, before), job: candidates[seed/len(kinds)%len(candidates)], socket: socket}
			if h.job.ports {
				h.startBench()
			}
			defer h.stopBench()
			failed := t.Failed()
			kind.make(h)
			if t.Failed() && !failed {
				t.Logf("seed %d, %s", seed, kind.name)
			}
			mu.Lock()
			defer mu.Unlock()
			ends[kind.name] = append(ends[kind.name], h.cmd.ProcessState.ExitCode())
		})
	}
	all.Wait()
	for _, kind := range kinds {
		slices.Sort(ends[kind.name])
		t.Logf("%s: exit statuses %v", kind.name, ends[kind.name])
	}
}

// beforeFaults are files that were there before: a record, its ledger, and a procedure
// that is not in the standard layout.
func beforeFaults(t *testing.T) map[string]string {
	t.Helper()
	h := &hit{t: t, dir: bench(t, nil)}
	h.startBench()
	defer h.stopBench()
	if out, err := h.program("", "run commission.parrot --bench larkfell.ports/bench.toml --port valley --set address=3 --record before.record --ledger before.sqlite").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	files := map[string]string{}
	for _, name := range []string{"before.record", "before.sqlite", "commission.parrot"} {
		text, err := os.ReadFile(h.file(name))
		if err != nil {
			t.Fatal(err)
		}
		files[name] = string(text)
	}
	files["ragged.parrot"] = strings.ReplaceAll(files["commission.parrot"], "    ", "      ")
	delete(files, "commission.parrot")
	return files
}
