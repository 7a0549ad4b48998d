//go:build unix

package port

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"uparrot/core/uart"

	"go.bug.st/serial"
	"golang.org/x/sys/unix"
)

// oneAndHalf is what asks for one and a half stop bits: with five data bits the
// UART makes one and a half of what are two with more.
const oneAndHalf = serial.TwoStopBits

// deviceGlobs are what the paths of adapters look like.
var deviceGlobs = []string{"/dev/ttyUSB*", "/dev/ttyACM*", "/dev/ttyAMA*", "/dev/cu.usb*"}

// lockDir is where programs that share serial ports leave a file with their
// process number, by the convention of the Filesystem Hierarchy Standard 3.0,
// section 5.9: LCK..NAME, holding the number in ten characters and a line end.
var lockDir = "/var/lock"

// guard holds a device for this program: an advisory lock on the device, a lock
// file where the system has a folder for them, and the settings as found.
type guard struct {
	device   string // the path with links resolved
	fd       int
	file     *os.File // the same, read through the runtime's poller: no thread waits in the kernel for bytes
	found    *unix.Termios
	lockFile string // "" if none was made
}

func newGuard(path string) (*guard, error) {
	device, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil, openError(path, err)
	}
	fd, err := unix.Open(device, unix.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, openError(path, err)
	}
	g := &guard{device: device, fd: fd, file: os.NewFile(uintptr(fd), device)}
	if g.found, err = unix.IoctlGetTermios(fd, getTermios); err != nil {
		g.release()
		return nil, openError(path, err)
	}
	if err := unix.Flock(fd, unix.LOCK_EX|unix.LOCK_NB); err != nil {
		g.release()
		if errors.Is(err, unix.EWOULDBLOCK) {
			err = syscall.EBUSY
		}
		return nil, openError(path, err)
	}
	if err := g.writeLockFile(path); err != nil {
		g.release()
		return nil, err
	}
	return g, nil
}

func (g *guard) writeLockFile(path string) error {
	if dir, err := os.Stat(lockDir); err != nil || !dir.IsDir() {
		return nil // this system does not follow the convention
	}
	name := lockName(g.device)
	for range 2 {
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err == nil {
			_, err = fmt.Fprintf(f, "%10d\n", os.Getpid())
			if err := errors.Join(err, f.Close()); err != nil {
				os.Remove(name) // half a lock file would keep others out
				return &Error{Port: path, Op: "write the lock file " + name, Err: err}
			}
			g.lockFile = name
			return nil
		}
		if !errors.Is(err, os.ErrExist) {
			return nil // no right to write there: the advisory lock alone must do
		}
		pid, alive := lockOwner(name)
		if alive {
			return &Error{Port: path, Op: "open", Kind: Held, Err: syscall.EBUSY,
				Why:  fmt.Sprintf("it is held by %s, says the lock file %s", process(pid), name),
				Mend: "End that program, or choose another port."}
		}
		os.Remove(name) // its owner is gone; if removing fails the second try says so
	}
	return &Error{Port: path, Op: "open", Kind: Held, Err: syscall.EBUSY,
		Why:  fmt.Sprintf("the lock file %s was left by a program that has ended, and cannot be removed", name),
		Mend: "Remove that file."}
}

// share takes back that the driver lets nobody else open a pseudo-terminal. That would outlive a program
// that is killed, as long as the module's side is there: nobody but root could open it again. The lock is
// enough.
func (g *guard) share() error {
	if !strings.HasPrefix(g.device, "/dev/pts/") && !strings.HasPrefix(g.device, "/dev/ttys") {
		return nil
	}
	return unix.IoctlSetInt(g.fd, unix.TIOCNXCL, 0)
}

func lockName(device string) string {
	return filepath.Join(lockDir, "LCK.."+strings.ReplaceAll(strings.TrimPrefix(device, "/dev/"), "/", "_"))
}

// holder names the program that has a port: the owner of its lock file, or else
// whoever has the device open.
func holder(path string) string {
	device, err := filepath.EvalSymlinks(path)
	if err != nil {
		return ""
	}
	if pid, alive := lockOwner(lockName(device)); alive {
		return process(pid)
	}
	return openBy(device)
}

// lockOwner reads a lock file. A file without a number counts as left behind.
func lockOwner(name string) (pid int, alive bool) {
	text, err := os.ReadFile(name)
	if err != nil {
		return 0, false
	}
	pid, err = strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || pid <= 0 {
		return 0, false
	}
	if info, err := os.Stat(name); err == nil && startedAfter(pid, info.ModTime()) {
		return 0, false // another program has that number now
	}
	err = unix.Kill(pid, 0)
	return pid, err == nil || errors.Is(err, unix.EPERM)
}

// restore puts the line back as it was found. A port that has gone needs none.
func (g *guard) restore() { _ = unix.IoctlSetTermios(g.fd, setTermios, g.found) }

func (g *guard) release() {
	if g.lockFile != "" {
		os.Remove(g.lockFile) // only ours; gone already is as good
		g.lockFile = ""
	}
	g.file.Close() // also gives up the advisory lock and ends a read
}

