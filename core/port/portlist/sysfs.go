package portlist

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"uparrot/core/port"
)

// listBelow lists the ports of a Linux system whose root directory is given: its
// sys, dev and proc are read.
func listBelow(root string) ([]Entry, error) {
	class := filepath.Join(root, "sys/class/tty")
	entries, err := os.ReadDir(class)
	if err != nil {
		return nil, err
	}
	consoles := strings.Fields(read(filepath.Join(class, "console/active")))
	var all []Entry
	for _, e := range entries {
		device, err := filepath.EvalSymlinks(filepath.Join(class, e.Name(), "device"))
		if err != nil {
			continue // a terminal without hardware
		}
		if read(filepath.Join(class, e.Name(), "type")) == "0" {
			continue // a place on the board for a port that is not there
		}
		p := Entry{Path: "/dev/" + e.Name(), HeldBy: []Holder{}}
		for _, c := range consoles {
			p.Console = p.Console || c == e.Name()
		}
		describe(&p, root, device)
		all = append(all, p)
	}
	holders := holders(root, all)
	for i := range all {
		p := &all[i]
		p.HeldBy = append(p.HeldBy, holders[p.Path]...)
		for _, h := range p.HeldBy {
			p.Console = p.Console || strings.HasSuffix(h.Program, "getty") || h.Program == "login"
		}
		p.judge(filepath.Join(root, p.Path))
	}
	sortPorts(all)
	return all, nil
}

// read is a file's text without blanks round it, "" if there is none.
func read(path string) string {
	b, err := os.ReadFile(path)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// describe goes up from a port's device to the adapter that it is part of: the
// first folder above that holds a vendor number is the USB device, and the one
// below it the interface.
func describe(p *Entry, root, device string) {
	// Ports on the board hang below general devices named port and ctrl; the
	// driver that says something is further up.
	for dir, n := device, 0; n < 3 && (p.Driver == "" || p.Driver == "port" || p.Driver == "ctrl"); dir, n = filepath.Dir(dir), n+1 {
		if driver, err := filepath.EvalSymlinks(filepath.Join(dir, "driver")); err == nil {
			p.Driver = filepath.Base(driver)
		}
	}
	if ms, err := strconv.Atoi(read(filepath.Join(device, "latency_timer"))); err == nil {
		p.HoldBack = &ms
	}
	top := filepath.Join(root, "sys")
	if real, err := filepath.EvalSymlinks(top); err == nil {
		top = real
	}
	below := device
	for dir := device; strings.HasPrefix(dir, top) && dir != top; dir = filepath.Dir(dir) {
		if read(filepath.Join(dir, "idVendor")) != "" {
			p.Make, p.Product, p.Serial = read(filepath.Join(dir, "manufacturer")), read(filepath.Join(dir, "product")), read(filepath.Join(dir, "serial"))
			p.Socket = filepath.Base(dir)
			// An adapter with several ports has several interfaces.
			if n := read(filepath.Join(below, "bInterfaceNumber")); n != "" && strings.TrimLeft(n, "0") != "" {
				p.Socket += ":" + strings.TrimLeft(n, "0")
			}
			return
		}
		if read(filepath.Join(dir, "bInterfaceNumber")) != "" {
			below = dir
		}
	}
}

// holders finds the programs that have ports open, in one walk over the process
// table.
func holders(root string, all []Entry) map[string][]Holder {
	wanted := map[string]bool{}
	for _, p := range all {
		wanted[p.Path] = true
	}
	found := map[string][]Holder{}
	proc := filepath.Join(root, "proc")
	processes, _ := os.ReadDir(proc) // without a process table nobody is seen
	for _, e := range processes {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		dir := filepath.Join(proc, e.Name(), "fd")
		fds, err := os.ReadDir(dir)
		if err != nil {
			continue // another user's, or just ended
		}
		seen := map[string]bool{}
		for _, fd := range fds {
			target, err := os.Readlink(filepath.Join(dir, fd.Name()))
			if err == nil && wanted[target] && !seen[target] {
				seen[target] = true
				found[target] = append(found[target], Holder{read(filepath.Join(proc, e.Name(), "comm")), pid})
			}
		}
	}
	return found
}

// judge says whether the port may be opened now, and what to do if not.
func (p *Entry) judge(path string) {
	p.Free = true
	if err := port.MayOpen(path); err != nil {
		p.Free, p.Hint = false, err.Error()
	}
	switch {
	case p.Console:
		p.Free = false
		p.Hint = "the system's own console or login is on it; take it off there before you use the port"
	case len(p.HeldBy) > 0:
		p.Free = false
		p.Hint = "end " + p.HeldBy[0].String() + ", or use another port"
	}
}
