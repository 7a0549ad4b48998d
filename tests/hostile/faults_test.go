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

// faults is how many faults are made: some in each run of the tests, and 1000 with -args -faults 1000; from is the
// seed of the first, which makes one that failed again with -args -faults 1 -from SEED.
var (
	faults = flag.Int("faults", 120, "how many faults to make")
	from   = flag.Int("from", 0, "the seed of the first")
)

// job is a command that a fault meets; REC, LEDGER and OUT stand for files of the trial, BENCH for the stand-ins'.
type job struct {
	args  string
	files bool // it writes a record and a ledger
	ports bool // it needs the bench
	lasts bool // it goes on until it is told to end
}

// jobs are all commands, which a test holds them against. Their number has no divisor in common with that of the
// kinds of faults, so that each meets each.
var jobs = []job{
	{args: "run commission.parrot BENCH --port valley --set address=3 --record REC --ledger LEDGER", files: true, ports: true},
	{args: "link test valley summit BENCH --count 30 --every 15ms --record REC --ledger LEDGER --frames OUT.csv --plot OUT.png", files: true, ports: true},
	{args: "talk valley BENCH --for 500ms --record REC", ports: true},
	{args: "probe valley BENCH --record REC --ledger LEDGER", files: true, ports: true},
	{args: "results export --ledger before.sqlite --as csv --out OUT"},
	{args: "report before.record --as html --out OUT"},
	{args: "learn before.record --out OUT"},
	{args: "tidy ragged.parrot --write"},
	{args: "results add before.record --ledger LEDGER"},
	{args: "link capacity valley summit BENCH --trial 300ms --least 5 --record REC --ledger LEDGER --plot OUT.png", files: true, ports: true},
	{args: "link map BENCH --count 3 --every 20ms --wait 200ms --record REC --ledger LEDGER --plot OUT.png", files: true, ports: true},
	{args: "link answer summit BENCH --record REC", ports: true, lasts: true},
	{args: "link plan valley summit BENCH --max-loss 2% --count 50 --times 20", ports: true},
	{args: "link budget --speed 9600 --size 24 --phrasebook dunlin.toml --air-rate 2400 --preamble 40ms"},
	{args: "link compare link.record link.record"},
	{args: "loopback valley BENCH --no-ask --speeds 9600 --record REC --ledger LEDGER", files: true, ports: true},
	{args: "watch valley BENCH --poll AT~SUPPLY? --every 100ms --for 500ms --out OUT.csv --record REC --ledger LEDGER", files: true, ports: true},
	{args: "settings read valley summit BENCH --out OUT --record REC --ledger LEDGER", files: true, ports: true},
	{args: "settings apply valley BENCH --set group=7 --set power=5 --yes --record REC --ledger LEDGER", files: true, ports: true},
	{args: "settings compare valley summit BENCH --ledger LEDGER", ports: true},
	{args: "settings restore valley BENCH --from-record settings.record --yes --record REC --ledger LEDGER", files: true, ports: true},
	{args: "ports"},
	{args: "check commission.parrot larkfell.toml dunlin.toml"},
	{args: "rehearse hasty.parrot --times 10 --as html --out OUT"},
	{args: "phrasebook new Dunlin --table guide.csv --yes --out OUT"},
	{args: "phrasebook show dunlin.toml --as html --out OUT"},
	{args: "phrasebook compare dunlin.toml siskin.toml"},
	{args: "example greeting.parrot --dir ex"},
	{args: "demo --dir demo"},
	{args: "standin station.toml --truth OUT", lasts: true},
	{args: "lsp", lasts: true},
	{args: "schema phrasebook"},
	{args: "schema units"},
	{args: "help hear"},
	{args: "completion bash"},
	{args: "units load units.csv --ledger LEDGER"},
	{args: "units list --ledger before.sqlite"},
	{args: "units pool keys --file guide.csv --secret --pool-key key --ledger LEDGER"},
	{args: "units release tray --ledger before.sqlite"},
	{args: "results show last --ledger before.sqlite"},
	{args: "results unit LK-1 --ledger before.sqlite"},
	{args: "results settings --ledger before.sqlite"},
	{args: "results compare last last --ledger before.sqlite"},
	{args: "results trend power --ledger before.sqlite --plot OUT.png"},
	{args: "results series --ledger before.sqlite"},
	{args: "results yield --ledger before.sqlite"},
	{args: "results --ledger before.sqlite"},
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
	args = strings.NewReplacer("BENCH", "--bench larkfell.ports/bench.toml", "REC", "after.record", "LEDGER", "after.sqlite", "OUT", "out").Replace(args)
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

// over waits for the end of the command, which it is told of where it would go on, and holds what is left against
// what must be so.
func (h *hit) over(within time.Duration, may func(status int) bool) int {
	if h.job.lasts {
		time.Sleep(h.soon())
		h.cmd.Process.Signal(syscall.SIGINT)
		may = func(status int) bool { return status <= 5 || status == 130 }
	}
	status := h.end(within)
	if status < 0 && !h.job.lasts || !may(status) { // one that was told to end at once had not begun
		h.t.Errorf("%s ended with %d:\n%s", h.job.args, status, h.out.String())
	}
	h.sound(status, status == 0)
	return status
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
		signals := []os.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP}
		if h.job.lasts {
			signals = signals[:2] // the last is ignored where the tests were begun so, as nohup does
		}
		h.cmd.Process.Signal(signals[h.rnd.IntN(len(signals))])
		status := h.end(10 * time.Second)
		if status > 5 && status != 130 || status < 0 && h.record() != "" { // it had not begun
			h.t.Errorf("%s ended with %d:\n%s", h.job.args, status, h.out.String())
		}
		h.sound(status, true)
	}},
	{"stopped and continued", func(h *hit) {
		if !h.start("") {
			return
		}
		time.Sleep(h.soon())
		h.cmd.Process.Signal(syscall.SIGSTOP)
		time.Sleep(h.soon())
		h.cmd.Process.Signal(syscall.SIGCONT)
		h.over(60*time.Second, func(status int) bool { return status <= 5 })
	}},
	{"a full disk", func(h *hit) {
		// A file may not grow beyond some KiB.
		if !h.start(fmt.Sprintf("ulimit -f %d; ", 1+h.rnd.IntN(64))) {
			return
		}
		status := h.over(30*time.Second, func(status int) bool { return status <= 5 })
		if status == 5 && h.out.Len() == 0 {
			h.t.Errorf("%s lost something without a word", h.job.args)
		}
	}},
	{"a vanished port", func(h *hit) {
		if !h.start("") {
			return
		}
		time.Sleep(h.soon())
		h.stopBench()
		h.over(30*time.Second, func(status int) bool { return status <= 5 })
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
	if h.rnd.IntN(2) == 0 || h.job.lasts {
		h.cmd.Process.Signal(syscall.SIGINT)
	} else { // as a key
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
	for n := range *faults {
		seed := *from + n
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			rnd := rand.New(rand.NewPCG(uint64(seed), 13))
			kind := kinds[seed%len(kinds)]
			candidates := slices.DeleteFunc(slices.Clone(jobs), func(j job) bool {
				return kind.name == "a vanished port" && !j.ports || kind.name == "a frozen database" && !strings.Contains(j.args, "LEDGER")
			})
			which := seed % len(candidates)
			if len(candidates) < len(jobs) {
				which = seed / len(kinds) % len(candidates)
			}
			h := &hit{t: t, rnd: rnd, dir: bench(t, before), job: candidates[which], socket: socket}
			if h.job.ports {
				h.startBench()
			}
			defer h.stopBench()
			failed := t.Failed()
			kind.make(h)
			if t.Failed() && !failed {
				t.Logf("seed %d, %s: uparrot %s\nonce more: go test ./tests/hostile -run TestFaults -args -faults 1 -from %d", seed, kind.name, h.job.args, seed)
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
	for _, args := range []string{"run commission.parrot --bench larkfell.ports/bench.toml --port valley --set address=1 --record before.record --ledger before.sqlite",
		"run commission.parrot --bench larkfell.ports/bench.toml --port summit --set address=2 --no-ledger",
		"link test valley summit --bench larkfell.ports/bench.toml --count 10 --every 15ms --record link.record --no-ledger",
		"settings apply valley --bench larkfell.ports/bench.toml --set power=9 --yes --unit LK-1 --record settings.record --ledger before.sqlite", "units load tray.csv --ledger before.sqlite"} {
		if out, err := h.program("", args).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", args, err, out)
		}
	}
	files := map[string]string{"guide.csv": "command,meaning,range\nAT~GROUP=<group>,group of radios,0..255\n", "units.csv": "unit,address\nLK-1,11\nLK-2,12\n"}
	for _, name := range []string{"before.record", "before.sqlite", "commission.parrot", "link.record", "settings.record"} {
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

// Each command meets faults, and each of them each kind.
func TestAllCommandsMeetFaults(t *testing.T) {
	for i := 2; i <= len(kinds); i++ {
		if len(kinds)%i == 0 && len(jobs)%i == 0 {
			t.Errorf("%d jobs and %d kinds of faults have the divisor %d", len(jobs), len(kinds), i)
		}
	}
	var all func(path ...string) []string
	all = func(path ...string) (leaves []string) {
		out, err := exec.Command(uparrot, append(append([]string{"__completeNoDesc"}, path...), "")...).Output()
		if err != nil {
			t.Fatal(path, err)
		}
		for word := range strings.FieldsSeq(string(out)) {
			own := append(slices.Clone(path), word)
			if help, err := exec.Command(uparrot, append(own, "--help")...).Output(); err == nil && strings.Contains(string(help), "\n  uparrot "+strings.Join(own, " ")) {
				leaves = append(leaves, all(own...)...)
			}
		}
		if len(leaves) == 0 {
			return []string{strings.Join(path, " ")}
		}
		return leaves
	}
	commands := all()
	if len(commands) < 40 {
		t.Fatal("only these commands are known:", commands)
	}
	for _, c := range commands {
		if !slices.ContainsFunc(jobs, func(j job) bool { return strings.HasPrefix(j.args+" ", c+" ") }) {
			t.Errorf("%s meets no fault", c)
		}
	}
}

// Where nobody takes what is printed Ctrl-C still ends the program soon: with the status of what came before, or
// with that of what was interrupted.
func TestNobodyReads(t *testing.T) {
	t.Parallel()
	before := beforeFaults(t)
	for _, j := range jobs {
		if j.ports || j.lasts || strings.HasPrefix(j.args, "demo") {
			continue
		}
		r, w, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := w.SetWriteDeadline(time.Now().Add(100 * time.Millisecond)); err != nil {
			t.Fatal(err)
		}
		for err == nil { // until it is full
			_, err = w.Write(make([]byte, 4096))
		}
		h := &hit{t: t, dir: bench(t, before), job: j}
		h.cmd = h.program("", j.args)
		h.cmd.Stdout = w
		if err := h.cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(400 * time.Millisecond)
		h.cmd.Process.Signal(syscall.SIGINT)
		if status := h.end(20 * time.Second); status < 0 || status > 3 && status != 130 {
			t.Errorf("%s ended with %d", j.args, status)
		}
		r.Close()
		w.Close()
	}
}
