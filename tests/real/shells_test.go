//go:build linux

package real

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/creack/pty"

	"uparrot/core/port"
)

// hosted starts a program on a terminal of its own, and gives out the port behind which it is.
func hosted(t *testing.T, cmd *exec.Cmd) string {
	t.Helper()
	console, err := pty.Start(cmd)
	if err != nil {
		t.Fatal(err)
	}
	module, err := port.OpenPseudo() // which repeats nothing by itself
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait(); console.Close(); module.Close() })
	go io.Copy(module, console)
	go io.Copy(console, module)
	return module.Path()
}

// A database shell, which redraws what is typed: an old answer, the echo of a command and a blank too many
// are no answer.
func TestDatabaseShell(t *testing.T) {
	cmd := exec.Command(need(t, "sqlite3", "sqlite3"), "-interactive", ":memory:")
	cmd.Env = append(os.Environ(), "TERM=xterm", "HOME="+t.TempDir())
	perform(t, steps("port db: dialect console, ending cr, prompt \"sqlite>\", prompt \"...>\", refusal \"Parse error...\"",
		"say db: ",
		"say db: select 6*7; / hear db: 42",
		"say db: select 6*7; / say db: select 1+1; / hear bytes db within 1s: 42",
		"say db: select 'never' where 1=0; / hear bytes db within 1s: never",
		"say db: create table rope (metres int); / say db: insert into rope values (3022); / say db: select metres / say db: from rope; / hear db: 3022",
		"say db: select * from lamp;",
		"say db: select 'rope', 4; / collect row from db until prompt / check row == \"rope|4\""),
		[]string{"db=" + hosted(t, cmd)},
		"passed", "passed", "failed wanted 42, heard", "failed wanted never, heard", "passed", "failed was refused with Parse error", "passed")
}

// A debugger with a pager, a question before it ends, and a session that is left.
func TestDebugger(t *testing.T) {
	cmd := exec.Command(need(t, "gdb", "gdb"), "-q", "-nx")
	cmd.Env = append(os.Environ(), "TERM=dumb", "LINES=10", "COLUMNS=80", "HOME="+t.TempDir())
	perform(t, steps("port gdb: dialect console, ending cr, prompt \"(gdb)\", pager \"--Type <RET> for more, q to quit, c to continue without paging--\" with \"{cr}\", refusal \"Undefined command: ...\", refusal \"No symbol ...\"",
		"say gdb: ",
		"say gdb: print 6*7 / hear gdb: {} = 42",
		"say gdb: set height 10 / say gdb: help data / collect text from gdb until prompt within 10s / check text contains \"whatis --\" && !(text contains \"<RET>\")",
		"say gdb: print 6*7 / say gdb: print 1+1 / hear bytes gdb within 1s: 42",
		"say gdb: print rope",
		"say gdb: lamp",
		"say gdb: echo back\\n / hear gdb: back"),
		[]string{"gdb=" + hosted(t, cmd)},
		"passed", "passed", "passed", "failed wanted 42, heard", "failed was refused with No symbol", "failed was refused with Undefined command", "passed")
}

// A login behind a Telnet server: options are agreed to and refused, a password is not repeated, and the
// session is seen to end.
func TestTelnetLogin(t *testing.T) {
	busybox := need(t, "busybox", "busybox-static")
	if out, err := exec.Command(busybox, "telnetd", "--help").CombinedOutput(); err != nil && len(out) < 40 {
		t.Skip("SKIPPED: this busybox has no telnetd (Debian: busybox-static)")
	}
	shell := filepath.Join(t.TempDir(), "login")
	script := "#!" + busybox + " sh\nwhile :; do\n printf 'tower login: '; read name\n stty -echo; printf 'Password: '; read word; stty echo; echo\n" +
		" if [ \"$name:$word\" = ops:snowline ]; then export PS1='tower$ '; " + busybox + " sh -i; else sleep 1; echo 'Login incorrect'; fi\ndone\n"
	if err := os.WriteFile(shell, []byte(script), 0o700); err != nil {
		t.Fatal(err)
	}
	at, number := free(t)
	peer(t, busybox, "telnetd", "-F", "-b", at, "-l", shell)
	listening(t, number)
	head := "secret code\nport tower: dialect console, ending cr, prompt \"tower$\", login \"tower login:\", password \"Password:\", denied \"Login incorrect\"\nanswers within 5s"
	perform(t, steps(head,
		"log in tower as \"ops\" with \"nonsense\"",
		"log in tower as \"ops\" with code",
		"say tower: echo rope $((40+2)) / hear tower: rope 42",
		"say tower: seq 1 500 / collect list from tower until prompt / check len(split(list, \"\\n\")) == 500",
		"say tower restarts: exit",
		"log in tower as \"ops\" with code"),
		[]string{"tower=telnet://" + at},
		"failed the module says no", "passed", "passed", "passed", "passed", "passed")
}

