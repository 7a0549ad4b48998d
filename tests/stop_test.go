//go:build unix

package tests

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
)

// muteServer takes connections and says nothing. Taken has something in it for each.
func muteServer(t *testing.T) (at string, taken chan struct{}) {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var held []net.Conn
	done := make(chan struct{})
	taken = make(chan struct{}, 1000)
	t.Cleanup(func() {
		ln.Close()
		<-done
		for _, c := range held {
			c.Close()
		}
	})
	go func() {
		defer close(done)
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			held = append(held, conn)
			taken <- struct{}{}
		}
	}()
	return ln.Addr().String(), taken
}

// eventually waits until something is so.
func (b *bench) eventually(what string, is func() bool) {
	b.t.Helper()
	for until := time.Now().Add(30 * time.Second); !is(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(until) {
			b.t.Fatalf("%s: not within 30 s", what)
		}
	}
}

// Whatever a command waits for, Ctrl-C ends it soon, with its own status, and the
// record is whole. What is waited for here would take far longer than the limit.
func TestEverythingCanBeStopped(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	mute, taken := muteServer(t)
	b.write("wait.parrot", "procedure \"Wait\"\nport valley: dialect at, ending cr, phrasebook \"dunlin.toml\"\nstep \"quiet\"\n    not hear valley for 60s: never\nend\n")
	b.write("reach.parrot", "procedure \"Reach\"\nstep \"there\"\n    reach \"127.0.0.1\" tcp 1 within 60s\nend\n")
	b.write("long.parrot", "procedure \"Long\"\nlet s = repeat(\"a\", 100000)\nstep \"steps\"\n    pause 10ms\nend\nstep \"many steps\"\n    check count(1..900000, {len(replace(s, \"a\", \"bb\")) + # > 0}) == 7\nend\n")
	frozen := "postgres://bench@" + mute + "/larkfell"
	for _, c := range []struct {
		args   []string
		words  string
		record bool
	}{
		{[]string{"run", "wait.parrot", "--port", "valley=rfc2217://" + mute}, "interrupted", true},
		{[]string{"probe", "rfc2217://" + mute}, "interrupted", true},
		{[]string{"talk", "rfc2217://" + mute}, "interrupted", true},
		{[]string{"run", "wait.parrot", "--bench", "larkfell.toml"}, "interrupted", true},
		{[]string{"run", "wait.parrot", "--bench", "larkfell.toml", "--ledger", frozen}, "did not answer before the program was to end", true},
		{[]string{"run", "reach.parrot"}, "interrupted", true},
		{[]string{"run", "long.parrot"}, "interrupted", true},
		{[]string{"results", "yield", "--ledger", frozen}, "interrupted", false},
		{[]string{"results", "show", "last", "--ledger", frozen}, "interrupted", false},
	} {
		args := c.args
		if c.record {
			os.Remove(b.dir + "/stopped.record")
			args = append(args, "--record", "stopped.record")
		}
		cmd, out, errOut := b.command(args...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(strings.Join(args, " "), mute) {
			<-taken
		} else {
			b.eventually("it waits", func() bool {
				text, err := os.ReadFile(b.dir + "/stopped.record")
				return err == nil && bytes.Contains(text, []byte(`"kind":"step"`))
			})
		}
		time.Sleep(100 * time.Millisecond) // so that it waits, and has not only begun to
		cmd.Process.Signal(syscall.SIGINT)
		stop := time.AfterFunc(8*time.Second, func() { cmd.Process.Kill() })
		status := b.status(cmd.Wait())
		if !stop.Stop() || status != 130 {
			t.Errorf("%v ended with %d\n%s%s", c.args, status, out, errOut)
		}
		if all := out.String() + errOut.String(); !strings.Contains(all, c.words) || strings.Contains(all, "panic") {
			t.Errorf("%v said\n%s", c.args, all)
		}
		if c.record {
			b.run("report", "stopped.record", "--verify").wants(t, 0, "whole")
		}
	}
}

// The first Ctrl-C ends the prompt for a secret, and the terminal shows what is typed
// again.
func TestSecretPromptStops(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("secret.parrot", "procedure \"Secret\"\nsecret code \"of the tower\"\nport valley: dialect at, ending cr\nstep \"a\"\n    say valley: {code}\nend\n")
	cmd := exec.Command("sh", "-c", "trap : INT; '"+uparrot+"' run secret.parrot --port valley=none; stty -a")
	cmd.Dir = b.dir
	terminal, err := pty.Start(cmd)
	if err != nil {
		t.Fatal(err)
	}
	defer terminal.Close()
	var seen bytes.Buffer
	buf := make([]byte, 4096)
	for !strings.Contains(seen.String(), "not shown: ") {
		n, err := terminal.Read(buf)
		if err != nil {
			t.Fatalf("%v after %s", err, seen.String())
		}
		seen.Write(buf[:n])
	}
	time.Sleep(200 * time.Millisecond)
	if _, err := terminal.Write([]byte{3}); err != nil {
		t.Fatal(err)
	}
	for {
		n, err := terminal.Read(buf)
		seen.Write(buf[:n])
		if err != nil {
			break
		}
	}
	cmd.Wait()
	if all := seen.String(); !strings.Contains(all, "interrupted") || !strings.Contains(all, " echo ") {
		t.Errorf("after the prompt: %s", all)
	}
}

// Whatever prints ends with 5 where that cannot be written, and says so.
func TestFullOutput(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/dev/full"); err != nil {
		t.Skip("SKIPPED: this system has no /dev/full")
	}
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("at.parrot", "procedure \"At\"\nport valley: dialect at, ending cr, phrasebook \"dunlin.toml\"\nstep \"it answers\"\n    say valley: AT\n    limit 1 in 0..2 \"one\"\nend\n")
	b.run("run", "at.parrot", "--bench", "larkfell.toml", "--ledger", "l.sqlite", "--record", "r.record", "--unit", "LK-1").wants(t, 0)
	for _, command := range []string{"results --ledger l.sqlite", "results --json --ledger l.sqlite", "results show last --ledger l.sqlite", "results show last --json --ledger l.sqlite", "results unit LK-1 --ledger l.sqlite",
		"results yield --ledger l.sqlite", "results export --ledger l.sqlite", "results export --table runs --ledger l.sqlite", "phrasebook show dunlin.toml", "check at.parrot", "check --json at.parrot",
		"report r.record", "report r.record --as csv", "report r.record --as html --out -", "schema bench", "settings read valley --json --bench larkfell.toml --no-ledger", "settings read valley --bench larkfell.toml --no-ledger",
		"run at.parrot --json --bench larkfell.toml --no-ledger", "run at.parrot --plan --bench larkfell.toml", "tidy at.parrot", "rehearse at.parrot --json", "units list --ledger l.sqlite", "help hear", "ports", "completion bash", "--version"} {
		cmd := exec.Command("bash", "-c", "'"+uparrot+"' "+command+" >/dev/full")
		cmd.Dir = b.dir
		out, err := cmd.CombinedOutput()
		if status := b.status(err); status != 5 || !strings.Contains(string(out), "no space left") {
			t.Errorf("%s: %d: %s", command, status, out)
		}
	}
}

