//go:build linux

package real

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// emulated starts an emulated machine whose first serial port is a server.
func emulated(t *testing.T, tool, pkg string, args ...string) (*exec.Cmd, string) {
	t.Helper()
	at, number := free(t)
	machine := peer(t, need(t, tool, pkg), append([]string{"-nographic", "-monitor", "none", "-serial", "tcp:" + at + ",server=on,wait=on"}, args...)...)
	listening(t, number)
	return machine, "tcp://" + at
}

// loader are the arguments of a machine with a boot loader.
func loader(t *testing.T) []string {
	t.Helper()
	return []string{"-M", "virt", "-bios", needFile(t, "/usr/lib/u-boot/qemu_arm/u-boot.bin", "u-boot-qemu")}
}

var (
	bootPort = fmt.Sprintf(bootHead, "")
	bootBook = fmt.Sprintf(bootHead, ", phrasebook \"%s\"")
)

const (
	bootHead = "port boot: dialect console, ending cr, prompt \"=>\", refusal \"Unknown command ...\"%s\nanswers within 5s"
	stopBoot = "hear bytes boot within 60s: \"autoboot:\" / pause 300ms / say bytes boot: {hex 20} / quiet boot 500ms / say boot:"
)

// A boot loader: its countdown, what it keeps over a reset and what not, a busy
// command, and one that makes it crash.
func TestBootLoader(t *testing.T) {
	_, at := emulated(t, "qemu-system-arm", "qemu-system-arm", loader(t)...)
	book := write(t, "boot.toml", "family = \"Boot\"\ndialect = \"console\"\n[banner]\nheard = \"U-Boot 20...\"\n[[command]]\nsay = \"reset\"\nrestart = true\n")
	perform(t, steps(fmt.Sprintf(bootBook, book),
		stopBoot,
		"say boot: setenv tower 7 / say boot: printenv tower / hear boot: tower=7 / say boot: mw.l 44000000 cafe7",
		"say boot: reset / "+stopBoot+" / say boot: printenv tower / hear boot: ... not defined / say boot: md.l 44000000 1 / hear boot: 44000000: 000cafe7 {}",
		"say boot: lamp on / hear boot within 40s: lamp is on",
		"say boot: sleep 7",
		"say boot: echo done / hear boot: done",
		"say boot without answer: sleep 60 / pause 500ms / say bytes boot: {ctrl-c} / say boot: echo back / hear boot: back",
		"say boot: md.l 90000000 1"),
		[]string{"boot=" + at},
		"passed", "passed", "passed", "failed was refused with Unknown command 'lamp'", "failed wanted the prompt =>, heard", "passed", "passed",
		"failed said md.l 90000000 1, and the module restarted: heard U-Boot 20")
}

// A server that dies takes no words: what must always be done is broken too.
func TestServerDies(t *testing.T) {
	machine, at := emulated(t, "qemu-system-arm", "qemu-system-arm", loader(t)...)
	time.AfterFunc(8*time.Second, func() { machine.Process.Kill() })
	perform(t, steps(bootPort, stopBoot, "say boot: sleep 60 / hear boot within 60s: done")+"step \"always\" always\n say boot: echo back\nend\n",
		[]string{"boot=" + at}, "passed", "broken the other side ended the connection", "broken the other side ended the connection")
}

// The emulator's port behind a network serial server.
func TestChain(t *testing.T) {
	machine := exec.Command(need(t, "qemu-system-arm", "qemu-system-arm"), append([]string{"-nographic", "-monitor", "none", "-serial", "pty"}, loader(t)...)...)
	serverTool(t)
	out, err := machine.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	machine.Stderr = os.Stderr
	if err := machine.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { machine.Process.Kill(); machine.Wait() })
	line := make([]byte, 200) // char device redirected to PATH (label serial0)
	n, err := out.Read(line)
	_, device, found := strings.Cut(string(line[:n]), "redirected to ")
	device, _, ended := strings.Cut(device, " ")
	if err != nil || !found || !ended {
		t.Fatalf("the emulator said %q, %v", line[:n], err)
	}
	start, at := server(t, device)
	start()
	perform(t, steps(bootPort, "quiet boot 4s within 60s / say boot: / say boot: echo rope / hear boot: rope", "say boot: lamp on"),
		[]string{"boot=" + at}, "passed", "failed was refused with Unknown command 'lamp'")
}

// A firmware in Forth, whose echo is joined to the answer.
func TestForth(t *testing.T) {
	_, at := emulated(t, "qemu-system-sparc", "qemu-system-sparc")
	perform(t, steps("port fw: dialect console, ending cr, prompt \"{n:int} >\", refusal \"...: undefined word.\"\nanswers within 5s",
		"hear fw within 90s: Type 'help' for detailed information / quiet fw 2s",
		"say fw: 3 4 + . / hear fw: 7  ok",
		"say fw: : tower 4 . ; / say fw: tower / hear fw: 4  ok",
		"say fw: lamp / hear fw within 40s: lit"),
		[]string{"fw=" + at}, "passed", "passed", "passed", "failed was refused with lamp lamp: undefined word.")
}

