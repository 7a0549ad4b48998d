package port

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A lock is refused while it is held, taken again after that, and its file can be removed
// while it is held.
func TestLockAgain(t *testing.T) {
	path := filepath.Join(t.TempDir(), StandinLock)
	for range 2 {
		release, err := LockFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := LockFile(path); err == nil {
			t.Error("locked twice")
		}
		if held, there := lockHeld(path); !held || !there {
			t.Error("the lock is not seen")
		}
		release()
		if held, there := lockHeld(path); held || !there {
			t.Error("the lock stays after its end")
		}
	}
	release, err := LockFile(path)
	if err == nil {
		err = os.Remove(path)
	}
	if err != nil {
		t.Error(err)
	}
	release()
}

// Who has a port open, as lsof tells it.
func TestFromLsof(t *testing.T) {
	for list, want := range map[string]string{
		"": "",
		"p4711\nclogger\np812\nccat\np99\ncself\n": "logger (process 4711) and cat (process 812)",
		"px\ncnobody\n":             "",
		"p12\nf3\ncterm inal\nf4\n": "term inal (process 12)",
	} {
		if got := strings.Join(fromLsof(list, 99), " and "); got != want {
			t.Errorf("%q: %q, want %q", list, got, want)
		}
	}
}
