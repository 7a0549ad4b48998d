package run

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// slot is a place on the bench that works through the units of a batch.
type slot struct {
	bench.Slot
	*batch
	who askable

	mu     sync.Mutex
	unit   string // that is being done; "" if none is
	step   string
	since  time.Time // when the unit, or the wait for it, began
	last   verdict.Verdict
	why    string
	done   int
	latest string    // the unit that was done last
	asks   *question // on the board; nil if it asks nothing
	does   string    // what a person is to do
	board  *board    // nil where there is none
}

// askable is somebody who can be asked.
type askable interface {
	perform.Operator
	Ask(ctx context.Context, question string) (string, error)
}

// checkSlots holds slots against the procedure.
func (b *batch) checkSlots(slots []bench.Slot) error {
	for _, s := range slots {
		for _, p := range b.file.Ports {
			if _, ok := s.Ports[p.Name]; !ok && p.Socket == "" && b.at[p.Name] == "" {
				return &session.Misuse{What: fmt.Sprintf("slot %s has no port for the procedure's %s: write %s = \"...\" in [slot.%s]", s.Name, p.Name, p.Name, s.Name)}
			}
		}
	}
	for _, st := range b.file.Steps {
		for _, name := range st.Uses {
			if _, ok := b.ports.Bench.Shared[name]; !ok {
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

// slotPerson is the person as a slot asks.
type slotPerson struct {
	*account.Person
	slot string
	turn chan struct{}
}

// Tell shows what to do where.
func (p *slotPerson) Tell(ctx context.Context, text string) error {
	return p.Person.Tell(ctx, "slot "+p.slot+": "+text)
}

// Confirm asks until yes or no is typed.
func (p *slotPerson) Confirm(ctx context.Context, question string) (is bool, err error) {
	if err = p.wait(ctx); err != nil {
		return false, err
	}
	defer func() { <-p.turn }()
	return p.Person.Confirm(ctx, "slot "+p.slot+": "+question)
}

// Value asks until a value is typed that fits.
func (p *slotPerson) Value(ctx context.Context, question string, check func(string) error) (string, error) {
	if err := p.wait(ctx); err != nil {
		return "", err
	}
	defer func() { <-p.turn }()
	return p.Person.Value(ctx, "slot "+p.slot+": "+question, check)
}

func (p *slotPerson) Ask(ctx context.Context, question string) (string, error) {
	if err := p.wait(ctx); err != nil {
		return "", err
	}
	defer func() { <-p.turn }()
	return p.Person.Ask(ctx, "slot "+p.slot+": "+question)
}

func (p *slotPerson) wait(ctx context.Context) error {
	select {
	case p.turn <- struct{}{}:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// event takes in what happens at a slot, and tells of steps that end.
func (s *slot) event(e record.Event) {
	if e.Kind != record.Step {
		return
	}
	s.mu.Lock()
	s.step, s.does = e.Step, ""
	unit := s.unit
	s.mu.Unlock()
	if s.board != nil {
		s.board.Wake(s.board.program)
	}
	if e.Verdict == "" || s.quietly {
		return
	}
	words := string(e.Verdict)
	if e.TookMS > 0 {
		words += " in " + shell.Took(shell.FromMS(e.TookMS))
	}
	if e.Why != "" && e.Verdict != verdict.Passed {
		words += ": " + e.Why
	}
	s.say("%s  %s: %s", unit, shell.OneLine(e.Step), shell.OneLine(words))
}

// makeSlots makes the slots that work: those of the bench, or one without a name.
func (b *batch) makeSlots() error {
	if b.RunCommand.Slots == "" {
		b.slots = []*slot{{batch: b, who: b.person}}
		return nil
	}
	chosen, err := b.ChosenSlots(b.ports.Bench)
	if err == nil {
		err = b.checkSlots(chosen)
	}
	if err != nil {
		return err
	}
	b.shared = newShared(b.ports.Bench)
	turn := make(chan struct{}, 1)
	for _, s := range chosen {
		b.slots = append(b.slots, &slot{Slot: s, batch: b, who: &slotPerson{b.person, s.Name, turn}})
	}
	b.quietly = b.Keeps.Quiet
	return nil
}

// say tells something of a slot.
func (s *slot) say(format string, values ...any) {
	words := shell.Safe(fmt.Sprintf(format, values...))
	if s.Name != "" {
		words = fmt.Sprintf("%-4s %s", shell.Safe(s.Name), words)
	}
	if s.board != nil {
		s.board.line(words)
		return
	}
	s.Err.Line("%s", words)
}

// begins tells that a unit begins.
func (s *slot) begins(r *unitResult) {
	unit := r.row.Unit
	s.mu.Lock()
	s.unit, s.step, s.since = unit, "", time.Now()
	s.mu.Unlock()
	if s.Begun != nil {
		s.Begun(s.Name, unit)
	}
	if s.Name == "" {
		s.Err.Line("")
		s.Err.Line("%s", s.Err.Bold(fmt.Sprintf("== %s, %d of %d", shell.Safe(unit), r.number, len(s.table.Rows))))
	}
}

// ends tells what came of a unit.
func (s *slot) ends(r *unitResult) {
	s.mu.Lock()
	s.unit, s.latest, s.last, s.why, s.does, s.since = "", r.row.Unit, r.verdict, r.why, "", time.Now()
	s.done++
	s.mu.Unlock()
	if s.Name != "" {
		s.say("%s %s  %s", r.row.Unit, r.verdict, shell.OneLine(r.why))
	}
}
