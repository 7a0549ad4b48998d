package port

import (
	"context"
	"errors"
	"fmt"
	"os"
	"reflect"
	"strings"
	"sync/atomic"
	"time"

	"go.bug.st/serial"
	"golang.org/x/sys/windows"

	"uparrot/core/uart"
)

// oneAndHalf is what asks for one and a half stop bits.
const oneAndHalf = serial.OnePointFiveStopBits

// Example is what a port's address may look like here.
const Example = "COM3"

// FasterHint says how an adapter is kept from gathering bytes.
func FasterHint(path string) string {
	return "in the Device Manager, in the advanced settings of " + path + ", set the latency timer to 1"
}

// deviceGlobs are none: serial devices are not in the file system here.
var deviceGlobs []string

// guard does what the library for serial ports does not. The system itself opens serial ports
// exclusively.
type guard struct {
	device  string
	closing atomic.Bool
}

func newGuard(path string) (*guard, error) { return &guard{device: path}, nil }

// restore only notes that the port is about to be closed: the settings that a driver keeps are
// those of whoever had the port last.
func (g *guard) restore()          { g.closing.Store(true) }
func (g *guard) release()          {}
func permissionHint(string) string { return "" }
func holder(path string) string    { return HolderOf(path) }

// holdBack is how long the adapter gathers bytes, where its driver says so in the registry.
func (g *guard) holdBack() (time.Duration, bool) { return latencyOf(g.device) }

// LockFile makes a file and locks it for this program; a file that another program has locked
// is an error. The lock ends with release, or with the program, however that ends; the file
// stays.
func LockFile(path string) (release func(), err error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return nil, err
	}
	// It may be removed while it is open, as elsewhere.
	const share = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE
	h, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE, share, nil, windows.OPEN_ALWAYS, windows.FILE_ATTRIBUTE_NORMAL, 0)
	if err != nil {
		return nil, fmt.Errorf("make the lock %s: %w", path, err)
	}
	f := os.NewFile(uintptr(h), path)
	if err := lock(f, windows.LOCKFILE_EXCLUSIVE_LOCK); err != nil {
		f.Close()
		return nil, fmt.Errorf("lock %s: %w", path, err)
	}
	return func() { f.Close() }, nil
}

// lock locks the first byte of a file, or fails at once.
func lock(f *os.File, how uint32) error {
	return windows.LockFileEx(windows.Handle(f.Fd()), how|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, new(windows.Overlapped))
}

// lockHeld reports whether a program has a file locked, and whether the file is there.
func lockHeld(path string) (held, there bool) {
	f, err := os.Open(path)
	if err != nil {
		return false, false
	}
	defer f.Close() // which ends the lock
	return lock(f, 0) != nil, true
}

// read reads what has come. Emptying the buffers ends a read that waits: that is no reason to
// call the port gone, as long as it can be asked for its settings.
func (g *guard) read(dev serial.Port, b []byte) (int, error) {
	for {
		n, err := dev.Read(b)
		pe, _ := errors.AsType[*serial.PortError](err)
		if n > 0 || pe == nil || pe.Code() != serial.PortClosed || g.closing.Load() {
			return n, err
		}
		if _, there := stateOf(dev); there != nil {
			return n, err
		}
	}
}

// write writes all of b. A module that holds the line back leaves the caller free to give up:
// then what has not left is dropped.
func (g *guard) write(ctx context.Context, dev serial.Port, b []byte) (int, error) {
	stop := context.AfterFunc(ctx, func() { _ = dev.ResetOutputBuffer() }) // a port that has gone fails at once anyway
	defer stop()
	sent := 0
	for sent < len(b) {
		if ctx.Err() != nil {
			return sent, context.Cause(ctx)
		}
		n, err := dev.Write(b[sent:])
		sent += n
		if err != nil && ctx.Err() != nil {
			return sent, context.Cause(ctx)
		}
		if err != nil {
			return sent, err
		}
	}
	return sent, nil
}

// handleOf is the system's handle of a port. The library keeps it to itself, but reading it
// changes nothing.
func handleOf(dev serial.Port) (windows.Handle, error) {
	v := reflect.Indirect(reflect.ValueOf(dev))
	if v.Kind() == reflect.Struct {
		if h := v.FieldByName("handle"); h.IsValid() && h.CanUint() {
			return windows.Handle(h.Uint()), nil
		}
	}
	return 0, errors.ErrUnsupported
}

