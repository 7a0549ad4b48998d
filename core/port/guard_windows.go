package port

import (
	"context"
	"errors"
	"os"
	"time"

	"go.bug.st/serial"

	"uparrot/core/uart"
)

// oneAndHalf is what asks for one and a half stop bits.
const oneAndHalf = serial.OnePointFiveStopBits

// guard has nothing to do here: the system opens serial ports exclusively and
// keeps no settings between openings.
type guard struct{ device string }

func newGuard(path string) (*guard, error)       { return &guard{device: path}, nil }
func (g *guard) restore()                        {}
func (g *guard) release()                        {}
func (g *guard) holdBack() (time.Duration, bool) { return 0, false }
func holder(string) string                       { return "" }
func permissionHint(string) string               { return "" }

// LeftOver reports whether a path is a link to a stand-in whose program was killed; here
// there are none.
func LeftOver(string) bool { return false }

// LockFile makes a file that this program alone has open.
func LockFile(path string) (release func(), err error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	return func() { f.Close() }, nil
}

// read reads what has come.
func (g *guard) read(dev serial.Port, b []byte) (int, error) { return dev.Read(b) }

// write writes all of b; the system bounds how long that may take.
func (g *guard) write(_ context.Context, dev serial.Port, b []byte) (int, error) {
	sent := 0
	for sent < len(b) {
		n, err := dev.Write(b[sent:])
		sent += n
		if err != nil {
			return sent, err
		}
	}
	return sent, nil
}

// signal sets an outgoing line.
func (g *guard) signal(dev serial.Port, line uart.Signal, on bool) error {
	if line == uart.DTR {
		return dev.SetDTR(on)
	}
	return dev.SetRTS(on)
}

// MayOpen says what would keep this user from opening a port; here that cannot
// be told without opening it.
func MayOpen(string) error { return nil }

// setFlow and counters are not to be had here.
func (g *guard) setFlow(f uart.Flow) error {
	if f == uart.NoFlow {
		return nil
	}
	return errors.ErrUnsupported
}
func (g *guard) counters() (Counters, error) { return Counters{}, errors.ErrUnsupported }
