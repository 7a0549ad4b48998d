package pace

import (
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// wakeUp is what the kernel takes to wake a thread, and somewhat more: so much
// of a wait is spent looking at the clock instead.
const wakeUp = 100 * time.Microsecond

// timer is a kernel timer that the runtime's poller waits for, so that a wait
// holds neither a thread nor a processor that others need.
type timer struct {
	fd   int
	file *os.File
}

// timers keeps kernel timers for use again; nil where there can be none.
var timers = sync.Pool{New: func() any {
	fd, err := unix.TimerfdCreate(unix.CLOCK_MONOTONIC, unix.TFD_NONBLOCK|unix.TFD_CLOEXEC)
	if err != nil {
		return (*timer)(nil)
	}
	return &timer{fd, os.NewFile(uintptr(fd), "timer")}
}}

// Precise waits in the kernel, past the runtime's own timers, for a time or
// somewhat less, and exactly where the time is short.
func Precise(d time.Duration) {
	if d <= wakeUp {
		for began := time.Now(); time.Since(began) < d; {
		}
		return
	}
	d = min(d-wakeUp, slice)
	t := timers.Get().(*timer)
	if t == nil {
		time.Sleep(d)
		return
	}
	var expired [8]byte
	err := unix.TimerfdSettime(t.fd, 0, &unix.ItimerSpec{Value: unix.NsecToTimespec(int64(d))}, nil)
	if err == nil {
		_, err = t.file.Read(expired[:])
	}
	if err != nil {
		t.file.Close() // broken: it is not used again
		time.Sleep(d)
		return
	}
	timers.Put(t)
}
