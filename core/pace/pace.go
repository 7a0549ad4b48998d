// Package pace waits for a moment more exactly than a plain sleep, whose
// wake-up the runtime may round up by a millisecond.
package pace

import (
	"context"
	"time"
)

// Sleep sleeps for a time or somewhat less. Precise is exact to some ten
// microseconds; time.Sleep may stand in for it where time is made up.
type Sleep func(time.Duration)

// near is how long before the moment the exact part of the wait begins, and
// slice how long that goes on without a look at what else has happened.
const (
	near  = 2 * time.Millisecond
	slice = 250 * time.Microsecond
)

// For waits for a while, or at least for nothing, unless ctx is done first: then it returns why.
func For(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return context.Cause(ctx)
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Until waits for a moment and returns at once if it has passed. If ctx is done
// or something comes over early first, it returns false. early may be nil.
func Until(ctx context.Context, t time.Time, sleep Sleep, early <-chan struct{}) bool {
	d := time.Until(t)
	if d <= 0 {
		return ctx.Err() == nil
	}
	if d -= near; d > 0 {
		timer := time.NewTimer(d)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-early:
			return false
		case <-ctx.Done():
			return false
		}
	}
	for {
		select {
		case <-early:
			return false
		case <-ctx.Done():
			return false
		default:
		}
		d := time.Until(t)
		if d <= 0 {
			return true
		}
		sleep(d)
	}
}
