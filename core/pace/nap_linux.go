package pace

import (
	"time"

	"golang.org/x/sys/unix"
)

// Precise sleeps in the kernel, past the runtime's own timers. It holds a
// thread, so it is for short times only.
func Precise(d time.Duration) {
	t := unix.NsecToTimespec(int64(min(d, slice)))
	_ = unix.Nanosleep(&t, nil) // cut short by a signal it is only early, and callers look again
}
