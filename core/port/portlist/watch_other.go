//go:build !linux

package portlist

import (
	"context"
	"time"

	"go.bug.st/serial"

	"uparrot/core/port"
)

// List lists the ports of this machine. On this system only their names are
// known.
func List() ([]Entry, error) {
	names, err := serial.GetPortsList()
	if err != nil {
		return nil, err
	}
	var all []Entry
	for _, n := range names {
		p := Entry{Path: n, HeldBy: []Holder{}, Free: true}
		if err := port.MayOpen(n); err != nil {
			p.Free, p.Hint = false, err.Error()
		}
		all = append(all, p)
	}
	sortPorts(all)
	return all, nil
}

// lookEvery is how often the ports are listed where the system does not tell.
const lookEvery = 500 * time.Millisecond

// Follow tells of every port that appears or goes, until ctx is done.
func Follow(ctx context.Context, tell func(Change)) error {
	before, err := List()
	if err != nil {
		return err
	}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if before, err = tellChanges(before, tell); err != nil {
			return err
		}
	}
}
