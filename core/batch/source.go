package batch

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"uparrot/core/session"
	"uparrot/core/verdict"
)

// unitSource gives out units, each to one slot.
type unitSource interface {
	// take is the next unit, or the one that is named; nil if there is none to be done.
	take(ctx context.Context, unit string) (*Result, error)
	// giveBack lets another take a unit with which nothing was done.
	giveBack(ctx context.Context, r *Result) error
	// again says that a unit is done once more.
	again(ctx context.Context, r *Result) error
	// over says that a unit has come to its end here.
	over(ctx context.Context, r *Result) error
	// all are the results in the order of the table.
	all() []*Result
	// left is how many units nobody has begun; -1 if that is not known.
	left() int
	// close ends the work.
	close(ctx context.Context) error
}

// tableUnits are the units of a table, for this program alone.
type tableUnits struct {
	mu      sync.Mutex
	results []*Result
	next    int // before it all are taken
}

func newTableUnits(table *session.UnitTable) *tableUnits {
	t := &tableUnits{}
	for i, row := range table.Rows {
		t.results = append(t.results, &Result{Row: row, Number: i + 1, Verdict: verdict.Untested, Why: notBegun})
	}
	return t
}

func (t *tableUnits) take(_ context.Context, unit string) (*Result, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := t.next; i < len(t.results); i++ {
		r := t.results[i]
		if !r.taken && unit == "" {
			t.next = i + 1
		}
		if !r.taken && (unit == "" || r.Row.Unit == unit) {
			r.taken, r.Why = true, ""
			return r, nil
		}
	}
	return nil, nil
}

func (t *tableUnits) giveBack(_ context.Context, r *Result) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	r.taken, r.Verdict, r.Why = false, verdict.Untested, notBegun
	t.next = min(t.next, r.Number-1)
	return nil
}

func (t *tableUnits) again(context.Context, *Result) error { return nil }

func (t *tableUnits) over(context.Context, *Result) error { return nil }

func (t *tableUnits) close(context.Context) error { return nil }

func (t *tableUnits) all() []*Result { return t.results }

func (t *tableUnits) left() (n int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, r := range t.results {
		if !r.taken {
			n++
		}
	}
	return n
}

// batchUnits are the units of a batch in the ledger, which several stations share.
type batchUnits struct {
	*session.Batch
	rows map[string]*Result // what each was in the table, by unit

	end session.Ending // how the batch stood when this station's work was over

	mu      sync.Mutex
	results []*Result
	waiting int // units that were open when that was asked last
	asked   time.Time
}

// leftEvery is how often the ledger is asked how many units are open.
const leftEvery = 3 * time.Second

// openBatch opens the batch that --units names.
func (b *Batch) openBatch(ctx context.Context, name string, different []string) (*batchUnits, error) {
	station := b.Station
	if station == "" {
		host, err := os.Hostname()
		if err != nil {
			return nil, fmt.Errorf("find the name of this station, which --station gives too: %w", err)
		}
		station = host
	}
	work, err := session.OpenBatch(ctx, b.Each.Keep.Ledger, name, station, b.Lease, func(text string) { b.Tell(nil, text) })
	if err != nil {
		return nil, err
	}
	u := &batchUnits{Batch: work, rows: map[string]*Result{}}
	if b.table, err = work.Units(ctx, b.Each.File, b.Inputs, different); err != nil {
		_, cerr := work.Close(ctx)
		return nil, errors.Join(err, cerr)
	}
	for i, row := range b.table.Rows {
		u.rows[row.Unit] = &Result{Row: row, Number: i + 1}
	}
	return u, nil
}

func (u *batchUnits) take(ctx context.Context, unit string) (*Result, error) {
	c, err := u.Batch.Take(ctx, unit)
	if err != nil || c == nil {
		return nil, err
	}
	known := u.rows[c.Unit]
	if known == nil { // it was loaded since
		return nil, errors.Join(&session.Unable{What: c.Unit + " was added to the batch meanwhile: begin anew, for its values to be looked at first"}, u.GiveBack(ctx, c))
	}
	r := &Result{Row: known.Row, Number: known.Number, Verdict: verdict.Untested, claim: c}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.results = append(u.results, r)
	u.waiting--
	if time.Since(u.asked) > leftEvery {
		if states, err := u.Ledger.States(ctx, u.Name); err == nil { // else it stays as it was
			u.waiting, u.asked = states["open"], time.Now()
		}
	}
	return r, nil
}

func (u *batchUnits) giveBack(ctx context.Context, r *Result) error {
	u.mu.Lock()
	for i, known := range u.results {
		if known == r {
			u.results = append(u.results[:i], u.results[i+1:]...)
			u.waiting++
			break
		}
	}
	u.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), giveBackWithin)
	defer cancel()
	if err := u.GiveBack(ctx, r.claim); err != nil {
		u.Tell(fmt.Sprintf("%s could not be given back, and is broken when its lease is over: %v", r.Row.Unit, err))
	}
	return nil
}

// giveBackWithin is how long the ledger may take for that.
const giveBackWithin = 3 * time.Second

func (u *batchUnits) again(ctx context.Context, r *Result) error { return u.Again(ctx, r.claim) }

func (u *batchUnits) over(ctx context.Context, r *Result) error {
	if r.Done.Run == "" {
		return u.Settle(ctx, r.claim, r.Verdict, r.Why)
	}
	conflict, err := u.Done(ctx, r.claim, r.Done.Run)
	if err != nil {
		u.Tell(fmt.Sprintf("whether %s was still in hand is not known yet: %v", r.Row.Unit, err))
		return nil // it is looked for at the end
	}
	if conflict {
		r.conflict()
	}
	return nil
}

// conflict has a result be none.
func (r *Result) conflict() {
	r.conflicts = true
	r.Why = fmt.Sprintf("a conflict: the unit was released meanwhile, and this run, which %s, is no result of it", r.Verdict)
	r.Verdict = verdict.Untested
}

func (u *batchUnits) all() []*Result {
	u.mu.Lock()
	defer u.mu.Unlock()
	return append([]*Result(nil), u.results...)
}

func (u *batchUnits) left() int {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.asked.IsZero() {
		return -1
	}
	return max(0, u.waiting)
}

// close ends the station's work. Runs that turned out as conflicts when they were filed late are
// told as such.
func (u *batchUnits) close(ctx context.Context) error {
	end, err := u.Close(ctx)
	u.end = end
	for _, c := range end.Conflicts {
		for _, r := range u.all() {
			if r.Done.Run == c.Run && !r.conflicts {
				r.conflict()
			}
		}
	}
	return err
}
