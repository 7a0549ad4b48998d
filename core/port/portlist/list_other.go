//go:build !linux && !windows && !darwin

package portlist

import "go.bug.st/serial"

// List lists the ports of this machine. On this system only their names are known.
func List() ([]Entry, error) {
	names, err := serial.GetPortsList()
	if err != nil {
		return nil, err
	}
	var all []Entry
	for _, n := range names {
		p := Entry{Path: n, HeldBy: []Holder{}}
		p.judge(n)
		all = append(all, p)
	}
	sortPorts(all)
	return all, nil
}
