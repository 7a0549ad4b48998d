package port

import (
	"os"
	"path/filepath"
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