// Streams that are closed, full or of no terminal harm no command: it ends with a status
// of its own, and what is lost is not silent.
func TestStreams(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("at.parrot", "procedure \"At\"\nport valley: dialect at, ending cr, phrasebook \"dunlin.toml\"\nstep \"it answers\"\n    say valley: AT\nend\n")
	for _, command := range []string{"--version", "ports", "check at.parrot", "tidy at.parrot", "results yield --ledger l.sqlite", "run at.parrot --bench larkfell.toml --no-ledger",
		"talk valley --bench larkfell.toml --for 300ms --no-ledger", "probe valley --bench larkfell.toml --no-ledger", "standin larkfell.toml --tell \"power valley cycle\""} {
		for _, streams := range []string{"<&-", ">&-", "2>&-", "<&- >&- 2>&-", ">/dev/full", "2>/dev/full", "| head -c 1", "</dev/null"} {
			cmd := exec.Command("bash", "-c", "set -o pipefail; '"+uparrot+"' "+command+" "+streams)
			cmd.Dir = b.dir
			out, err := cmd.CombinedOutput()
			status := b.status(err)
			if status > 5 || strings.Contains(string(out), "panic") {
				t.Errorf("%s %s: %d: %s", command, streams, status, out)
			}
			prints := strings.HasPrefix(command, "--version") || strings.HasPrefix(command, "tidy") || strings.HasPrefix(command, "run")
			if streams == ">/dev/full" && prints && (status == 0 || !strings.Contains(string(out), "no space left")) {
				t.Errorf("%s %s: %d, and nothing says that the output was lost: %s", command, streams, status, out)
			}
		}
	}
}
