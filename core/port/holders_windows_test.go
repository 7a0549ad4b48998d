package port

import (
	"os"
	"strings"
	"testing"

	"golang.org/x/sys/windows"
)

// A device that this program has open is found among the handles of all programs, and named; one
// that it has closed is not.
func TestSystemHandles(t *testing.T) {
	if got := HolderOf("COM250"); got != "" {
		t.Errorf("a port that is not there is held by %s", got)
	}
	f, err := os.OpenFile("NUL", os.O_RDWR, 0) // which anybody may open
	if err != nil {
		t.Fatal(err)
	}
	number := f.Fd()
	listed := func() bool {
		for _, h := range systemHandles() {
			if int(h.process) == os.Getpid() && h.handle == number {
				return true
			}
		}
		return false
	}
	if !listed() {
		t.Error("a device that is open is not among the handles")
	}
	var twin windows.Handle
	if err := windows.DuplicateHandle(windows.CurrentProcess(), windows.Handle(number), windows.CurrentProcess(), &twin, 0, false, windows.DUPLICATE_SAME_ACCESS); err != nil {
		t.Fatal(err)
	}
	ask := newAsker()
	defer ask.end()
	if name := ask.name(twin); !strings.HasSuffix(strings.ToLower(name), `\null`) {
		t.Errorf("the device is named %q", name)
	}
	f.Close()
	if listed() {
		t.Error("a device that is closed is among the handles")
	}
}
