//go:build linux

package real

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// serverTool is the network serial server of Debian.
func serverTool(t *testing.T) string {
	t.Helper()
	return needFile(t, "/usr/sbin/ser?net", "a network serial server; .ci/run installs it")
}

// server starts a network serial server at a device.
func server(t *testing.T, device string) (start func() *exec.Cmd, at string) {
	t.Helper()
	tool := serverTool(t)
	where, number := free(t)
	config := write(t, "server.yaml", fmt.Sprintf("%%YAML 1.1\n---\nconnection: &tower\n  accepter: telnet(rfc2217),tcp,127.0.0.1,%s\n  connector: serialdev,%s,9600n81,local\n", number, device))
	start = func() *exec.Cmd {
		cmd := peer(t, tool, "-d", "-c", config)
		listening(t, number)
		return cmd
	}
	return start, "rfc2217://" + where
}

// A server after RFC 2217: speeds, stop bits, flow control, and that it goes away and
// comes back. The test is the module, and looks at the device itself.
func TestServer(t *testing.T) {
	module, device, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	defer device.Close()
	defer module.Close()
	go answer(module, func(line string) string {
		state, err := unix.IoctlGetTermios(int(device.Fd()), unix.TCGETS)
		if err != nil {
			return err.Error() + "\r\n"
		}
		stop, flow := 1, "none"
		if state.Cflag&unix.CSTOPB != 0 {
			stop = 2
		}
		switch {
		case state.Cflag&unix.CRTSCTS != 0:
			flow = "rtscts"
		case state.Iflag&unix.IXOFF != 0:
			flow = "xonxoff"
		}
		return fmt.Sprintf("%s: speed %d stop %d flow %s\r\nDONE\r\n", line, speedOf(state.Cflag&unix.CBAUD), stop, flow)
	})
	start, at := server(t, device.Name())
	running := start()
	var list, want []string
	for _, speed := range []int{1200, 4800, 9600, 19200, 38400, 57600, 115200} {
		list = append(list, fmt.Sprintf("line tower speed %d / pause 100ms / say tower: look / hear tower: look: speed %d stop 1 flow {}", speed, speed))
		want = append(want, "passed")
	}
	list = append(list, "line tower frame 8N2 / pause 100ms / say tower: look / hear tower: look: speed 115200 stop 2 flow {}", "line tower frame 8N1",
		"say tower: wait / hear tower within 2s: never")
	want = append(want, "passed", "passed", "failed wanted never, heard")
	head := "port tower: dialect lines, ending cr, final \"DONE\""
	perform(t, steps(head, list...), []string{"tower=" + at}, want...)
	perform(t, steps(head+", flow xonxoff", "pause 100ms / say tower: look / hear tower: look: speed {} stop 1 flow xonxoff"), []string{"tower=" + at}, "passed")

	go func() { // it goes away and comes back
		time.Sleep(2 * time.Second)
		running.Process.Kill()
		running.Wait()
		time.Sleep(time.Second)
		start()
	}()
	perform(t, steps(head, "say tower: look", "line tower reopen within 20s / say tower: look / hear tower: look: {}"), []string{"tower=" + at}, "passed", "passed")
	if t.Failed() {
		return
	}

	// Somebody else has the device: the second is told what the server says.
	conn, err := net.Dial("tcp", strings.TrimPrefix(at, "rfc2217://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	time.Sleep(200 * time.Millisecond)
	out, err := exec.Command(uparrot, "run", write(t, "second.parrot", steps(head, "say tower: look")), "--port", "tower="+at).CombinedOutput()
	if err == nil || !strings.Contains(string(out), "in use") {
		t.Errorf("while somebody else has the port: %v\n%s", err, out)
	}
}

// A link through a server: two radios of the demo, one behind it.
func TestLinkThroughServer(t *testing.T) {
	serverTool(t)
	dir := t.TempDir()
	text, err := os.ReadFile("../../examples/larkfell.toml")
	if err != nil {
		t.Fatal(err)
	}
	book, err := os.ReadFile("../../examples/dunlin.toml")
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"larkfell.toml": text, "dunlin.toml": book} {
		if err := os.WriteFile(dir+"/"+name, data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	radios := exec.Command(uparrot, "standin", "larkfell.toml")
	radios.Dir = dir
	if err := radios.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { radios.Process.Kill(); radios.Wait() })
	links := dir + "/larkfell.ports/"
	for _, name := range []string{"valley", "summit"} {
		eventually(t, name, func() bool { _, err := os.Stat(links + name); return err == nil })
	}
	device, err := os.Readlink(links + "summit")
	if err != nil {
		t.Fatal(err)
	}
	start, at := server(t, device)
	start()
	for i, where := range []string{links + "valley", at} {
		perform(t, steps(fmt.Sprintf("port radio: dialect at, ending cr, phrasebook \"%s/dunlin.toml\"", dir), fmt.Sprintf("say radio: AT~NODE=%d", i+1)), []string{"radio=" + where}, "passed")
	}
	cmd := exec.Command(uparrot, "link", "test", "valley", at, "--bench", links+"bench.toml", "--phrasebook", dir+"/dunlin.toml", "--count", "20", "--every", "100ms", "--size", "24", "--max-loss", "20%")
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "20") {
		t.Errorf("%v\n%s", err, out)
	}
}

// An interpreter on a pseudo-terminal: its prompts, what it answers, how it is
// interrupted.
func TestInterpreter(t *testing.T) {
	python := need(t, "python3", "python3-minimal")
	cmd := exec.Command(python, "-q", "-i")
	cmd.Env = append(os.Environ(), "TERM=dumb", "PYTHON_BASIC_REPL=1", "INPUTRC=/dev/null")
	perform(t, steps("port py: dialect console, ending cr, prompt \">>>\", prompt \"...\", refusal \"{}Error: {}\"",
		"say py: ",
		"say py: 40 + 2 / hear py: 42",
		"say py: rope + 1",
		"say py: for i in range(3): / say py: \"    print(i * 7)\" / say py: / hear py: 14",
		"say py: import time; time.sleep(60)",
		"say bytes py: {ctrl-c} / say py: 'rope'.upper() / hear py: 'ROPE'",
		"say py: time.sleep(1); print('late') / hear py: late"),
		[]string{"py=" + hosted(t, cmd)},
		"passed", "passed", "failed was refused with NameError", "passed", "failed wanted the prompt >>>", "passed", "passed")
}

// answer plays a module: each line that CR ends is answered.
func answer(module io.ReadWriter, with func(line string) string) {
	buf, line := make([]byte, 1), ""
	for {
		if _, err := module.Read(buf); err != nil {
			return
		}
		switch {
		case buf[0] == '\r':
			io.WriteString(module, with(line))
			line = ""
		case buf[0] >= ' ':
			line += string(buf)
		}
	}
}

// speedOf is the speed that a code of the system stands for.
func speedOf(code uint32) int {
	return map[uint32]int{unix.B1200: 1200, unix.B4800: 4800, unix.B9600: 9600, unix.B19200: 19200, unix.B38400: 38400, unix.B57600: 57600, unix.B115200: 115200}[code]
}
