package port

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"go.bug.st/serial"

	"uparrot/core/syserr"
	"uparrot/core/uart"
)

// serialPort is a serial device or the host side of a pseudo-terminal.
type serialPort struct {
	name  string
	dev   serial.Port
	guard *guard

	before Counters // the driver's counts when the port was opened

	mu     sync.Mutex
	line   uart.Line
	closed bool
}

// openSerial opens the serial device or pseudo-terminal at a path. No other
// program can open it until it is closed, and its settings are then put back.
func openSerial(path string, line uart.Line) (Port, error) {
	if err := validLine(path, line); err != nil {
		return nil, err
	}
	if LeftOver(path) {
		return nil, killed(path)
	}
	g, err := newGuard(path)
	if err != nil {
		return nil, err
	}
	dev, err := serial.Open(g.device, mode(line))
	if err != nil {
		g.release()
		return nil, openError(path, err)
	}
	p := &serialPort{name: path, dev: dev, guard: g, line: line}
	p.before, _ = g.counters() // where there are none, asking later says so
	err = g.noteFrame(line.Frame)
	if err == nil {
		err = g.share()
	}
	if err == nil {
		err = dev.ResetInputBuffer() // what came before the port was opened is nobody's
	}
	if err != nil {
		return nil, errors.Join(p.fail("prepare the port", err), p.Close())
	}
	return p, nil
}

func mode(l uart.Line) *serial.Mode {
	f := l.Frame
	m := &serial.Mode{BaudRate: l.Speed, DataBits: f.DataBits}
	if m.DataBits == 0 {
		m.DataBits = 8
	}
	m.Parity = map[uart.Parity]serial.Parity{
		uart.Odd: serial.OddParity, uart.Even: serial.EvenParity, uart.Mark: serial.MarkParity, uart.Space: serial.SpaceParity,
	}[f.Parity]
	m.StopBits = map[int]serial.StopBits{3: oneAndHalf, 4: serial.TwoStopBits}[f.Stop]
	return m
}

func validLine(path string, l uart.Line) error {
	if l.Speed < uart.MinSpeed || l.Speed > uart.MaxSpeed {
		return &Error{Port: path, Op: "set speed", Why: fmt.Sprintf("%d baud is outside %d..%d", l.Speed, uart.MinSpeed, uart.MaxSpeed)}
	}
	if f := l.Frame.Filled(); f.Stop == 3 && f.DataBits != 5 {
		return &Error{Port: path, Op: "set frame " + f.String(), Kind: Unsupported, Why: "one and a half stop bits go with five data bits only", Mend: "Two stop bits do as well: a receiver needs no more than one."}
	}
	return nil
}

// openError turns what the system said at opening into our own words.
func openError(path string, err error) error {
	e := &Error{Port: path, Op: "open", Err: err}
	pe, _ := errors.AsType[*serial.PortError](err)
	code := serial.PortErrorCode(-1)
	if pe != nil {
		code = pe.Code()
	}
	switch {
	case errors.Is(err, fs.ErrNotExist) || code == serial.PortNotFound || syserr.Is(err, syserr.Absent):
		e.Kind, e.Why = Missing, "there is no such port"
		e.Mend = missingHint(path)
	case errors.Is(err, fs.ErrPermission) || code == serial.PermissionDenied:
		e.Kind, e.Why = Permission, "this user may not open it"
		e.Mend = permissionHint(path)
	case errors.Is(err, syscall.EBUSY) || code == serial.PortBusy:
		e.Kind, e.Why = Held, "another program has it"
		if who := holder(path); who != "" {
			e.Why = "it is held by " + who
		}
		e.Mend = "End that program, or choose another port."
	case errors.Is(err, syscall.ENOTTY) || code == serial.InvalidSerialPort:
		e.Kind, e.Why = NotSerial, "it is not a serial port"
		e.Mend = "Give the path of a serial device, such as " + Example + "."
	}
	return e
}

// missingHint lists the serial ports that are there, so that the right one can
// be picked at once.
func missingHint(path string) string {
	var there []string
	for _, glob := range deviceGlobs {
		found, _ := filepath.Glob(glob) // the globs are well-formed
		there = append(there, found...)
	}
	if len(deviceGlobs) == 0 { // devices are no files
		there, _ = serial.GetPortsList() // a list that cannot be had hints at nothing
	}
	target, err := "", error(nil)
	if !namesDevice(path) {
		target, err = os.Readlink(path)
	}
	if target != "" && err == nil {
		return fmt.Sprintf("The link points at %s, which is gone; whatever served it has ended.", target)
	}
	if len(there) == 0 {
		return "No serial adapter is plugged in now. Plug it in, or correct the name."
	}
	return "Plugged in now: " + strings.Join(there, ", ") + "."
}

func (p *serialPort) Name() string { return p.name }

func (p *serialPort) Line() uart.Line {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.line
}

