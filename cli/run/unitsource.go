package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// unitSource gives out units, each to one slot.
type unitSource interface {
	// take is the next unit, or the one that is named; nil if there is none to be done.
	take(ctx context.Context, unit string) (*unitResult, error)
	// giveBack lets another take a unit with which nothing was done.
	giveBack(ctx context.Context, r *unitResult) error
	// again says that a unit is done once more.
	again(ctx context.Context, r *unitResult) error
	// over says that a unit has come to its end here.
	over(ctx context.Context, r *unitResult) error
	// all are the results in the order of the table.
	all() []*unitResult
	// left is how many units nobody has begun; -1 if that is not known.
	left() int
	// close ends the work.
	close(ctx context.Context) error
}

// batchPrefix is how --units names a batch in the ledger.
const batchPrefix = "batch:"

// tableUnits are the units of a table, for this program alone.
type tableUnits struct {
	mu      sync.Mutex
	results []*unitResult
	next    int // before it all are taken
}

func newTableUnits(table *session.UnitTable) *tableUnits {
	t := &tableUnits{}
	for i, row := range table.Rows {
		t.results = append(t.results, &unitResult{row: row, number: i + 1, verdict: verdict.Untested, why: notBegun})
	}
	return t
}

func (t *tableUnits) take(_ context.Context, unit string) (*unitResult, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := t.next; i < len(t.results); i++ {
		r := t.results[i]
		if !r.taken && unit == "" {
			t.next = i + 1
		}
		if !r.taken && (unit == "" || r.row.Unit == unit) {
			r.taken, r.why = true, ""
			return r, nil
		}
	}
	return nil, nil
}

func (t *tableUnits) giveBack(_ context.Context, r *unitResult) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	r.taken, r.verdict, r.why = false, verdict.Untested, notBegun
	t.next = min(t.next, r.number-1)
	return nil
}

func (t *tableUnits) again(context.Context, *unitResult) error { return nil }

func (t *tableUnits) over(context.Context, *unitResult) error { return nil }

func (t *tableUnits) close(context.Context) error { return nil }

func (t *tableUnits) all() []*unitResult { return t.results }

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
	rows map[string]*unitResult // what each was in the table, by unit

	mu      sync.Mutex
	results []*unitResult
	waiting int // units that were open when that was asked last
	asked   time.Time
}

// leftEvery is how often the ledger is asked how many units are open.
const leftEvery = 3 * time.Second

// openBatch opens the batch that --units names.
func (b *batch) openBatch(ctx context.Context, name string, different []string) (*batchUnits, error) {
	station := b.stationName
	if station == "" {
		host, err := os.Hostname()
		if err != nil {
			return nil, fmt.Errorf("find the name of this station, which --station gives too: %w", err)
		}
		station = host
	}
	work, err := session.OpenBatch(ctx, b.Keeps.Ledger, name, station, b.lease, b.announce)
	if err != nil {
		return nil, err
	}
	u := &batchUnits{Batch: work, rows: map[string]*unitResult{}}
	if b.table, err = work.Units(ctx, b.file, b.Inputs, different); err != nil {
		_, cerr := work.Close(ctx)
		return nil, errors.Join(err, cerr)
	}
	for i, row := range b.table.Rows {
		u.rows[row.Unit] = &unitResult{row: row, number: i + 1}
	}
	return u, nil
}

// announce tells what is of no slot alone: on the board, where there is one.
func (b *batch) announce(text string) {
	b.mu.Lock()
	d := b.shown
	b.mu.Unlock()
	if d != nil {
		d.line(shell.Safe(text))
		return
	}
	b.Err.Line("%s", shell.Safe(text))
}

func (u *batchUnits) take(ctx context.Context, unit string) (*unitResult, error) {
	c, err := u.Batch.Take(ctx, unit)
	if err != nil || c == nil {
		return nil, err
	}
	known := u.rows[c.Unit]
	if known == nil { // it was loaded since
		return nil, errors.Join(&session.Unable{What: c.Unit + " was added to the batch meanwhile: begin anew, for its values to be looked at first"}, u.GiveBack(ctx, c))
	}
	r := &unitResult{row: known.row, number: known.number, verdict: verdict.Untested, claim: c}
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

func (u *batchUnits) giveBack(ctx context.Context, r *unitResult) error {
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
		u.Tell(fmt.Sprintf("%s could not be given back, and is broken when its lease is over: %v", r.row.Unit, err))
	}
	return nil
}

// giveBackWithin is how long the ledger may take for that.
const giveBackWithin = 3 * time.Second

func (u *batchUnits) again(ctx context.Context, r *unitResult) error { return u.Again(ctx, r.claim) }

func (u *batchUnits) over(ctx context.Context, r *unitResult) error {
	if r.res.Run == "" {
		return u.Settle(ctx, r.claim, r.verdict, r.why)
	}
	conflict, err := u.Done(ctx, r.claim, r.res.Run)
	if err != nil {
		u.Tell(fmt.Sprintf("whether %s was still in hand is not known yet: %v", r.row.Unit, err))
		return nil // it is looked for at the end
	}
	if conflict {
		r.conflict()
	}
	return nil
}

// conflict has a result be none.
func (r *unitResult) conflict() {
	r.conflicts = true
	r.why = fmt.Sprintf("a conflict: the unit was released meanwhile, and this run, which %s, is no result of it", r.verdict)
	r.verdict = verdict.Untested
}

func (u *batchUnits) all() []*unitResult {
	u.mu.Lock()
	defer u.mu.Unlock()
	return append([]*unitResult(nil), u.results...)
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
	conflicts, err := u.Close(ctx)
	for _, c := range conflicts {
		for _, r := range u.all() {
			if r.res.Run == c.Run && !r.conflicts {
				r.conflict()
			}
		}
	}
	return err
}
