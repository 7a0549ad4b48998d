//go:build linux

package tests

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// terminal is a terminal of its own with the program in it.
type terminal struct {
	*os.File // the side of the person
	cmd      *exec.Cmd
	ended    chan error

	mu   sync.Mutex
	seen bytes.Buffer
}

// inTerminal starts the program in a terminal; where it does not control that, no signal
// tells that the terminal has gone.
func (b *bench) inTerminal(controls bool, args ...string) *terminal {
	b.t.Helper()
	person, far, err := pty.Open()
	if err != nil {
		b.t.Fatal(err)
	}
	pty.Setsize(person, &pty.Winsize{Rows: 24, Cols: 80})
	// One whose close ends a read.
	fd, err := unix.FcntlInt(person.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err == nil {
		err = unix.SetNonblock(fd, true)
	}
	if err != nil {
		b.t.Fatal(err)
	}
	person.Close()
	person = os.NewFile(uintptr(fd), "terminal")
	m := &terminal{File: person, cmd: exec.Command(uparrot, args...), ended: make(chan error, 1)}
	m.cmd.Dir, m.cmd.Stdin, m.cmd.Stdout, m.cmd.Stderr = b.dir, far, far, far
	m.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: controls}
	if err := m.cmd.Start(); err != nil {
		b.t.Fatal(err)
	}
	far.Close()
	go func() { m.ended <- m.cmd.Wait() }()
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := person.Read(buf)
			m.mu.Lock()
			m.seen.Write(buf[:n])
			m.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	b.t.Cleanup(func() {
		person.Close()
		m.cmd.Process.Kill()
	})
	return m
}

func (m *terminal) screen() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.seen.String()
}

// asFound reports whether the terminal shows what is typed, line by line.
func (m *terminal) asFound(t *testing.T) bool {
	t.Helper()
	conn, err := m.SyscallConn() // Fd would have a read hold up the end
	if err != nil {
		t.Fatal(err)
	}
	var state *unix.Termios
	if cerr := conn.Control(func(fd uintptr) { state, err = unix.IoctlGetTermios(int(fd), unix.TCGETS) }); err != nil || cerr != nil {
		t.Fatal(err, cerr)
	}
	return state.Lflag&unix.ECHO != 0 && state.Lflag&unix.ICANON != 0
}

// stopped reports whether the program is stopped.
func (m *terminal) stopped() bool {
	stat, err := os.ReadFile("/proc/" + strconv.Itoa(m.cmd.Process.Pid) + "/stat")
	return err == nil && strings.Contains(string(stat), ") T ")
}

// A program that is stopped, killed or loses its terminal leaves it as it was found, and
// its record whole.
func TestTerminalLeftAsFound(t *testing.T) {
	t.Parallel()
	// Where whoever started the tests had SIGHUP ignored, programs started here would too.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGHUP)
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("secret.parrot", "procedure \"Secret\"\nsecret code \"of the tower\"\nport valley: dialect at, ending cr\nstep \"a\"\n    say valley: {code}\nend\n")
	talk := []string{"talk", "valley", "--bench", "larkfell.toml", "--record", "by-hand.record"}
	for _, c := range []struct {
		name  string
		args  []string
		keys  string // pressed once it is there
		there string // on the screen then
	}{
		{"the view", talk, "", "F1 keys"},
		{"key mode", talk, "\x1bOQ", "comes back"},
		{"the prompt for a secret", []string{"run", "secret.parrot", "--port", "valley=none"}, "", "not shown: "},
	} {
		for _, end := range []string{"stopped and gone on", "terminated", "hung up", "terminal gone", "terminal gone that it does not control"} {
			os.Remove(b.dir + "/by-hand.record")
			m := b.inTerminal(end != "terminal gone that it does not control", c.args...)
			if c.keys != "" {
				b.eventually("the view of "+c.name, func() bool { return strings.Contains(m.screen(), "F1 keys") })
				m.WriteString(c.keys)
			}
			b.eventually(c.name, func() bool { return strings.Contains(m.screen(), c.there) && !m.asFound(t) })
			gone := false
			switch end {
			case "stopped and gone on":
				m.cmd.Process.Signal(syscall.SIGTSTP)
				b.eventually(c.name+" is stopped", m.stopped)
				if !m.asFound(t) {
					t.Errorf("%s: stopped, and the terminal shows nothing that is typed", c.name)
				}
				m.cmd.Process.Signal(syscall.SIGCONT)
				b.eventually(c.name+" goes on", func() bool { return !m.stopped() && !m.asFound(t) })
				m.cmd.Process.Signal(syscall.SIGINT)
			case "terminated":
				m.cmd.Process.Signal(syscall.SIGTERM)
			case "hung up":
				m.cmd.Process.Signal(syscall.SIGHUP)
			default:
				m.Close()
				gone = true
			}
			select {
			case <-m.ended:
			case <-time.After(10 * time.Second):
				m.cmd.Process.Signal(syscall.SIGQUIT)
				time.Sleep(time.Second)
				t.Errorf("%s, %s: it goes on\n%.3000s", c.name, end, m.screen())
				continue
			}
			if !gone && !m.asFound(t) {
				t.Errorf("%s, %s: the terminal shows nothing that is typed", c.name, end)
			}
			if strings.Contains(m.screen(), "panic") {
				t.Errorf("%s, %s: %s", c.name, end, m.screen())
			}
			if c.args[0] == "talk" {
				b.run("report", "by-hand.record", "--verify").wants(t, 0, "whole")
			}
		}
	}
}

// The links of stand-ins that were killed lead to whoever has their terminals by then:
// they are not followed.
func TestLinksOfKilledStandins(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	standin, _, _ := b.command("standin", "larkfell.toml")
	if err := standin.Start(); err != nil {
		t.Fatal(err)
	}
	link := b.dir + "/larkfell.ports/valley"
	b.eventually("the stand-ins", func() bool {
		return b.run("probe", link, "--plan").status == 0 && b.run("talk", link, "--for", "10ms").status == 0
	})
	standin.Process.Kill()
	standin.Wait()
	person, far, err := pty.Open() // somebody's terminal
	if err != nil {
		t.Fatal(err)
	}
	defer person.Close()
	defer far.Close()
	if err := errors.Join(os.Remove(link), os.Symlink(far.Name(), link)); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{
		{"talk", link, "--for", "10ms"}, {"probe", link, "--no-ledger"}, {"link", "test", "valley", "summit", "--bench", "larkfell.toml", "--no-ledger"},
		{"run", "commission.parrot", "--bench", "larkfell.ports/bench.toml", "--port", "valley", "--set", "address=3", "--no-ledger"},
	} {
		b.run(args...).wants(t, 3, "standin")
	}
	if state, err := unix.IoctlGetTermios(int(far.Fd()), unix.TCGETS); err != nil || state.Lflag&unix.ECHO == 0 {
		t.Errorf("somebody's terminal was changed: %v", err)
	}
	b.start("for other commands", "standin", "larkfell.toml")
	b.run("talk", link, "--for", "10ms").wants(t, 0)
}
