//go:build linux && amd64

package systems

import (
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"uparrot/core/port"
)

// layer is the program for Windows under the compatibility layer, in a folder of its own.
func layer(t *testing.T) *other {
	wine := need(t, "wine64", "wine64")
	compiler := need(t, "x86_64-w64-mingw32-gcc", "gcc-mingw-w64-x86-64-win32")
	prefix := filepath.Join(t.TempDir(), "prefix")
	env := []string{"WINEPREFIX=" + prefix, "WINEARCH=win64", "WINEDEBUG=-all", "DISPLAY=", "WINEDLLOVERRIDES=mscoree,mshtml="}
	run := func(name string, args ...string) {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), env...)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
		}
	}
	if err := os.Mkdir(prefix, 0o700); err != nil {
		t.Fatal(err)
	}
	run(wine, "wineboot", "-i")
	server := filepath.Join(filepath.Dir(wine), "wineserver64")
	t.Cleanup(func() {
		cmd := exec.Command(server, "-k")
		cmd.Env = append(os.Environ(), env...)
		_ = cmd.Run() // it has ended by itself where nothing was left to serve
	})
	run(compiler, "-shared", "-O2", "-o", filepath.Join(prefix, "drive_c/windows/system32/bcryptprimitives.dll"), "testdata/bcryptprimitives.c", "-ladvapi32")
	return &other{t: t, dir: t.TempDir(), call: []string{wine, built(t, "windows", "amd64")}, env: env, prefix: prefix}
}

// On Windows the program reads, tidies, performs, reports, files, speaks, and its stand-ins are
// served in the network of the machine, since there are no pseudo-terminals.
func TestWindows(t *testing.T) {
	t.Parallel()
	o := layer(t)
	o.files()
	o.checks("*.parrot")

	kill := o.live("larkfell.toml")
	if _, errs := o.do(3, "", "standin", "larkfell.toml"); !strings.Contains(errs, "running already") {
		t.Errorf("started twice: %s", errs)
	}
	o.commissions("valley.record")
	o.talks()
	o.do(0, "", "standin", "larkfell.toml", "--tell", "power valley off")
	if _, errs := o.do(1, "AT\n", "talk", "valley", "--bench", "larkfell.toml", "--within", "300ms"); !strings.Contains(errs, "got no answer") {
		t.Errorf("a module without power: %s", errs)
	}
	kill()

	// The stand-ins were killed, and refused another once. That is told, and they can be
	// started again.
	_, errs := o.do(3, "AT\n", "talk", "larkfell.ports/summit")
	if !strings.Contains(errs, "its stand-in was killed") {
		t.Errorf("a stand-in that was killed: %s", errs)
	}
	o.live("larkfell.toml")
	o.commissions("again.record")
}

// The list of ports has what Windows knows of adapters; a port that is not there is told by
// those that are.
func TestWindowsPorts(t *testing.T) {
	t.Parallel()
	o := layer(t)
	const devices = `Windows Registry Editor Version 5.00

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Enum\USB\VID_1209&PID_0001\LW-0010]
"Class"="Ports"
"ClassGUID"="{4D36E978-E325-11CE-BFC1-08002BE10318}"
"Mfg"="Larkfell Works"
"FriendlyName"="Line Adapter (COM207)"
"Service"="larkserial"
"LocationInformation"="Port_#0002.Hub_#0003"

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Enum\USB\VID_1209&PID_0001\LW-0010\Device Parameters]
"PortName"="COM207"
"LatencyTimer"=dword:00000010
`
	if err := os.WriteFile(filepath.Join(o.dir, "devices.reg"), []byte(devices), 0o644); err != nil {
		t.Fatal(err)
	}
	(&other{t: t, dir: o.dir, call: o.call[:1], env: o.env}).do(0, "", "regedit", "devices.reg")
	out, _ := o.do(0, "", "ports", "--json")
	var all []map[string]any
	if err := json.Unmarshal([]byte(out), &all); err != nil {
		t.Fatal(err, out)
	}
	want := map[string]any{"path": "COM207", "make": "Larkfell Works", "product": "Line Adapter", "serial": "LW-0010", "socket": "Port_#0002.Hub_#0003",
		"driver": "larkserial", "held_by": []any{}, "console": false, "free": true, "hold_back_ms": 16.0}
	if len(all) == 0 || !reflect.DeepEqual(all[len(all)-1], want) {
		t.Errorf("the ports are %s", out)
	}
	if out, _ := o.do(0, "", "ports"); !strings.Contains(out, "Device Manager") {
		t.Errorf("no hint how to be faster: %s", out)
	}
	// The adapter is found by its number, and the port then opened: it is not there.
	if _, errs := o.do(3, "AT\n", "talk", "serial:LW-0010"); !strings.Contains(errs, "COM207") || !strings.Contains(errs, "no such port") {
		t.Errorf("opened by its number: %s", errs)
	}
}

// What asks Windows itself is tested there: who holds a device, and the settings of a port.
func TestWindowsHandles(t *testing.T) {
	t.Parallel()
	o := layer(t)
	tests := filepath.Join(t.TempDir(), "port.test.exe")
	compile(t, "windows", "amd64", "test", "-c", "-o", tests, "uparrot/core/port")
	o.call[1] = tests
	// A pseudo-terminal of our own stands for a serial port there.
	pseudo, err := port.OpenPseudo()
	if err != nil {
		t.Fatal(err)
	}
	defer pseudo.Close()
	if err := os.Symlink(pseudo.Path(), filepath.Join(o.prefix, "dosdevices/com207")); err != nil {
		t.Fatal(err)
	}
	o.env = append(o.env, "UPARROT_TEST_COM=COM207")
	out, _ := o.do(0, "", "-test.run", "TestSystemHandles|TestNamesOfDevices|TestSettingsOfPort", "-test.v")
	if strings.Count(out, "--- PASS: ") != 3 {
		t.Error(out)
	}
	if line, _ := pseudo.HostLine(); line.Speed != 9600 {
		t.Errorf("the host has set %s", line)
	}
	b := make([]byte, 3)
	if _, err := io.ReadFull(pseudo, b); err != nil || string(b) != "AT\r" {
		t.Errorf("the host has said %q, %v", b, err)
	}
}
