package port

import (
	"os"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"uparrot/core/uart"
)

// A pseudo-terminal that was opened can be opened by anybody when the program has been killed: what would
// keep others out outlives it, and only root is not kept out.
func TestKilledLeavesNoExclusion(t *testing.T) {
	there, err := OpenPseudo()
	if err != nil {
		t.Skip(err)
	}
	defer there.Close()
	p, err := openAt(there.Path(), uart.DefaultLine)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	fd, err := unix.Open(there.Path(), unix.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK, 0) // as root: else this fails already
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(fd)
	if exclusive, err := unix.IoctlGetInt(fd, unix.TIOCGEXCL); err != nil || exclusive != 0 {
		t.Errorf("exclusive %d, %v", exclusive, err)
	}
}

// A lock file that is older than the process whose number it holds is that of another.
func TestStartedAfter(t *testing.T) {
	for _, c := range []struct {
		pid  int
		when time.Time
		want bool
	}{{os.Getpid(), time.Now().Add(-24 * time.Hour), true}, {os.Getpid(), time.Now(), false}, {os.Getppid(), time.Now(), false}, {1 << 30, time.Now().Add(-time.Hour), false}} {
		if got := startedAfter(c.pid, c.when); got != c.want {
			t.Errorf("process %d after %v: %v", c.pid, c.when, got)
		}
	}
}
