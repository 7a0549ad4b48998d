//go:build unix

package tests

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"uparrot/tests/loopback"

	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
)

// seat is the program in a terminal of 100 by 30.
type seat struct {
	cmd  *exec.Cmd
	keys *os.File

	mu     sync.Mutex
	seen   strings.Builder
	screen *vt.SafeEmulator // what a terminal makes of it
}

// newSeat starts the program in a terminal.
func newSeat(dir string, args ...string) (*seat, error) {
	p := &seat{cmd: exec.Command(uparrot, args...), screen: vt.NewSafeEmulator(100, 30)}
	p.cmd.Dir = dir
	p.cmd.Env = append(os.Environ(), "TERM=xterm-256color", "XDG_CONFIG_HOME="+dir+"/config", "UPARROT_WICKET=snowline-7")
	var err error
	if p.keys, err = pty.StartWithSize(p.cmd, &pty.Winsize{Rows: 30, Cols: 100}); err != nil {
		return nil, err
	}
	go io.Copy(p.keys, p.screen) // a terminal answers what it is asked
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := p.keys.Read(buf)
			p.mu.Lock()
			p.seen.Write(buf[:n])
			p.mu.Unlock()
			p.screen.Write(buf[:n])
			if err != nil {
				return
			}
		}
	}()
	return p, nil
}

// sees waits until some text stands on the screen.
func (p *seat) sees(text string, within time.Duration) bool {
	for end := time.Now().Add(within); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if strings.Contains(p.screen.String(), text) {
			return true
		}
	}
	return false
}

// wait waits until the program has ended.
func (p *seat) wait(within time.Duration) error {
	done := make(chan error, 1)
	go func() { done <- p.cmd.Wait() }()
	select {
	case err := <-done:
		return err
	case <-time.After(within):
		return fmt.Errorf("it has not ended after %v", within)
	}
}

func (p *seat) close() {
	p.keys.Close()
	p.cmd.Process.Kill()
	p.cmd.Wait()
}

// person is somebody at a terminal.
type person struct {
	*seat
	t testing.TB
}

// sit has a person start the program.
func (b *bench) sit(args ...string) *person {
	b.t.Helper()
	s, err := newSeat(b.dir, args...)
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(s.close)
	return &person{s, b.t}
}

