package rehearse

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"
)

// Batch is units that are done on several slots.
type Batch struct {
	Units  []map[string]any // the values of each
	Slots  int
	Hand   time.Duration  // that a person takes to put the next module in
	Hands  int            // persons
	Shared map[string]int // what slots share, and how many use it at once
}

// Spent is how long a batch takes.
type Spent struct {
	Units  int           `json:"units"`
	Slots  int           `json:"slots"`
	Failed int           `json:"failed"`
	Total  time.Duration `json:"-"`
	Unit   time.Duration `json:"-"` // that the procedure takes, without waiting
	Shares []Waited      `json:"waits"`
}

// Waited is what slots wait for.
type Waited struct {
	What   string        `json:"what"`
	Waited time.Duration `json:"-"`    // all slots together
	Used   float64       `json:"used"` // share of the time in which it is in use, of those that there are
}

// TheHand is what a person is called among what is waited for.
const TheHand = "a person's hand"

// Batch performs the procedure at all units, on slots at once, in simulated time; a *[Cut] where it goes beyond a
// bound.
func (p *Play) Batch(ctx context.Context, b Batch) (s Spent, err error) {
	cut := bounded(ctx, "the table", cmp.Or(p.For, longestAll), cmp.Or(p.Most, mostStatements)*max(1, len(b.Units)), func(halt func() error) {
		s, err = p.batch(b, halt)
	})
	if cut != nil {
		err = cut
	}
	return s, err
}

// share is something that so many use at once, with what that comes to.
type share struct {
	name   string
	places chan struct{}
	mu     sync.Mutex
	waited time.Duration
	used   time.Duration
}

// take waits for a place, and returns what gives it back.
func (s *share) take() (release func()) {
	began := time.Now()
	s.places <- struct{}{}
	got := time.Now()
	s.mu.Lock()
	s.waited += got.Sub(began)
	s.mu.Unlock()
	return func() {
		s.mu.Lock()
		s.used += time.Since(got)
		s.mu.Unlock()
		<-s.places
	}
}

// shift is a batch at work.
type shift struct {
	*Play
	Batch
	shares map[string]*share
	halt   func() error

	mu     sync.Mutex
	next   int
	failed int
	worked time.Duration
	err    error
}

func (p *Play) batch(b Batch, halt func() error) (Spent, error) {
	w := &shift{Play: p, Batch: b, halt: halt, shares: map[string]*share{TheHand: {name: TheHand, places: make(chan struct{}, max(1, b.Hands))}}}
	for name, n := range b.Shared {
		w.shares[name] = &share{name: name, places: make(chan struct{}, n)}
	}
	began := time.Now()
	var all sync.WaitGroup
	for range b.Slots {
		all.Go(w.slot)
	}
	all.Wait()
	out := Spent{Units: len(b.Units), Slots: b.Slots, Failed: w.failed, Total: time.Since(began), Unit: w.worked / time.Duration(max(1, len(b.Units)))}
	for _, s := range w.shares {
		out.Shares = append(out.Shares, Waited{s.name, s.waited, s.used.Seconds() / max(1e-9, out.Total.Seconds()*float64(cap(s.places)))})
	}
	slices.SortFunc(out.Shares, func(a, b Waited) int { return cmp.Or(cmp.Compare(b.Waited, a.Waited), cmp.Compare(a.What, b.What)) })
	return out, w.err
}

// slot does one unit after another.
func (w *shift) slot() {
	for {
		w.mu.Lock()
		i, stop := w.next, w.err != nil
		w.next++
		w.mu.Unlock()
		if stop || i >= len(w.Units) {
			return
		}
		release := w.shares[TheHand].take()
		time.Sleep(w.Hand)
		release()
		o, err := w.once(context.Background(), trial{seed: w.Seed + uint64(i), uses: w.uses, halt: w.halt, quick: true}, w.Units[i])
		w.mu.Lock()
		if err != nil && w.err == nil {
			w.err = err
		}
		if !fine(o.res) {
			w.failed++
		}
		for _, st := range o.res.Steps {
			w.worked += time.Duration(st.TookMS * float64(time.Millisecond))
		}
		w.mu.Unlock()
	}
}

// uses waits for what a step shares with others, always in the same order.
func (w *shift) uses(_ context.Context, names []string) (func(), error) {
	var held []func()
	for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) {
		s := w.shares[name]
		if s == nil {
			return nil, fmt.Errorf("the bench does not name %s: write %s = 1 in [shared]", name, name)
		}
		held = append(held, s.take())
	}
	return func() {
		for _, release := range held {
			release()
		}
	}, nil
}
