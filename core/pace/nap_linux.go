package pace

import (
	"time"

	"golang.org/x/sys/unix"
)

// wakeUp is what the kernel takes to wake a thread, and somewhat more: so much
// of a wait is spent looking at the clock instead.
const wakeUp = 100 * time.Microsecond

// Precise sleeps in the kernel, past the runtime's own timers. It holds a
// thread, so it is for short times only.
func Precise(d time.Duration) {
	if d > wakeUp {
		t := unix.NsecToTimespec(int64(min(d-wakeUp, slice)))
		_ = unix.Nanosleep(&t, nil) // cut short by a signal it is only early, and callers look again
		return
	}
	for began := time.Now(); time.Since(began) < d; {
	}
}