// The same boot loader on another processor.
func TestBootLoaderElsewhere(t *testing.T) {
	_, at := emulated(t, "qemu-system-aarch64", "qemu-system-arm", "-M", "virt", "-cpu", "cortex-a57", "-bios", needFile(t, "/usr/lib/u-boot/qemu_arm64/u-boot.bin", "u-boot-qemu"))
	book := write(t, "boot.toml", "family = \"Boot\"\ndialect = \"console\"\n[banner]\nheard = \"U-Boot 20...\"\n")
	perform(t, steps("port boot: dialect console, ending cr, prompt \"=>\", refusal \"Unknown command ...\", phrasebook \""+book+"\"\nanswers within 5s",
		"hear bytes boot within 60s: \"autoboot:\" / say bytes boot: {cr} / say boot: echo up / hear boot: up",
		"say boot: setenv tower 7 / say boot: printenv tower / hear boot: tower=7",
		"say boot restarts: reset / hear bytes boot within 60s: \"autoboot:\" / say bytes boot: {cr} / say boot: printenv tower / hear boot: ... not defined",
		"say boot restarts within 4s: echo no",
		"say boot: lamp on"),
		[]string{"boot=" + at}, "passed", "passed", "passed", "failed was not seen to restart within 4s: its prompt came back", "failed was refused with Unknown command 'lamp'")
}

// A firmware shell that draws with cursor codes: what it redraws, its echo, a refusal, a restart.
func TestFirmwareShell(t *testing.T) {
	_, at := emulated(t, "qemu-system-aarch64", "qemu-system-arm", "-M", "virt", "-cpu", "cortex-a57", "-m", "512", "-net", "none", "-bios", needFile(t, "/usr/share/qemu-efi-aarch64/QEMU_EFI.fd", "qemu-efi-aarch64"))
	book := write(t, "fw.toml", "family = \"Firmware\"\ndialect = \"console\"\n[banner]\nheard = \"UEFI Interactive Shell ...\"\n")
	perform(t, steps("port fw: dialect console, ending cr, prompt \"Shell>\", refusal \"... is not recognized as an internal or external command, ...\", phrasebook \""+book+"\"\nanswers within 10s",
		"hear bytes fw within 120s: \"Press ESC\" / say bytes fw: {esc} / quiet fw 1s within 20s / say fw: / say fw: echo rope / hear fw: rope",
		"say fw: set tower 7 / say fw: set tower / collect shown from fw until prompt / check shown contains \"tower = 7\"",
		"say fw: set lamp 4 / say fw: set tower / hear bytes fw within 2s: lamp",
		"say fw: lamp on",
		"say fw: echo -off / say fw: echo done / hear fw: done",
		"say fw restarts within 100s: reset"),
		[]string{"fw=" + at}, "passed", "passed", "failed wanted lamp, heard", "failed was refused with", "passed", "passed")
}

// A boot menu: it is drawn with cursor codes, the bar is moved by keys, what is started is what stood under
// it, and behind a key lies a console that draws each letter that is typed.
func TestBootMenu(t *testing.T) {
	maker := need(t, "grub-mkrescue", "grub-common")
	needFile(t, "/usr/lib/grub/i386-pc/boot.img", "grub-pc-bin")
	need(t, "xorriso", "xorriso")
	need(t, "mformat", "mtools")
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "boot", "grub"), 0o700); err != nil {
		t.Fatal(err)
	}
	menu := "serial --unit=0 --speed=115200\nterminal_input serial\nterminal_output serial\nset timeout=60\n"
	for _, place := range []string{"valley", "hut", "tower"} {
		menu += "menuentry \"" + place + "\" {\n echo \"starting $chosen\"\n sleep 1\n}\n"
	}
	if err := os.WriteFile(filepath.Join(dir, "boot", "grub", "grub.cfg"), []byte(menu), 0o600); err != nil {
		t.Fatal(err)
	}
	disk := filepath.Join(t.TempDir(), "menu.iso")
	if out, err := exec.Command(maker, "-o", disk, dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	_, at := emulated(t, "qemu-system-x86_64", "qemu-system-x86", "-m", "64", "-cdrom", disk)
	perform(t, steps("port menu: dialect console, ending cr, prompt \"grub>\", refusal \"error: ...\"\nanswers within 10s",
		"hear bytes menu within 60s: \"executed automatically\" / say bytes menu: {esc}[B / hear bytes menu: *hut / say menu without answer: / hear bytes menu within 10s: \"starting hut\"",
		"hear bytes menu within 20s: *valley / say menu without answer: / hear bytes menu within 5s: \"starting tower\"",
		"say bytes menu: c / hear bytes menu within 10s: \"grub>\" / say menu: echo rope / hear menu: rope",
		"say menu: set lamp=4 / say menu: echo tower $lamp / hear menu: tower 4",
		"say menu: echo rope / say menu: echo lamp / hear bytes menu within 2s: rope",
		"say menu: lamp on",
		"say menu: echo done / hear menu: done"),
		[]string{"menu=" + at}, "passed", "failed wanted starting tower, heard", "passed", "passed", "failed wanted rope, heard", "failed was refused with error: can't find command", "passed")
}
