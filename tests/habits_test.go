//go:build unix

package tests

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"uparrot/core/port"
	"uparrot/core/uart"
)

var onlyHabit = flag.String("habit", "", "try the habits alone whose name holds this")

// echoing is how a module repeats what it is told.
type echoing int

const (
	noEcho   echoing = iota
	byByte           // each byte as it comes
	byLine           // the whole line once it has ended
	lateEcho         // the whole line, a while after it has ended
)

// habit is how an invented module speaks, and what comes of each tool at it. In what it
// says, {300} is a pause of so many milliseconds, and @ the value that is 42 at a good
// module and 99 at a bad one.
type habit struct {
	name    string
	line    uart.Line         // that it wants; the zero value takes any
	ends    string            // what ends a line for it, CR if nothing is said; "any" is any line end
	echo    echoing           //
	boot    string            // what it says when it is first spoken to
	prompt  string            // what it shows when it waits for a line
	answers map[string]string // by line
	other   string            // to any other line; "" is nothing
	keys    map[string]string // to single bytes, at once
	chatter string            // what it says by itself, every 400 ms
	bytes   bool              // answers are to single bytes

	says   []string // what is said by hand
	wake   []string // what probe may say, beside Enter
	probe  []string // more flags of probe
	probed string   // what probe must find
	fails  bool     // probe finds nothing, and says so
	bench  string   // what a person who knows it adds to the port's entry, or all of it where probe finds nothing
	hears  string   // what must stand in the account of each tool
	bad    []string // what the run of a bad module must show; 42 and 99 if nothing is said
}

// invented is a module with a habit, at a pseudo-terminal.
type invented struct {
	habit
	at *port.Pseudo

	mu    sync.Mutex
	value string
	busy  bool     // within an answer
	early []string // lines that came then

	stalled bool // a pause was longer than was meant
}

var pauses = regexp.MustCompile(`\{(\d+)\}`)

// say writes a text with its pauses; {sum} is the sum of the bytes before it.
func (m *invented) say(text string) {
	m.mu.Lock()
	text = strings.ReplaceAll(text, "@", m.value)
	m.mu.Unlock()
	if before, after, found := strings.Cut(text, "{sum}"); found {
		sum := byte(0)
		for _, c := range []byte(before) {
			sum += c
		}
		text = before + string([]byte{sum}) + after
	}
	for text != "" {
		at := pauses.FindStringSubmatchIndex(text)
		if at == nil {
			m.mu.Lock()
			m.busy = false // whoever is told this may speak
			m.mu.Unlock()
			m.write(text)
			return
		}
		m.write(text[:at[0]])
		ms, _ := strconv.Atoi(text[at[2]:at[3]])
		pause, began := time.Duration(ms)*time.Millisecond, time.Now()
		time.Sleep(pause)
		if time.Since(began) > pause+60*time.Millisecond { // this machine was busy: it was another silence than was meant
			m.mu.Lock()
			m.stalled = true
			m.mu.Unlock()
		}
		text = text[at[1]:]
	}
}

// speaks is how the module's line is set.
func (m *invented) speaks() uart.Line {
	if m.line.Speed == 0 {
		return uart.DefaultLine
	}
	return m.line
}

// write sends bytes; a host that is set otherwise hears something else.
func (m *invented) write(text string) {
	b := []byte(text)
	if set, known := m.at.HostLine(); known {
		b, _ = uart.HearChecking(m.speaks(), set, b)
	}
	m.at.Write(b)
}

// set says how the module is from now on: good or bad, and newly started.
func (m *invented) set(value string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.value, m.busy, m.early, m.stalled = value, false, nil, false
}