// A login console: a wrong password, a session, long answers, colours, notices of the
// kernel behind the prompt.
func TestLoginConsole(t *testing.T) {
	_, at := emulated(t, "qemu-system-x86_64", "qemu-system-x86", "-m", "256", "-no-reboot", "-kernel", kernel(t), "-initrd", files(t), "-append", "console=ttyS0 panic=-1 quiet")
	perform(t, steps("secret code\nport tower: dialect console, ending cr, prompt \"~ $\", prompt \"/root #\", login \"tower login:\", password \"Password:\", denied \"Login incorrect\", pager \"--More--...\", phrasebook \""+
		write(t, "tower.toml", "family = \"Tower\"\ndialect = \"console\"\n[[notice]]\nname = \"kernel\"\nheard = \"[{at:num}] alarm {n:int}\"\n")+"\"\nanswers within 10s",
		"hear bytes tower within 120s: \"tower login:\"",
		"log in tower as \"ops\" with \"nonsense\" within 60s",
		"log in tower as \"ops\" with code within 60s",
		"log in tower as \"ops\" with code within 60s",
		"say tower: uname -n / hear tower: tower / say tower: seq 1 3000 / collect list from tower until prompt within 60s / check len(split(list, \"\\n\")) == 3000",
		"say tower: printf '  rope:\\n\\n    9 \\n' / collect text from tower until prompt / check text == \"  rope:\\n\\n    9 \"",
		"say tower: printf '\\033[32mrope\\033[0m fou'; echo nd / hear tower: rope found",
		"say tower: seq 1 60 | more / collect pages from tower until prompt / check pages contains \"\\n59\\n60\"",
		"say tower: sleep 12; echo late",
		"say tower: echo next / hear tower: next / say tower: exit",
		"log in tower as \"root\" within 60s",
		"say tower: (sleep 1; echo alarm 8 > /dev/kmsg) & / hear tower within 20s: [...] alarm {which:int} / check which == 8 / say tower: echo on / hear tower: on"),
		[]string{"tower=" + at},
		"passed", "failed Login incorrect", "passed", "failed a session is open already", "passed", "passed", "passed", "passed", "failed wanted the prompt ~ $, heard", "passed", "passed", "passed")
}

// archive is files as a kernel takes them for its first file system: an archive in the form of cpio that
// it documents (newc).
type archive struct {
	bytes.Buffer
	inode int
}

func (a *archive) put(name string, mode int, data []byte) {
	a.inode++
	fmt.Fprintf(a, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%s\x00", a.inode, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name)+1, 0, name)
	a.Write(make([]byte, (4-a.Len()%4)%4))
	a.Write(data)
	a.Write(make([]byte, (4-a.Len()%4)%4))
}

// folders puts folders, each after the one that it is in.
func (a *archive) folders(names ...string) {
	for _, name := range names {
		a.put(name, 0o40777, nil)
	}
}

// file writes the archive.
func (a *archive) file(t *testing.T) string {
	t.Helper()
	a.put("TRAILER!!!", 0, nil)
	path := filepath.Join(t.TempDir(), "init.cpio")
	if err := os.WriteFile(path, a.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// kernel is a kernel for the emulated machine.
func kernel(t *testing.T) string {
	t.Helper()
	if path := os.Getenv("UPARROT_TEST_KERNEL"); path != "" {
		return path
	}
	return needFile(t, "/boot/vmlinuz-*-amd64", "linux-image-cloud-amd64, or its path in UPARROT_TEST_KERNEL")
}

// busybox is a system's programs in one.
func busybox(t *testing.T) []byte {
	t.Helper()
	program, err := os.ReadFile(needFile(t, "/bin/busybox", "busybox-static"))
	if err != nil {
		t.Fatal(err)
	}
	return program
}

// files is a system of one program with a login.
func files(t *testing.T) string {
	t.Helper()
	var a archive
	a.folders("bin", "etc", "proc", "sys", "dev", "root", "home", "home/ops")
	a.put("bin/busybox", 0o100755, busybox(t))
	a.put("init", 0o100755, []byte("#!/bin/busybox sh\n/bin/busybox --install -s /bin\nmount -t proc proc /proc\nmount -t devtmpfs dev /dev\nhostname tower\ndmesg -n 8\nwhile true; do getty -L 115200 ttyS0 vt100; done\n"))
	// The password is snowline, as crypt has it with SHA-512.
	a.put("etc/passwd", 0o100644, []byte("root::0:0:root:/root:/bin/sh\nops:$6$abcdefgh$IJRC3B.REZCkJGxTIcFrnZ1a.gQfWJt2fanO3qcmIxkWTqKbQRpcciZePdlF1WvqL5LNJ3ijglvggG4r1vB3T/:100:100:ops:/home/ops:/bin/sh\n"))
	a.put("etc/group", 0o100644, []byte("root:x:0:\nops:x:100:\n"))
	return a.file(t)
}
