package port

import (
	"os"
	"testing"
	"time"
)

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
