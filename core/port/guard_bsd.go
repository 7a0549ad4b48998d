//go:build unix && !linux

package port

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

const (
	getTermios = unix.TIOCGETA
	setTermios = unix.TIOCSETA
)

// Example is what a port's address may look like here.
const Example = "/dev/cu.usbserial-0"

// FasterHint says how an adapter is kept from gathering bytes.
func FasterHint(string) string { return "set the latency timer of its driver to 1" }

// openBy names the programs that have a device open, this one apart, as lsof tells; "" if none can
// be seen.
func openBy(device string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	out, _ := exec.CommandContext(ctx, "lsof", "-F", "pc", device).Output() // nobody, and no lsof, are an error
	return strings.Join(fromLsof(string(out), os.Getpid()), " and ")
}

func process(pid int) string { return fmt.Sprintf("process %d", pid) }

// holdBack is not known here.
func (g *guard) holdBack() (time.Duration, bool) { return 0, false }

// counters are not to be had here.
func (g *guard) counters() (Counters, error) { return Counters{}, unix.ENOTSUP }

// startedAfter is not known here.
func startedAfter(int, time.Time) bool { return false }