// read reads what has come. It waits through the runtime's poller: a thread that
// waited in the kernel would hold a processor, and with it every timer there,
// for milliseconds.
func (g *guard) read(_ serial.Port, b []byte) (int, error) { return g.file.Read(b) }

// write writes all of b through the guard's own descriptor, which does not
// block: a line that is held back leaves the caller free to give up.
func (g *guard) write(ctx context.Context, _ serial.Port, b []byte) (int, error) {
	sent := 0
	for sent < len(b) {
		n, err := unix.Write(g.fd, b[sent:])
		sent += max(0, n)
		switch err {
		case nil, unix.EINTR:
		case unix.EAGAIN:
			if ctx.Err() != nil {
				return sent, context.Cause(ctx)
			}
			room := []unix.PollFd{{Fd: int32(g.fd), Events: unix.POLLOUT}}
			if _, err := unix.Poll(room, 20); err != nil && err != unix.EINTR {
				return sent, err
			}
		default:
			return sent, err
		}
	}
	return sent, nil
}

// signal sets an outgoing line and leaves the others alone.
func (g *guard) signal(_ serial.Port, line uart.Signal, on bool) error {
	request := uint(unix.TIOCMBIC)
	if on {
		request = unix.TIOCMBIS
	}
	return unix.IoctlSetPointerInt(g.fd, request, map[uart.Signal]int{uart.DTR: unix.TIOCM_DTR, uart.RTS: unix.TIOCM_RTS}[line])
}

// inputs reads the incoming lines.
func (g *guard) inputs(dev serial.Port) (Inputs, error) {
	bits, err := dev.GetModemStatusBits()
	if err != nil {
		return Inputs{}, err
	}
	return Inputs{CTS: bits.CTS, DSR: bits.DSR, DCD: bits.DCD, RI: bits.RI}, nil
}

// setFlow sets flow control in the terminal settings.
func (g *guard) setFlow(_ serial.Port, f uart.Flow) error {
	t, err := unix.IoctlGetTermios(g.fd, getTermios)
	if err != nil {
		return err
	}
	t.Cflag &^= unix.CRTSCTS
	t.Iflag &^= unix.IXON | unix.IXOFF
	switch f {
	case uart.RTSCTS:
		t.Cflag |= unix.CRTSCTS
	case uart.XonXoff:
		t.Iflag |= unix.IXON | unix.IXOFF
	}
	return unix.IoctlSetTermios(g.fd, setTermios, t)
}

// permissionHint names the group that may open the device.
func permissionHint(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	if info.Mode().Perm()&0o060 != 0o060 {
		return "Its owner must give you the right to read and write it."
	}
	id := strconv.Itoa(int(stat.Gid))
	name := id
	if g, err := user.LookupGroupId(id); err == nil {
		name = g.Name
	}
	own, _ := os.Getgroups() // without them nothing is known of what this login has
	return groupHint(name, slices.Contains(own, int(stat.Gid)), listedIn(id))
}

// groupHint says what lacks of the group that may open a port: whether this login is in it, and
// whether the user is listed there.
func groupHint(name string, here, listed bool) string {
	switch {
	case here:
		return fmt.Sprintf("You are in its group %q, which may: something else keeps you out, such as a container or a security module.", name)
	case listed:
		return fmt.Sprintf("Its group %q may, and you are in it, but this login began before that: log in anew.", name)
	}
	return fmt.Sprintf("Its group %q may: have yourself added with 'sudo usermod -aG %s $USER', then log in anew.", name, name)
}

// listedIn reports whether this user is listed in a group, by its number.
func listedIn(id string) bool {
	u, err := user.Current()
	if err != nil {
		return false
	}
	groups, err := u.GroupIds()
	return err == nil && slices.Contains(groups, id)
}

// LockFile makes a file and locks it for this program; a file that another
// program has locked is an error. The lock ends with release, or with the
// program, however that ends; the file stays.
func LockFile(path string) (release func(), err error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for tries := 0; ; tries++ {
		err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			return func() { f.Close() }, nil
		}
		if tries == 5 { // lockHeld holds it for a moment
			f.Close()
			return nil, fmt.Errorf("lock %s: %w", path, err)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// lockHeld reports whether a program has a file locked, and whether the file is there.
func lockHeld(path string) (held, there bool) {
	f, err := os.Open(path)
	if err != nil {
		return false, false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil, true
}

// namesDevice reports whether a name is that of a device that is not in the file system: here all
// are.
func namesDevice(string) bool { return false }

// setLine sets speed and frame.
func (g *guard) setLine(dev serial.Port, l uart.Line) error { return dev.SetMode(mode(l)) }

// MayOpen says what would keep this user from opening a port, as far as that
// can be told without opening it; nil if nothing would.
func MayOpen(path string) error {
	if err := unix.Access(path, unix.R_OK|unix.W_OK); err != nil {
		return openError(path, err)
	}
	if device, err := filepath.EvalSymlinks(path); err == nil {
		if pid, alive := lockOwner(lockName(device)); alive {
			return openError(path, fmt.Errorf("process %d: %w", pid, syscall.EBUSY))
		}
	}
	return nil
}
