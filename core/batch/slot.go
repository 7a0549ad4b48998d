package batch

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// Slot is a place on the bench that works through the units of a batch.
type Slot struct {
	bench.Slot
	*Batch
	who Asker

	mu    sync.Mutex
	state State
}

// State is what a slot does, and did last.
type State struct {
	Unit   string // that is being done; "" if none is
	Step   string
	Since  time.Time // when the unit, or the wait for it, began
	Last   verdict.Verdict
	Why    string
	Done   int    // units
	Latest string // the unit that was done last
}

// State is what the slot does now.
func (s *Slot) State() State {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.state
}

// checkSlots holds slots against the procedure.
func (b *Batch) checkSlots(slots []bench.Slot) error {
	if len(slots) == 0 {
		return nil
	}
	for _, s := range slots {
		for _, p := range b.Each.File.Ports {
			if _, ok := s.Ports[p.Name]; !ok && p.Socket == "" && b.Each.At[p.Name] == "" {
				return &session.Misuse{What: fmt.Sprintf("slot %s has no port for the procedure's %s: write %s = \"...\" in [slot.%s]", s.Name, p.Name, p.Name, s.Name)}
			}
		}
	}
	for _, st := range b.Each.File.Steps {
		for _, name := range st.Uses {
			if _, ok := b.Each.Ports.Bench.Shared[name]; !ok {
				return &session.Misuse{What: fmt.Sprintf("the step %q uses %s, which the bench does not name: write %s = 1 in [shared]", st.Title, name, name)}
			}
		}
	}
	return nil
}

// shared are the things of a bench that slots use one after another.
type shared map[string]chan struct{}

func newShared(b *bench.Bench) shared {
	all := shared{}
	for name, n := range b.Shared {
		all[name] = make(chan struct{}, n)
	}
	return all
}

// use waits for all of some things, always in the same order, so that no two wait for each
// other.
func (s shared) use(ctx context.Context, names []string) (release func(), err error) {
	names = slices.Compact(slices.Sorted(slices.Values(names)))
	var held []string
	release = func() {
		for _, name := range held {
			<-s[name]
		}
	}
	for _, name := range names {
		select {
		case s[name] <- struct{}{}:
			held = append(held, name)
		case <-ctx.Done():
			release()
			return nil, context.Cause(ctx)
		}
	}
	return release, nil
}

// event takes in what happens at a slot.
func (s *Slot) event(e record.Event) {
	s.mu.Lock()
	if e.Kind == record.Step {
		s.state.Step = e.Step
	}
	unit := s.state.Unit
	s.mu.Unlock()
	if s.Event != nil {
		s.Event(s, unit, e)
	}
}

// makeSlots makes the slots that work: those that are named, or one without a name.
func (b *Batch) makeSlots() error {
	if err := b.checkSlots(b.Slots); err != nil {
		return err
	}
	if len(b.Slots) == 0 {
		b.slots = []*Slot{{Batch: b}}
	} else {
		b.shared = newShared(b.Each.Ports.Bench)
	}
	for _, place := range b.Slots {
		b.slots = append(b.slots, &Slot{Slot: place, Batch: b})
	}
	for _, s := range b.slots {
		s.who = b.Person(s)
	}
	return nil
}

// say tells something of the slot.
func (s *Slot) say(format string, values ...any) { s.Tell(s, fmt.Sprintf(format, values...)) }

// begins tells that a unit begins.
func (s *Slot) begins(r *Result) {
	s.mu.Lock()
	s.state.Unit, s.state.Step, s.state.Since = r.Row.Unit, "", time.Now()
	s.mu.Unlock()
	if s.Begins != nil {
		s.Begins(s, r)
	}
}

// ends tells what came of a unit.
func (s *Slot) ends(r *Result) {
	s.mu.Lock()
	s.state.Unit, s.state.Latest, s.state.Last, s.state.Why, s.state.Since = "", r.Row.Unit, r.Verdict, r.Why, time.Now()
	s.state.Done++
	s.mu.Unlock()
	if s.Ends != nil {
		s.Ends(s, r)
	}
}
