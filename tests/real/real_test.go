//go:build linux

// Package real drives the built program against devices that nobody of this project
// wrote: a software modem, boot loaders, firmware shells and a login console under emulation, an
// interpreter, a database shell, a debugger, a network serial server, a Telnet login. Each test starts its own
// peers and ends them by id. Where one is not installed the test is skipped and says
// what to install; run with -v to see it.
package real

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"uparrot/tests/program"
)

var uparrot string // the program

func TestMain(m *testing.M) {
	if os.Getenv("UPARROT_TEST_REAL") == "later" { // they are run by themselves
		fmt.Println("SKIPPED: the tests against real peers")
		return
	}
	os.Setenv("UPARROT_CODE", "snowline")
	program.Main(m, &uparrot)
}

// need skips a test unless a program is there.
func need(t *testing.T, tool, pkg string) string {
	t.Helper()
	path, err := exec.LookPath(tool)
	if err != nil {
		path = filepath.Join("/usr/sbin", tool)
		if _, err := os.Stat(path); err != nil {
			t.Skipf("SKIPPED: %s is not installed (Debian: %s)", tool, pkg)
		}
	}
	return path
}

// needFile skips a test unless a file is there.
func needFile(t *testing.T, path, pkg string) string {
	t.Helper()
	found, _ := filepath.Glob(path) // the patterns are right
	if len(found) == 0 {
		t.Skipf("SKIPPED: %s is not there (Debian: %s)", path, pkg)
	}
	return found[len(found)-1]
}

// peer starts a program and has it ended with the test. What it prints goes to the log.
func peer(t *testing.T, name string, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(name, args...)
	log, err := os.Create(filepath.Join(t.TempDir(), "log"))
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		log.Close()
		if t.Failed() {
			text, _ := os.ReadFile(log.Name()) // it may be empty
			t.Logf("%s said:\n%s", filepath.Base(name), text)
		}
	})
	return cmd
}

// eventually waits until something is so.
func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for until := time.Now().Add(30 * time.Second); !is(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("%s: not within 30 s", what)
		}
	}
}

// free is an address of this machine that nobody uses, and its port number.
func free(t *testing.T) (at, number string) {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	_, number, _ = net.SplitHostPort(ln.Addr().String())
	return ln.Addr().String(), number
}

// listening waits until something listens at a port number of this machine, without
// connecting: some serve only one connection.
func listening(t *testing.T, number string) {
	t.Helper()
	n, err := strconv.Atoi(number)
	if err != nil {
		t.Fatal(err)
	}
	row := fmt.Sprintf("0100007F:%04X 00000000:0000 0A", n) // 127.0.0.1, from nobody, state LISTEN
	eventually(t, "port "+number, func() bool {
		table, err := os.ReadFile("/proc/net/tcp")
		return err == nil && strings.Contains(string(table), row)
	})
}

// write writes a file of the test.
func write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// perform performs a procedure at ports, each NAME=ADDRESS, and holds what came of its
// steps against what must: a verdict for each, and words of why.
func perform(t *testing.T, text string, ports []string, want ...string) {
	t.Helper()
	args := []string{"run", write(t, "real.parrot", text), "--json"}
	for _, p := range ports {
		args = append(args, "--port", p)
	}
	cmd := exec.Command(uparrot, args...)
	var told strings.Builder
	cmd.Stderr = &told
	out, _ := cmd.Output() // its status is that of its steps
	var res struct {
		Steps []struct{ Title, Verdict, Why string }
	}
	if err := json.Unmarshal(out, &res); err != nil {
		t.Fatalf("%v in %s\n%s", err, out, told.String())
	}
	wrong := len(res.Steps) != len(want)
	for i, s := range res.Steps {
		if i < len(want) {
			v, words, _ := strings.Cut(want[i], " ")
			if s.Verdict != v || !strings.Contains(s.Why, words) {
				wrong = true
				t.Errorf("step %s: %s: %s, want %s", s.Title, s.Verdict, s.Why, want[i])
			}
		}
	}
	if wrong {
		t.Errorf("%d steps, want %d:\n%s", len(res.Steps), len(want), told.String())
	}
}

// steps makes a procedure: a head, and steps with / between their statements.
func steps(head string, list ...string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "procedure \"Real\"\nkeep going\n%s\n", head)
	for i, s := range list {
		fmt.Fprintf(&b, "step \"%d\"\n %s\nend\n", i+1, strings.ReplaceAll(s, " / ", "\n "))
	}
	return b.String()
}