// stateOf reads the settings of a port.
func stateOf(dev serial.Port) (*windows.DCB, error) {
	h, err := handleOf(dev)
	if err != nil {
		return nil, err
	}
	var state windows.DCB
	state.DCBlength = uint32(reflect.TypeFor[windows.DCB]().Size())
	return &state, windows.GetCommState(h, &state)
}

// signal sets an outgoing line.
func (g *guard) signal(dev serial.Port, line uart.Signal, on bool) error {
	h, err := handleOf(dev)
	if err != nil {
		return err
	}
	how := map[uart.Signal][2]uint32{uart.DTR: {windows.CLRDTR, windows.SETDTR}, uart.RTS: {windows.CLRRTS, windows.SETRTS}}[line]
	if on {
		return windows.EscapeCommFunction(h, how[1])
	}
	return windows.EscapeCommFunction(h, how[0])
}

// inputs reads the incoming lines.
func (g *guard) inputs(dev serial.Port) (Inputs, error) {
	h, err := handleOf(dev)
	if err != nil {
		return Inputs{}, err
	}
	var bits uint32
	if err := windows.GetCommModemStatus(h, &bits); err != nil {
		return Inputs{}, err
	}
	const cts, dsr, ring, dcd = 0x10, 0x20, 0x40, 0x80 // MS_CTS_ON and so on
	return Inputs{CTS: bits&cts != 0, DSR: bits&dsr != 0, RI: bits&ring != 0, DCD: bits&dcd != 0}, nil
}

// Bits of the flags of a DCB.
const (
	outXOn, inXOn  = 0x100, 0x200
	outCTS, rtsAll = 0x4, 0x3000
)

// setFlow sets flow control in the settings of the port.
func (g *guard) setFlow(dev serial.Port, f uart.Flow) error {
	return change(dev, func(state *windows.DCB) {
		handshake := state.Flags&rtsAll == windows.RTS_CONTROL_HANDSHAKE
		state.Flags &^= outXOn | inXOn | outCTS
		if handshake {
			state.Flags = state.Flags&^rtsAll | windows.RTS_CONTROL_ENABLE
		}
		switch f {
		case uart.RTSCTS:
			state.Flags = state.Flags&^rtsAll | outCTS | windows.RTS_CONTROL_HANDSHAKE
		case uart.XonXoff:
			state.Flags |= outXOn | inXOn
			state.XonChar, state.XoffChar = 0x11, 0x13
			state.XonLim, state.XoffLim = 2048, 512 // bytes in the receive buffer
		}
	})
}

// MayOpen says what would keep this user from opening a port; here that cannot be told without
// opening it. Who has one is what Holders tells.
func MayOpen(string) error { return nil }

// namesDevice reports whether a name is that of a device, which nothing may be asked about as if it
// were a file: the system would open it, and the module would be started again by its signal lines.
func namesDevice(path string) bool {
	return !strings.ContainsAny(path, `/\`) || strings.HasPrefix(path, `\\.\`)
}

// setLine sets speed and frame. The library would close the port where the driver refuses.
func (g *guard) setLine(dev serial.Port, l uart.Line) error {
	m := mode(l)
	return change(dev, func(state *windows.DCB) {
		state.BaudRate, state.ByteSize = uint32(m.BaudRate), byte(m.DataBits)
		state.Parity = map[serial.Parity]byte{serial.OddParity: windows.ODDPARITY, serial.EvenParity: windows.EVENPARITY, serial.MarkParity: windows.MARKPARITY, serial.SpaceParity: windows.SPACEPARITY}[m.Parity]
		state.StopBits = map[serial.StopBits]byte{serial.OnePointFiveStopBits: windows.ONE5STOPBITS, serial.TwoStopBits: windows.TWOSTOPBITS}[m.StopBits]
	})
}

// change changes the settings of a port.
func change(dev serial.Port, to func(state *windows.DCB)) error {
	h, err := handleOf(dev)
	if err != nil {
		return err
	}
	state, err := stateOf(dev)
	if err != nil {
		return err
	}
	to(state)
	return windows.SetCommState(h, state)
}

// counters are not to be had here: the system clears what it counts when it tells.
func (g *guard) counters() (Counters, error) { return Counters{}, errors.ErrUnsupported }

// share does nothing: there are no pseudo-terminals.
func (g *guard) share() error { return nil }