// live answers until the terminal is closed.
func (m *invented) live() {
	lines := make(chan string, 100)
	go func() {
		defer close(lines)
		m.listen(lines)
	}()
	if m.chatter != "" {
		stop := make(chan struct{})
		defer close(stop)
		go func() {
			for {
				select {
				case <-time.After(400 * time.Millisecond):
					m.write(m.chatter)
				case <-stop:
					return
				}
			}
		}()
	}
	booted := m.boot == ""
	for line := range lines {
		if !booted {
			booted = true
			m.say(m.boot)
		}
		answer, known := m.answers[line]
		if key, is := m.keys[line]; is {
			answer, known = key, true
		}
		if !known && line != "" {
			answer = strings.ReplaceAll(m.other, "%", line)
		}
		if m.echo == byLine || m.echo == lateEcho {
			if m.echo == lateEcho {
				time.Sleep(150 * time.Millisecond)
			}
			answer = line + "\r\n" + answer
		}
		if !strings.HasSuffix(answer, ": ") && !strings.HasSuffix(answer, "--") && !strings.HasSuffix(answer, "] ") { // it asks for something first
			answer += m.prompt
		}
		m.say(answer)
	}
}

// listen cuts what comes into lines.
func (m *invented) listen(lines chan<- string) {
	buf := make([]byte, 1000)
	text := ""
	for {
		n, err := m.at.Read(buf)
		if err != nil {
			return
		}
		came := buf[:n]
		if set, known := m.at.HostLine(); known {
			came, _ = uart.Hear(set, m.speaks(), came)
		}
		for _, c := range came {
			if m.echo == byByte {
				m.write(string(c))
			}
			if _, key := m.keys[string(c)]; key && text == "" {
				lines <- string(c)
				continue
			}
			text += string([]byte{c})
			line, ended := strings.CutSuffix(text, m.ends)
			switch {
			case m.bytes:
				line, ended = text, text != "\r" && text != "\n"
			case m.ends == "any":
				line, ended = strings.TrimRight(text, "\r\n"), c == '\r' || c == '\n'
			case m.ends == "":
				line, ended = strings.CutSuffix(text, "\r")
			}
			if !ended {
				if m.bytes {
					text = ""
				}
				continue
			}
			text = ""
			_, known := m.answers[line]
			m.mu.Lock()
			if m.busy && known {
				m.early = append(m.early, line)
			}
			m.busy = m.busy || known
			m.mu.Unlock()
			lines <- line
		}
	}
}

// wrongly are the lines that came within an answer.
func (m *invented) wrongly() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.stalled {
		return nil
	}
	return m.early
}

// tried is one habit with its module and folder.
type tried struct {
	habit
	m    *invented
	dir  string
	fail func(format string, args ...any)
}

func (h *tried) run(in string, args ...string) (status int, all string) {
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, uparrot, args...)
	cmd.Dir = h.dir
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+h.dir, "XDG_CONFIG_HOME="+h.dir, "UPARROT_PASSWORD=snowline-7", "UPARROT_WICKET=snowline-7")
	cmd.Stdin = strings.NewReader(in)
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		return -1, err.Error()
	}
	return cmd.ProcessState.ExitCode(), string(out)
}

// wants fails unless a tool ended with a status and told all of some words.
func (h *tried) wants(tool string, want int, status int, all string, words ...string) bool {
	ok := status == want
	for _, w := range words {
		ok = ok && strings.Contains(all, w)
	}
	if !ok {
		h.fail("%s ended with %d, wanted %d and %q:\n%s", tool, status, want, words, all)
	}
	if early := h.m.wrongly(); len(early) > 0 && strings.HasPrefix(tool, "talk") {
		h.fail("%s said %q within an answer:\n%s", tool, early, all)
	}
	return ok
}

