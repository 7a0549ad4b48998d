package rehearse

import (
	"context"
	"errors"
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

// Batch performs the procedure at all units, on slots at once, in made-up time.
func (p *Play) Batch(ctx context.Context, b Batch) (s Spent, err error) {
	fault := inMadeUpTime(func() { s, err = p.batch(b) })
	return s, errors.Join(err, fault, ctx.Err())
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

func (p *Play) batch(b Batch) (Spent, error) {
	shares := map[string]*share{TheHand: {name: TheHand, places: make(chan struct{}, max(1, b.Hands))}}
	for name, n := range b.Shared {
		shares[name] = &share{name: name, places: make(chan struct{}, n)}
	}
	uses := func(_ context.Context, names []string) (func(), error) {
		var held []func()
		for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) { // always in the same order
			s := shares[name]
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
	began := time.Now()
	out := Spent{Units: len(b.Units), Slots: b.Slots}
	var mu sync.Mutex
	next := 0
	var first error
	var worked time.Duration
	var all sync.WaitGroup
	for range b.Slots {
		all.Go(func() {
			for {
				mu.Lock()
				i := next
				next++
				stop := first != nil
				mu.Unlock()
				if stop || i >= len(b.Units) {
					return
				}
				release := shares[TheHand].take()
				time.Sleep(b.Hand)
				release()
				o, err := p.once(context.Background(), scene{seed: p.Seed + uint64(i), uses: uses, quick: true}, b.Units[i])
				mu.Lock()
				if err != nil && first == nil {
					first = err
				}
				if !fine(o.res) {
					out.Failed++
				}
				for _, st := range o.res.Steps {
					worked += time.Duration(st.TookMS * float64(time.Millisecond))
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	out.Total = time.Since(began)
	if len(b.Units) > 0 {
		out.Unit = worked / time.Duration(len(b.Units))
	}
	for _, s := range shares {
		out.Shares = append(out.Shares, Waited{s.name, s.waited, s.used.Seconds() / max(1e-9, out.Total.Seconds()*float64(cap(s.places)))})
	}
	slices.SortFunc(out.Shares, func(a, b Waited) int {
		if a.Waited != b.Waited {
			return int((b.Waited - a.Waited) / time.Microsecond)
		}
		return len(a.What) - len(b.What)
	})
	return out, first
}