// types types keys, and waits until some text has come since, or stands on a screen
// that has changed since.
func (p *person) types(keys, until string) {
	p.t.Helper()
	p.mu.Lock()
	from := p.seen.Len()
	p.mu.Unlock()
	before := p.screen.String()
	if _, err := p.keys.WriteString(keys); err != nil {
		p.t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		p.mu.Lock()
		text := p.seen.String()[from:]
		p.mu.Unlock()
		now := p.screen.String()
		if strings.Contains(text, until) || now != before && strings.Contains(now, strings.TrimRight(until, " ")) {
			return
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	text := p.seen.String()[from:]
	p.t.Fatalf("typed %q, never saw %q in\n%.2000q\nwhich is\n%s", keys, until, text[max(0, len(text)-2000):], p.screen.String())
}

// asked waits until some text has come so many times.
func (p *person) asked(text string, times int) {
	p.t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		p.mu.Lock()
		n := strings.Count(p.seen.String(), text)
		p.mu.Unlock()
		if n >= times {
			return
		}
	}
	p.t.Fatalf("%q did not come %d times:\n%s", text, times, p.screen.String())
}

const (
	f2, f3, f4, f6, f7, f12 = "\x1bOQ", "\x1bOR", "\x1bOS", "\x1b[17~", "\x1b[18~", "\x1b[24~"
	enter, ctrlC, ctrlF     = "\r", "\x03", "\x06"
)

// A person speaks with a modem in every way that the view has.
func TestTalkView(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("station.toml", strings.Replace(b.read("station.toml"), "speed = 38400", "speed = 115200", 1))
	b.start("for other commands", "standin", "station.toml")
	p := b.sit("talk", "modem", "gates", "--bench", "station.toml", "--record", "r.jsonl")
	p.types("", "F1 keys")
	p.types("\x1bOP", "F1 shows more") // more keys than rows
	p.types("\x181", "bytes by name")
	p.types("\x181", "F1 keys")
	p.types("AT+CGMI"+enter, "Larkfell Works")
	p.types("@err", "0 bare ERROR")
	p.types("\t=2"+enter, "AT+CMEE=2")
	p.types("AT+CGMX"+enter, "operation not")
	p.types("@error form=7"+enter, "takes a number from 0 to 2")
	p.types("\x1b[3~"+strings.Repeat("\x7f", 20), "")
	p.types("@signal", "+CSQ") // found by what it means
	p.types("\t", "modem > AT+CSQ ")
	p.types("\x02", "Alt-1 says AT+CSQ")
	p.types(strings.Repeat("\x7f", 6), "Alt-1 AT+CSQ")
	p.types("\x1b1", "+CSQ: ")
	p.types("@send", "+CMGS=")
	p.types("\t", "fill in: number")
	p.types(enter, "still to be filled in")
	p.types("+15550100", "AT+CMGS=\"+15550100\" ")
	p.types("\x0b"+strings.Repeat("\x7f", 30), "times clock")
	p.types("AT+CMGF=1"+enter, "OK")
	p.types(`AT+CMGS="+15550100"`+enter, "< > ")
	p.types("Gondola 4{ctrl-z}"+enter, "+CMGS: 1")
	p.types("\x1b[200~AT+CSQ\nAT+CREG?\n\x1b[201~", "+CREG: 0,1") // pasted
	p.types(f4, "view hex")
	p.types(f4+f4, "view text")
	p.types(f3, "ending lf")
	p.types(f3+f3+f3, "ending cr ")
	p.types(f6+"9600 7E1"+enter, "9600 7E1")
	p.types(f6+"fast"+enter, "no speed and no frame")
	p.types("\x186115200 8N1"+enter, "115200 8N1") // Ctrl-X 6 is F6
	p.types("\x14", " console ")                   // the dialect
	p.types("\x14\x14\x14", "  at  ")
	p.types("\x12r.jsonl"+enter, "--record and its copy are both r.jsonl")
	p.types("\x12station.toml"+enter, "station.toml is what this command reads")
	p.types("\x12kept.record"+enter, "will also lie at kept.record")
	p.types("\x0cCSQ"+enter, "only lines with \"csq\"")
	p.types("\x0c"+enter, "times clock ")
	p.types("\x180", "chatter folded")
	p.types("\x180", "changes only")
	p.types("\x180", "view text  times clock ")
	p.types(f7, "no signal lines")
	p.types("\x10", "the next line is a secret")
	p.types("frost-and-rime"+enter, "[secret]")
	p.types(ctrlF+"CMGS"+enter, "search: ")
	p.types("\x1b", "")
	time.Sleep(100 * time.Millisecond) // an escape alone is told from a key by time
	p.types("\x0e", "gates > ")        // the other port
	p.types("\x0e", "modem > ")
	p.types(f2, "comes back")
	p.types("ATI", "ATI") // the modem's own echo
	p.types(enter, "Curlew")
	p.types("\x1d", "\x1b[!p")
	p.types(f2, "comes back")
	p.types(f12, "\x1b[!p")
	p.types("", "modem > ")
	p.types(ctrlC, "\x1b[?1049l")
	if err := p.cmd.Wait(); err != nil {
		t.Error(err)
	}
	if strings.Contains(b.read("r.jsonl"), "frost-and-rime") {
		t.Error("the record has what was said to be a secret")
	}
	if b.read("kept.record") != b.read("r.jsonl") {
		t.Error("the record is not the one that was asked for")
	}
	if n := events(t, b.read("r.jsonl")); n["in"] < 10 || n["out"] < 10 || n["close"] != 2 {
		t.Errorf("the record holds %v", n)
	}
}

// Without a terminal talk works in a pipe; a port that goes and returns is
// waited for.
func TestTalkPlain(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	standin := b.start("for other commands", "standin", "larkfell.toml")
	pipe := func(in string, args ...string) call {
		cmd, out, errOut := b.command(append([]string{"talk", "valley", "--bench", "larkfell.toml"}, args...)...)
		cmd.Stdin = strings.NewReader(in)
		return call{b.status(cmd.Run()), out.String(), errOut.String()}
	}
	c := pipe("AT\n@address=5\n@address\nAT~TELL=9,3,a{esc}[2J\nAT~X\n").wants(t, 0, "> AT\n", "< OK\n", "> AT~NODE=5\n", "< ~NODE: 5\n", "< ~REFUSED: 31\n")
	if strings.Contains(c.out, "\x1b") {
		t.Errorf("an escape reached the terminal: %q", c.out)
	}
	pipe("@adres\n").wants(t, 2, `Did you mean "address"?`)
	pipe("AT\n"+strings.Repeat("x", 2<<20)+"\nAT\n").wants(t, 3, "read what is to be said", "too long")
	pipe("AT~RESTART\n", "--until-heard", "DUNLIN UP ...", "--for", "20s").wants(t, 0, "DUNLIN UP 2.4.1")
	pipe("", "--until-heard", "never", "--for", "200ms").wants(t, 1, "no line like never came within 200ms")
	pipe("", "--until-heard", "{x").wants(t, 2, "not closed")
	pipe("", "--ending", "crfl").wants(t, 2, `Did you mean "crlf"?`)

	cmd, out, errOut := b.command("talk", "valley", "--bench", "larkfell.toml", "--reopen", "--until-heard", "DUNLIN UP ...", "--for", "60s", "--record", "r.jsonl")
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	b.waitFor("r.jsonl", `"kind":"open"`)
	standin.Process.Signal(syscall.SIGTERM)
	standin.Wait()
	b.waitFor("r.jsonl", `"kind":"close"`)
	b.start("for other commands", "standin", "larkfell.toml")
	for end := time.Now().Add(20 * time.Second); strings.Count(b.read("r.jsonl"), `"kind":"open"`) < 2 && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
	in.Write([]byte("AT~RESTART\n"))
	in.Close()
	if status := b.status(cmd.Wait()); status != 0 || !strings.Contains(out.String(), "vanished while in use") || !strings.Contains(out.String(), "the port is back") {
		t.Errorf("ended with %d: %s%s", status, out, errOut)
	}
	// Without --reopen the port's going ends it.
	again, _ := filepath.Glob(filepath.Join(b.dir, "larkfell.ports/valley"))
	if len(again) != 1 {
		t.Fatal("the stand-in is not there")
	}
}

// questions are what a program asks a terminal: for colours, its place, its kind, modes.
var questions = regexp.MustCompile("\x1b\\][0-9]+;\\?|\x1b\\[[?>=0-9;]*[nc]|\x1b\\[[?0-9;]*\\$p|\x1bP[+$]q|\x1b\\[>[0-9]*q")

// No command asks the terminal anything unless it draws a view, on a terminal that is
// silent and tells no width; what was typed ahead is left for whoever reads next, and
// progress is shown all the same.
func TestNoQuestions(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("slow.parrot", "procedure \"Slow\"\nport valley: dialect at, ending cr, phrasebook \"dunlin.toml\"\nstep \"wait\"\n    not hear valley for 2500ms: never\nend\n")
	for _, args := range [][]string{{"--version"}, {"--help"}, {"ports"}, {"check", "commission.parrot"}, {"results", "yield", "--ledger", "none.sqlite"},
		{"run", "slow.parrot", "--bench", "larkfell.toml"}, {"link", "budget", "--help"}} {
		cmd := exec.Command(uparrot, args...)
		cmd.Dir = b.dir
		cmd.Env = append(os.Environ(), "TERM=xterm-256color")
		terminal, err := pty.StartWithSize(cmd, &pty.Winsize{})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := terminal.WriteString("typed ahead\n"); err != nil {
			t.Fatal(err)
		}
		var seen strings.Builder
		io.Copy(&seen, terminal) // it ends with an error when the program has gone
		cmd.Wait()
		terminal.Close()
		if found := questions.FindString(seen.String()); found != "" {
			t.Errorf("%v asks %q", args, found)
		}
		if args[0] == "run" && !strings.Contains(seen.String(), "waiting for nothing like never at valley") {
			t.Errorf("%v shows no progress:\n%q", args, seen.String())
		}
	}
}

// In a pipe each line waits for the answer to the one before, however slow the module is; a
// secret is one although it stood in the pipe before the module asked; a line without an
// answer fails.
func TestTalkWaits(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	const slow = 400 * time.Millisecond
	early := make(chan string, 10)
	at := loopback.Serve(t, func(conn net.Conn) {
		lines := bufio.NewScanner(conn)
		for _, turn := range []struct{ line, answer string }{
			{"crew", "Password: "}, {"snowline-7", "\r\nwelcome\r\n"}, {"gusts", "7\r\n8\r\n"}, {"code", "[hidden]\r\n"}, {"deaf", ""},
		} {
			if !lines.Scan() {
				return
			}
			if lines.Text() != turn.line {
				early <- lines.Text()
			}
			time.Sleep(slow) // nothing may come meanwhile
			conn.SetReadDeadline(time.Now().Add(time.Millisecond))
			if n, _ := conn.Read(make([]byte, 1)); n > 0 {
				early <- turn.line
			}
			conn.SetReadDeadline(time.Time{})
			io.WriteString(conn, turn.answer)
		}
		lines.Scan()
	})
	talk := func(in string, more ...string) call {
		return b.runWith([]string{"UPARROT_WICKET=code"}, in, append([]string{"talk", "tcp://" + at, "--ending", "lf"}, more...)...)
	}
	c := talk("crew\nsnowline-7\ngusts\n{secret wicket}\n", "--within", "20s", "--record", "hand.record").wants(t, 0, "> crew", "< Password:", "> [secret]", "< welcome", "< 8", "< [hidden]")
	for where, text := range map[string]string{"screen": c.out + c.err, "record": b.read("hand.record")} {
		if strings.Contains(text, "snowline-7") || strings.Contains(text, "code") {
			t.Errorf("the %s holds a secret:\n%s", where, text)
		}
	}
	talk("crew\nsnowline-7\ngusts\ncode\ndeaf\n", "--within", "4s").wants(t, 1, "nothing came within 4s", "1 line got no answer")
	talk("{secret gate}\n").wants(t, 2, "UPARROT_GATE")
	talk("crew\n", "--dialect", "gossip").wants(t, 2, "--dialect")
	talk("crew\n", "--final", "{").wants(t, 2, "--final")
	select {
	case what := <-early:
		t.Errorf("said in the midst of an answer, or not at all: %q", what)
	default:
	}
}

// What probe offers for a module with words of its own talk and run understand the same way.
func TestProbedIsUnderstood(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	at := loopback.Serve(t, func(conn net.Conn) {
		line := ""
		buf := make([]byte, 100)
		for {
			n, err := conn.Read(buf)
			if err != nil {
				return
			}
			for line += string(buf[:n]); strings.Contains(line, "\r"); {
				var one string
				one, line, _ = strings.Cut(line, "\r")
				if strings.Contains(one, "\n") || one == "" {
					continue // it knows no such line
				}
				time.Sleep(100 * time.Millisecond)
				io.WriteString(conn, "hoist "+one+"\r\n")
				time.Sleep(100 * time.Millisecond)
				io.WriteString(conn, "{done}\r\n")
			}
		}
	})
	b.run("probe", "tcp://"+at, "--wake", "one", "--wake", "two", "--into", "found.toml", "--name", "hoist", "--no-ledger").wants(t, 0, "ending cr, dialect lines, final \"{done}\"")
	if entry := b.read("found.toml"); !strings.Contains(entry, `final = "{{done}}"`) {
		t.Error(entry)
	}
	b.runWith(nil, "three\nfour\n", "talk", "hoist", "--bench", "found.toml").wants(t, 0, "> four", "< {done}")
	b.write("hoist.parrot", "procedure \"Hoist\"\nport hoist\nstep \"a\"\n    say hoist: three\n    hear hoist: hoist three\nend\nstep \"b\"\n    say hoist: four\n    hear hoist: hoist four\nend\n")
	b.run("run", "hoist.parrot", "--bench", "found.toml", "--no-ledger").wants(t, 0, "passed")
}

// A person at a terminal is asked about a step that has failed: a further try is one on
// record, by a mended file too, and none that counts as a first pass; nobody's answer stops.
func TestSecondAttempt(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "station.toml")
	text := "procedure \"Second\"\nport gates: dialect lines, ending lf, phrasebook \"redshank.toml\"\nstep \"who\"\n    say gates: who\n    hear gates within 8s: redshank board {b:int}\n    check b == 4 \"the other board\"\nend\nstep \"on\"\n    say gates: relay 1 on\n    hear gates within 8s: relay 1 is on\nend\n"
	b.write("second.parrot", text)
	run := []string{"run", "second.parrot", "--bench", "station.toml", "--ledger", "l.sqlite", "--record"}
	p := b.sit(append(run, "one.record", "--unit", "RS-1")...)
	const question = "again, go on, or stop?"
	p.asked(question, 1)
	p.types("a\n", "")
	p.asked(question, 2)
	b.write("second.parrot", strings.Replace(text, "step \"on\"", "step \"off\"", 1))
	p.types("a\n", "step off is new")
	p.asked(question, 3)
	b.write("second.parrot", strings.Replace(text, "\nend\n", "\nendd\n", 1))
	p.types("a\n", "second.parrot:7")
	p.asked(question, 4)
	b.write("second.parrot", strings.Replace(text, "b == 4", "b == 3", 1))
	book := b.read("redshank.toml")
	b.write("redshank.toml", book+"# changed\n")
	p.types("a\n", "a phrasebook has changed")
	p.asked(question, 5)
	b.write("redshank.toml", book)
	p.types("again\n", "all 2 steps")
	if err := p.cmd.Wait(); err != nil {
		t.Error(err)
	}
	rec := b.read("one.record")
	for _, want := range []string{`"by_hand":true`, `"mended":{"second.parrot":"`, "second.parrot"} {
		if !strings.Contains(rec, want) {
			t.Errorf("the record has no %s", want)
		}
	}
	b.run("results", "yield", "--ledger", "l.sqlite").wants(t, 0, "first pass  0 of 1", "final       1 of 1")
	for form, want := range map[string]string{
		"text": "a person asked for another, by second.parrot as mended meanwhile", "html": "by hand, ", "junit": `<property name="tries of who" value="3, 2 by hand; by second.parrot as it was mended meanwhile, SHA-256`,
		"markdown": "| 3, 2 by hand |", "csv": ",2\n",
	} {
		args := []string{"report", "one.record", "--as", form}
		if form == "csv" {
			args = append(args, "--table", "steps")
		}
		b.run(args...).wants(t, 0, want)
	}
	b.write("second.parrot", text)
	p = b.sit(append(run, "two.record", "--unit", "RS-2")...)
	p.types("", "again, go on, or stop?")
	p.types("g\n", "1 of 2 steps passed")
	if b.status(p.cmd.Wait()) != 1 {
		t.Error("a run that went on after a failed step has not failed")
	}
	p = b.sit(append(run, "three.record", "--ask-for", "300ms")...)
	p.types("", "nobody answered for 300ms: it stops")
	if b.status(p.cmd.Wait()) != 1 {
		t.Error("a run that stopped has not failed")
	}
	p = b.sit(append(run, "four.record", "--ask-for", "0")...)
	p.types("", "0 of 2 steps passed")
	if p.cmd.Wait(); strings.Contains(p.screen.String(), "go on, or stop") {
		t.Error("somebody was asked")
	}
	for _, r := range []string{"one", "two", "three"} {
		b.run("report", r+".record", "--verify").wants(t, 0, "whole")
		b.run("report", r+".record").wants(t, 0)
	}
}
