package portlist

import (
	"context"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"go.bug.st/serial"
)

// askTime is how long the system's own tool may take to list the devices.
const askTime = 5 * time.Second

// List lists the ports of this machine by which a program calls out: those of adapters as the
// registry of devices tells, others by their names. Nothing is opened.
func List() ([]Entry, error) {
	ctx, cancel := context.WithTimeout(context.Background(), askTime)
	defer cancel()
	out, err := exec.CommandContext(ctx, "/usr/sbin/ioreg", "-a", "-r", "-l", "-c", "IOUSBHostDevice").Output()
	if err != nil {
		return nil, fmt.Errorf("list the devices with ioreg: %w", err)
	}
	all, err := fromRegistry(out)
	if err != nil {
		return nil, err
	}
	names, err := serial.GetPortsList()
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, p := range all {
		known[p.Path] = true
	}
	for _, n := range names {
		if !known[n] && !strings.HasPrefix(n, "/dev/tty.") { // that one waits for a carrier
			all = append(all, Entry{Path: n})
		}
	}
	for i := range all {
		all[i].HeldBy = []Holder{}
		all[i].judge(all[i].Path)
	}
	sortPorts(all)
	return all, nil
}
