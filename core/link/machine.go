package link

import (
	"context"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"uparrot/core/pace"
)

// lookAtMachine is how often it is measured how late this machine is.
const lookAtMachine = 50 * time.Millisecond

// watchMachine measures, until it is asked, how late this machine wakes one who waits: as
// late may it be when it takes note of bytes that have come.
func watchMachine(ctx context.Context, sleep pace.Sleep) (late func() Lag) {
	ctx, stop := context.WithCancel(ctx)
	seen, done := newHistogram(), make(chan struct{})
	go func() {
		defer close(done)
		for due := time.Now().Add(lookAtMachine); pace.Until(ctx, due, sleep, nil); due = time.Now().Add(lookAtMachine) {
			_ = seen.RecordValue(max(1, time.Since(due).Microseconds())) // a day is never exceeded
		}
	}()
	return func() Lag {
		stop()
		<-done
		return lagOf(seen)
	}
}

// lagOf is a histogram of microseconds as a lag; zero if it is empty.
func lagOf(h *hdrhistogram.Histogram) Lag {
	n := h.TotalCount()
	if n == 0 {
		return Lag{}
	}
	return Lag{float64(percentile(h, 0.95, int(n))), float64(h.Max()) / 1000}
}