// tools drives the habit through probe, talk, learn and run, each on what the one before
// has found.
func (h *tried) tools() {
	h.m.set("42")
	args := []string{"probe", h.m.at.Path(), "--into", "found.toml", "--name", "module", "--wake", ""}
	for _, w := range h.wake {
		args = append(args, "--wake", w)
	}
	if h.probe == nil { // this machine may be busy, and so may the module
		h.probe = []string{"--within", "500ms"}
	}
	status, all := h.run("", append(args, h.probe...)...)
	want := 0
	if h.fails {
		want = 1
	}
	probed := all
	if !h.wants("probe", want, status, all, h.probed) || len(h.says) == 0 {
		return
	}
	entry, err := os.ReadFile(filepath.Join(h.dir, "found.toml"))
	if h.fails {
		entry, err = fmt.Appendf(nil, "[port.module]\nat = %q\n", h.m.at.Path()), nil
	}
	if err != nil {
		h.fail("probe wrote nothing: %v", err)
		return
	}
	os.WriteFile(filepath.Join(h.dir, "bench.toml"), []byte(string(entry)+h.bench), 0o600)
	on := []string{"--bench", "bench.toml", "--within", "25s"}

	h.m.set("42")
	status, all = h.run(strings.Join(h.says, "\n")+"\n", append([]string{"talk", "module", "--record", "hand.record"}, on...)...)
	if !h.wants("talk in a pipe", 0, status, all, h.hears) {
		h.fail("probe wrote\n%s\nand said\n%s", entry, probed)
		return
	}
	h.view(on)

	status, all = h.run("", "learn", "hand.record", "--out", "learned.parrot")
	if !h.wants("learn", 0, status, all) {
		return
	}
	text, _ := os.ReadFile(filepath.Join(h.dir, "learned.parrot"))
	h.m.set("42")
	status, all = h.run("", "run", "learned.parrot", "--bench", "bench.toml", "--no-ledger")
	if !h.wants("run, of a good module,", 0, status, all) {
		h.fail("learned was\n%s", text)
		if r, _ := os.ReadFile(filepath.Join(h.dir, "hand.record")); os.Getenv("SHOW") != "" {
			h.fail("%s", r)
		}
		return
	}
	h.m.set("99")
	status, all = h.run("", "run", "learned.parrot", "--bench", "bench.toml", "--no-ledger", "--ask-for", "0")
	bad := h.bad
	if bad == nil {
		bad = []string{"42", "99"}
	}
	if !h.wants("run, of a bad module,", 1, status, all, bad...) {
		h.fail("learned was\n%s", text)
	}
}

// view has a person paste the same lines into the view, in a terminal.
func (h *tried) view(on []string) {
	h.m.set("42")
	s, err := newSeat(h.dir, append([]string{"talk", "module", "--record", "view.record"}, on...)...)
	if err != nil {
		h.fail("talk in the view: %v", err)
		return
	}
	defer s.close()
	if !s.sees("F1 keys", 30*time.Second) {
		h.fail("the view did not open:\n%s", s.screen.String())
		return
	}
	s.keys.WriteString("\x1b[200~" + strings.Join(h.says, "\n") + "\n\x1b[201~")
	if !s.sees(h.hears, 60*time.Second) {
		h.fail("the view never showed %q:\n%s", h.hears, s.screen.String())
		return
	}
	time.Sleep(500 * time.Millisecond) // a prompt may follow
	s.keys.WriteString(ctrlC)
	if err := s.wait(30 * time.Second); err != nil {
		h.fail("the view ended with %v", err)
	}
	if early := h.m.wrongly(); len(early) > 0 {
		h.fail("the view said %q within an answer", early)
	}
}

// Every habit through every tool: what probe offers, talk, run and learn understand; no
// line is said within an answer; what is learned by hand passes a good module and fails a
// bad one.
func TestHabits(t *testing.T) {
	t.Parallel()
	const atOnce = 6 // more load the machine so that other tests see pauses that nobody made
	slots := make(chan struct{}, atOnce)
	var all sync.WaitGroup
	for _, one := range habits {
		if !strings.Contains(one.name, *onlyHabit) {
			continue
		}
		at, err := port.OpenPseudo()
		if err != nil {
			t.Fatal(err)
		}
		h := &tried{habit: one, m: &invented{habit: one, at: at, value: "42"}, dir: t.TempDir()}
		h.fail = func(format string, args ...any) { t.Errorf("%s: %s", h.name, fmt.Sprintf(format, args...)) }
		var lives sync.WaitGroup
		lives.Go(h.m.live)
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			h.tools()
			at.Close()
			lives.Wait()
		})
	}
	all.Wait()
	if *onlyHabit == "" && len(habits) < 80 {
		t.Errorf("there are %d habits", len(habits))
	}
}
