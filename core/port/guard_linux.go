package port

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// TCGETS2 and TCSETS2 keep speeds that have no constant of their own.
const (
	getTermios = unix.TCGETS2
	setTermios = unix.TCSETS2
)

// Example is what a port's address may look like here.
const Example = "/dev/ttyUSB0"

// FasterHint says how an adapter is kept from gathering bytes.
func FasterHint(path string) string {
	return fmt.Sprintf("write 1 to /sys/class/tty/%s/device/latency_timer, or install the udev rule that comes with uparrot", filepath.Base(path))
}

// openBy names the programs that have a device open, this one apart, as the
// process table tells; "" if none can be seen.
func openBy(device string) string {
	links, _ := filepath.Glob("/proc/[0-9]*/fd/*") // the glob is well-formed
	var who []string
	seen := map[int]bool{os.Getpid(): true}
	for _, link := range links {
		pid, err := strconv.Atoi(strings.Split(link, "/")[2])
		if err != nil || seen[pid] {
			continue
		}
		if target, err := os.Readlink(link); err == nil && target == device {
			seen[pid] = true
			who = append(who, process(pid))
		}
	}
	return strings.Join(who, " and ")
}

// process is a program's name and number.
func process(pid int) string {
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	if err != nil {
		return fmt.Sprintf("process %d", pid)
	}
	return fmt.Sprintf("%s (process %d)", strings.TrimSpace(string(name)), pid)
}

// userHertz is in what the kernel tells times of processes, on every machine.
const userHertz = 100

// startedAfter reports whether a process is known to have started after a time.
func startedAfter(pid int, t time.Time) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	behind := string(stat)[strings.LastIndexByte(string(stat), ')')+1:] // the name before it may hold anything
	fields := strings.Fields(behind)                                    // from the third of proc(5) on
	if len(fields) < 20 {
		return false
	}
	ticks, err := strconv.ParseInt(fields[19], 10, 64)
	uptime, uerr := os.ReadFile("/proc/uptime")
	if err != nil || uerr != nil {
		return false
	}
	up, err := strconv.ParseFloat(strings.Fields(string(uptime) + " x")[0], 64)
	if err != nil {
		return false
	}
	age := time.Duration((up - float64(ticks)/userHertz) * float64(time.Second))
	return time.Now().Add(-age).After(t.Add(2 * time.Second)) // the two clocks are not read at once
}

// holdBack reads how long the driver lets the adapter gather bytes.
func (g *guard) holdBack() (time.Duration, bool) {
	text, err := os.ReadFile(filepath.Join("/sys/class/tty", filepath.Base(g.device), "device", "latency_timer"))
	if err != nil {
		return 0, false
	}
	ms, err := strconv.Atoi(strings.TrimSpace(string(text)))
	return time.Duration(ms) * time.Millisecond, err == nil
}

// counters reads the driver's error counters (TIOCGICOUNT): eleven numbers and
// room for nine more, of which frame, overrun and parity errors are the seventh
// to ninth.
func (g *guard) counters() (Counters, error) {
	var n [20]int32
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(g.fd), unix.TIOCGICOUNT, uintptr(unsafe.Pointer(&n))); errno != 0 {
		return Counters{}, errno
	}
	return Counters{Frame: int(n[6]), Overrun: int(n[7]), Parity: int(n[8])}, nil
}
