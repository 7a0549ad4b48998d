package sim

import (
	"container/heap"
	"context"
	"sync"
	"time"

	"uparrot/core/pace"
)

// clock runs everything that happens on a bench, one thing after the other, in
// the order of the times for which it was planned. Modules and the air live in
// it alone and need no locks. What runs is told the planned time, not the time
// at which it came to run, so that late wake-ups do not add up.
type clock struct {
	sleep pace.Sleep
	wake  chan struct{}

	mu    sync.Mutex // guards the plan
	queue events
	count int

	running sync.Mutex // held while something runs
}

type event struct {
	at  time.Time
	seq int // events for the same time keep their order
	do  func(at time.Time)
}

func newClock(sleep pace.Sleep) *clock {
	return &clock{sleep: sleep, wake: make(chan struct{}, 1)}
}

// plan has do run at a time; a time that has passed means as soon as can be.
func (c *clock) plan(at time.Time, do func(at time.Time)) {
	c.mu.Lock()
	c.count++
	heap.Push(&c.queue, event{at, c.count, do})
	first := c.queue[0].seq == c.count
	c.mu.Unlock()
	if first {
		select {
		case c.wake <- struct{}{}:
		default: // it is about to look anyway
		}
	}
}

// run runs events until ctx is done.
func (c *clock) run(ctx context.Context) {
	for ctx.Err() == nil {
		c.mu.Lock()
		if len(c.queue) == 0 {
			c.mu.Unlock()
			select {
			case <-c.wake:
			case <-ctx.Done():
			}
			continue
		}
		next := c.queue[0].at
		c.mu.Unlock()
		if !pace.Until(ctx, next, c.sleep, c.wake) {
			continue
		}
		c.mu.Lock()
		e := heap.Pop(&c.queue).(event)
		c.mu.Unlock()
		c.running.Lock()
		e.do(e.at)
		c.running.Unlock()
	}
}

type events []event

func (q events) Len() int { return len(q) }
func (q events) Less(i, j int) bool {
	if !q[i].at.Equal(q[j].at) {
		return q[i].at.Before(q[j].at)
	}
	return q[i].seq < q[j].seq
}
func (q events) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *events) Push(x any)   { *q = append(*q, x.(event)) }
func (q *events) Pop() any {
	old := *q
	e := old[len(old)-1]
	*q = old[:len(old)-1]
	return e
}
