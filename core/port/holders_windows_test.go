package port

import (
	"context"
	"os"
	"strings"
	"testing"

	"golang.org/x/sys/windows"

	"uparrot/core/uart"
)

// A device that this program has open is found among the handles of all programs, and named; one
// that it has closed is not.
func TestSystemHandles(t *testing.T) {
	if got := HolderOf("COM250"); got != "" {
		t.Errorf("a port that is not there is held by %s", got)
	}
	f, err := os.OpenFile("NUL", os.O_RDWR, 0) // which anybody may open
	if err != nil {
		t.Fatal(err)
	}
	number := f.Fd()
	listed := func() bool {
		for _, h := range systemHandles() {
			if int(h.process) == os.Getpid() && h.handle == number {
				return true
			}
		}
		return false
	}
	if !listed() {
		t.Error("a device that is open is not among the handles")
	}
	var twin windows.Handle
	if err := windows.DuplicateHandle(windows.CurrentProcess(), windows.Handle(number), windows.CurrentProcess(), &twin, 0, false, windows.DUPLICATE_SAME_ACCESS); err != nil {
		t.Fatal(err)
	}
	ask := newAsker()
	defer ask.end()
	if name := ask.name(twin); !strings.HasSuffix(strings.ToLower(name), `\null`) {
		t.Errorf("the device is named %q", name)
	}
	f.Close()
	if listed() {
		t.Error("a device that is closed is among the handles")
	}
}

// What is a device and what a file is told by the name alone.
func TestNamesOfDevices(t *testing.T) {
	for name, device := range map[string]bool{"COM3": true, `\\.\COM12`: true, "NUL": true, `larkfell.ports\valley`: false, "larkfell.ports/valley": false, `C:\bench\valley`: false} {
		if got := namesDevice(name); got != device {
			t.Errorf("%s is a device: %v", name, got)
		}
	}
}

// Speed, frame and flow control stand in the system's settings of a port as they were asked for.
// UPARROT_TEST_COM names one that may be set.
func TestSettingsOfPort(t *testing.T) {
	name := os.Getenv("UPARROT_TEST_COM")
	if name == "" {
		t.Skip("SKIPPED: UPARROT_TEST_COM names no port")
	}
	p, err := Open(context.Background(), Address{Where: name}, uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	dev := p.(*serialPort).dev
	for _, want := range []struct {
		line  uart.Line
		speed uint32
		bits  byte
	}{{uart.Line{Speed: 38400, Frame: uart.Frame{DataBits: 8}}, 38400, 8}, {uart.Line{Speed: 9600, Frame: uart.Frame{DataBits: 8}}, 9600, 8}} {
		if err := p.SetLine(want.line); err != nil {
			t.Fatal(err)
		}
		if state, err := stateOf(dev); err != nil || state.BaudRate != want.speed || state.ByteSize != want.bits {
			t.Errorf("set to %s: %+v, %v", want.line, state, err)
		}
	}
	for _, f := range []uart.Flow{uart.RTSCTS, uart.XonXoff, uart.NoFlow} {
		if err := SetFlow(p, f); err != nil {
			t.Errorf("%s: %v", f, err)
		}
		state, err := stateOf(dev)
		if err != nil {
			t.Fatal(err)
		}
		if got := state.Flags&outCTS != 0; got != (f == uart.RTSCTS) { // a layer may not tell of RTS
			t.Errorf("%s: by lines: %v, flags %#x", f, got, state.Flags)
		}
		if got := state.Flags&outXOn != 0 && state.Flags&inXOn != 0; got != (f == uart.XonXoff) {
			t.Errorf("%s: by bytes: %v, flags %#x", f, got, state.Flags)
		}
	}
	if n, err := p.Write(context.Background(), []byte("AT\r")); n != 3 || err != nil {
		t.Errorf("wrote %d bytes, %v", n, err)
	}
}