func (p *serialPort) Read(b []byte) (int, error) {
	n, err := p.guard.read(p.dev, b)
	if err != nil {
		return n, p.fail("read", err)
	}
	return n, nil
}

func (p *serialPort) Write(ctx context.Context, b []byte) (int, error) {
	n, err := p.guard.write(ctx, p.dev, b)
	if err != nil && err != context.Cause(ctx) {
		return n, p.fail("write", err)
	}
	return n, err
}

func (p *serialPort) SetLine(l uart.Line) error {
	if err := validLine(p.name, l); err != nil {
		return err
	}
	if err := p.guard.setLine(p.dev, l); err != nil {
		return p.fail("set the line to "+l.String(), err)
	}
	if err := p.guard.noteFrame(l.Frame); err != nil {
		return p.fail("set the frame", err)
	}
	p.mu.Lock()
	p.line = l
	p.mu.Unlock()
	return nil
}

// Signal sets uart.DTR or uart.RTS.
func (p *serialPort) Signal(line uart.Signal, on bool) error {
	return p.signal("set "+line.String(), p.guard.signal(p.dev, line, on))
}

// Inputs reads CTS, DSR, DCD and RI.
func (p *serialPort) Inputs() (Inputs, error) {
	in, err := p.guard.inputs(p.dev)
	if err != nil {
		return Inputs{}, p.signal("read the signal lines", err)
	}
	return in, nil
}

// HoldBack is how long the adapter may gather bytes.
func (p *serialPort) HoldBack() (time.Duration, bool) { return p.guard.holdBack() }

// SetFlow sets flow control.
func (p *serialPort) SetFlow(f uart.Flow) error {
	if err := p.guard.setFlow(p.dev, f); err != nil {
		return p.signal("set flow control "+f.String(), err)
	}
	return nil
}

// Counters reads what the driver has counted since the port was opened.
func (p *serialPort) Counters() (Counters, error) {
	now, err := p.guard.counters()
	if err != nil {
		return Counters{}, &Error{Port: p.name, Op: "read the error counters", Kind: Unsupported, Why: "this port keeps none", Err: err}
	}
	return Counters{now.Frame - p.before.Frame, now.Parity - p.before.Parity, now.Overrun - p.before.Overrun}, nil
}

func (p *serialPort) signal(op string, err error) error {
	if syserr.Is(err, syserr.NoSignal) {
		return &Error{Port: p.name, Op: op, Kind: Unsupported, Why: "this port has no signal lines", Err: err}
	}
	if err != nil {
		return p.fail(op, err)
	}
	return nil
}

func (p *serialPort) Break(d time.Duration) error { return p.signal("send a break", p.dev.Break(d)) }

// Purge empties both buffers.
func (p *serialPort) Purge() error {
	if err := errors.Join(p.dev.ResetInputBuffer(), p.dev.ResetOutputBuffer()); err != nil {
		return p.fail("purge", err)
	}
	return nil
}

func (p *serialPort) Drain() error {
	if err := p.drain(); err != nil {
		return p.fail("drain", err)
	}
	return nil
}

// drain waits anew where a signal, such as those by which Go shares the
// processor, has cut the waiting short.
func (p *serialPort) drain() error {
	for {
		if err := p.dev.Drain(); !errors.Is(err, syscall.EINTR) {
			return err
		}
	}
}

// fail tells a port that this program closed from one that went away.
func (p *serialPort) fail(op string, err error) error {
	p.mu.Lock()
	closed := p.closed
	p.mu.Unlock()
	e := &Error{Port: p.name, Op: op, Err: err}
	pe, _ := errors.AsType[*serial.PortError](err)
	gone := pe != nil && pe.Code() == serial.PortClosed
	gone = gone || syserr.Is(err, syserr.Gone) || errors.Is(err, io.EOF) || errors.Is(err, os.ErrClosed)
	switch {
	case closed:
		e.Kind, e.Why = Closed, "the port was closed"
	case gone:
		e.Kind, e.Why = Vanished, "the port vanished while in use"
		e.Mend = "Check the plug and the cable, then run again."
	}
	return e
}

// Close puts the port's settings back and gives it free.
func (p *serialPort) Close() error {
	p.mu.Lock()
	was := p.closed
	p.closed = true
	p.mu.Unlock()
	if was {
		return nil
	}
	p.empty()
	p.guard.restore()
	err := p.dev.Close()
	p.guard.release()
	if err != nil {
		return &Error{Port: p.name, Op: "close", Err: err}
	}
	return nil
}

// emptyWithin bounds how long Close waits for bytes still on their way out: a
// module that holds the line back would otherwise hold this program too.
const emptyWithin = 500 * time.Millisecond

// empty lets the last bytes leave before the settings change under them.
func (p *serialPort) empty() {
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = p.drain() // a port that has gone has nothing to wait for
	}()
	select {
	case <-done:
	case <-time.After(emptyWithin):
		_ = p.dev.ResetOutputBuffer()
	}
}
