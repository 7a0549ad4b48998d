//go:build !linux

package portlist

import (
	"context"
	"time"
)

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
