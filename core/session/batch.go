package session

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"sync"
	"time"

	"uparrot/core/ledger"
	"uparrot/core/pace"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/source"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Batch is a table of units in a ledger, as one station works through it. What the station has in
// hand stays its own for as long as the ledger hears of it; where the ledger does not answer, that
// is finished and noted, and no other unit is taken until it does.
type Batch struct {
	Name    string
	Station string
	Lease   time.Duration // after which a unit of a station that is not heard of is broken
	Tell    func(string)
	Ledger  *ledger.Ledger

	where string
	rows  []ledger.BatchUnit
	head  ledger.Batch

	mu      sync.Mutex
	held    map[string]*record.Claim // in hand, by unit
	silent  bool                     // the ledger does not answer
	told    map[string]bool
	stop    context.CancelFunc
	stopped chan struct{}
}

// OpenBatch opens a batch of the ledger at a place.
func OpenBatch(ctx context.Context, place, name, station string, lease time.Duration, tell func(string)) (*Batch, error) {
	where, err := LedgerPlace(place)
	if err != nil {
		return nil, misuse("%v", err)
	}
	b := &Batch{Name: name, Station: station, Lease: lease, Tell: tell, where: where, held: map[string]*record.Claim{}, told: map[string]bool{}}
	if b.Ledger, err = ledger.Open(ctx, where); err != nil {
		return nil, err
	}
	if err := b.Ledger.MayFile(ctx); err != nil { // else a unit would be taken and done, and nothing told of it
		return nil, errors.Join(&Unable{err.Error()}, b.Ledger.Close())
	}
	b.head, err = b.Ledger.Batch(ctx, name)
	if none, ok := errors.AsType[*ledger.NoBatch](err); ok {
		err = misuse("%v. %s", none, source.DidYouMean(name, none.Known))
		if len(none.Known) == 0 {
			err = misuse("the ledger %s has no batch: load one with uparrot units load TABLE", b.Ledger.Where())
		}
	}
	if err == nil {
		b.rows, err = b.Ledger.Units(ctx, name, "")
	}
	if err != nil {
		return nil, errors.Join(err, b.Ledger.Close())
	}
	own, stop := context.WithCancel(context.WithoutCancel(ctx))
	b.stop, b.stopped = stop, make(chan struct{})
	go b.renew(own)
	return b, nil
}

// Units are the units of the batch for a procedure, as [ReadUnits] reads those of a file; the batch
// is of this procedure from now on.
func (b *Batch) Units(ctx context.Context, file *procedure.File, set Inputs, different []string) (*UnitTable, error) {
	common, err := set.given(file)
	if err != nil {
		return nil, err
	}
	var lines source.Lines
	t := &table{path: "batch " + b.Name, text: func() source.Lines { return lines }}
	var head string
	t.head, head = lineOf(1, b.head.Columns)
	lines = append(lines, head)
	var rows [][]cell
	for i, u := range b.rows {
		var row []string
		for _, name := range b.head.Columns {
			v := u.Given[name]
			if name == unitColumn {
				v = u.Unit
			}
			row = append(row, v)
		}
		cells, text := lineOf(i+2, row)
		rows, lines = append(rows, cells), append(lines, text)
	}
	t.rows = slices.Values(rows)
	units, err := t.units(file, common, different)
	if err != nil {
		return nil, err
	}
	err = b.Ledger.Bind(ctx, b.Name, file.Title)
	if other, ok := errors.AsType[*ledger.OtherProcedure](err); ok {
		err = misuse("%v", other)
	}
	return units, err
}

// lineOf is a line of a table that lies in a ledger, as it would stand in a file.
func lineOf(number int, values []string) (row []cell, text string) {
	for i, v := range values {
		if i > 0 {
			text += ","
		}
		row = append(row, cell{v, number, 1 + len(text)})
		text += v
	}
	return row, text
}

// LoadUnits puts the units of a table into a batch of a ledger, which is made if there is none. Where a
// procedure is given, the table is held against it as [ReadUnits] does. A unit that stands there
// already with other values is a mistake; nothing is loaded then.
func LoadUnits(ctx context.Context, l *ledger.Ledger, path, name, by string, file *procedure.File, set Inputs, different []string) (added, all int, err error) {
	t, err := readTable(path)
	if err != nil {
		return 0, 0, err
	}
	if file == nil {
		file = &procedure.File{}
		for _, h := range t.head {
			if h.text != unitColumn && h.text != portColumn {
				file.Inputs = append(file.Inputs, &procedure.Input{Name: h.text, Type: "text", Default: new(string)})
			}
		}
	}
	common, err := set.given(file)
	if err != nil {
		return 0, 0, err
	}
	if err := t.hold(file, common, different, func(*UnitRow) { all++ }); err != nil {
		return 0, 0, err
	}
	b := ledger.Batch{Batch: name, Path: path, LoadedBy: by}
	for _, h := range t.head {
		b.Columns = append(b.Columns, h.text)
	}
	added, differ, err := l.Load(ctx, b, t.stored(b.Columns))
	var mistakes source.Mistakes
	for _, u := range differ {
		mistakes = append(mistakes, t.mistake(cell{u.Unit, u.Line, 1}, fmt.Sprintf("%s stands in the batch %s already, with other values", u.Unit, name), "Leave the row out, or load the table under another name with --batch."))
	}
	return added, all, errors.Join(err, mistakes.Err())
}

// stored are the rows of a table as a ledger keeps them.
func (t *table) stored(columns []string) iter.Seq[ledger.BatchUnit] {
	return func(yield func(ledger.BatchUnit) bool) {
		for row := range t.rows {
			u := ledger.BatchUnit{Line: row[0].line, Given: map[string]string{}}
			for i, c := range row {
				switch {
				case i >= len(columns) || c.text == "":
				case columns[i] == unitColumn:
					u.Unit = c.text
				default:
					u.Given[columns[i]] = c.text
				}
			}
			if !yield(u) {
				return
			}
		}
	}
}

// again is how long a ledger that does not answer is left alone.
const again = time.Second

// Take takes a unit of the batch, the next or the one named; nil if there is none that is open.
// Where the ledger does not answer it waits until it does, or ctx is done. Records that could
// not be filed before are filed first.
func (b *Batch) Take(ctx context.Context, unit string) (*record.Claim, error) {
	for {
		var c *record.Claim
		err := b.Ledger.Ping(ctx)
		if err == nil {
			if !b.catchUp(ctx) { // perhaps a right was taken away meanwhile
				err = b.Ledger.MayFile(ctx)
			}
		}
		if err == nil {
			c, err = b.Ledger.Claim(ctx, b.Name, unit, b.Station, b.Lease)
		}
		if c != nil {
			b.mu.Lock()
			b.held[c.Unit] = c
			b.mu.Unlock()
		}
		if ctx.Err() == nil || err == nil { // an interrupted call says nothing of the ledger
			b.answers(err)
		}
		if err == nil { // what was claimed is in hand, also where it was interrupted meanwhile
			return c, nil
		}
		if err := pace.For(ctx, again); err != nil {
			return nil, err
		}
	}
}

// catchUp files what could not be filed before; what cannot be now is told once. All is that nothing is left.
func (b *Batch) catchUp(ctx context.Context) (all bool) {
	done, err := CatchUp(ctx, b.where)
	if len(done) > 0 {
		b.Tell(text.Count(len(done), "record") + " filed that could not be before")
	}
	if err == nil || ctx.Err() != nil {
		return err == nil
	}
	b.mu.Lock()
	told := b.told[err.Error()]
	b.told[err.Error()] = true
	b.mu.Unlock()
	if !told {
		b.Tell("uparrot: " + err.Error())
	}
	return false
}

// answers tells, once each time, that the ledger has stopped answering or does so again.
func (b *Batch) answers(err error) {
	b.mu.Lock()
	was := b.silent
	b.silent = err != nil
	b.mu.Unlock()
	switch {
	case err != nil && !was:
		b.Tell(fmt.Sprintf("%v. What is in hand is finished, and no other unit is taken until the ledger answers", err))
	case err == nil && was:
		b.Tell("the ledger answers again")
	}
}

// renew lets the ledger hear of the units in hand.
func (b *Batch) renew(ctx context.Context) {
	defer close(b.stopped)
	every := time.NewTicker(max(b.Lease/3, 10*time.Millisecond))
	defer every.Stop()
	for {
		select {
		case <-every.C:
		case <-ctx.Done():
			return
		}
		b.mu.Lock()
		held := make([]*record.Claim, 0, len(b.held))
		for _, c := range b.held {
			held = append(held, c)
		}
		b.mu.Unlock()
		for _, c := range held {
			own, cancel := context.WithTimeout(ctx, max(b.Lease, time.Second))
			is, err := b.Ledger.Renew(own, c, b.Lease)
			cancel()
			if ctx.Err() != nil {
				return
			}
			if b.answers(err); err != nil {
				break
			}
			b.mu.Lock()
			gone := !is && b.held[c.Unit] == c
			if gone {
				delete(b.held, c.Unit)
			}
			b.mu.Unlock()
			if gone {
				b.lost(ctx, c)
			}
		}
	}
}

// lost tells of a claim that is no longer the latest; one whose run has come to its end just now
// is none.
func (b *Batch) lost(ctx context.Context, c *record.Claim) {
	if holds, err := b.Ledger.Holds(ctx, c); err == nil && !holds {
		b.Tell(c.Unit + " was released while it was in hand here: what comes of it is filed as a conflict")
	}
}

// Again has the ledger know that a unit in hand is done again.
func (b *Batch) Again(ctx context.Context, c *record.Claim) error {
	is, err := b.Ledger.Again(ctx, c, b.Lease)
	switch {
	case err != nil:
		return err
	case !is:
		return &Unable{c.Unit + " is no longer in hand here"}
	}
	b.mu.Lock()
	b.held[c.Unit] = c
	b.mu.Unlock()
	return nil
}

// Done lets go of a unit that a run has ended; true if the run is filed as a conflict, since
// the unit was released meanwhile.
func (b *Batch) Done(ctx context.Context, c *record.Claim, run string) (bool, error) {
	b.drop(c)
	return b.Ledger.InConflict(ctx, run)
}

// GiveBack opens a unit again with which nothing was done.
func (b *Batch) GiveBack(ctx context.Context, c *record.Claim) error {
	b.drop(c)
	return b.Ledger.GiveBack(ctx, c)
}

// Settle ends a unit in hand without a run.
func (b *Batch) Settle(ctx context.Context, c *record.Claim, v verdict.Verdict, why string) error {
	b.drop(c)
	return b.Ledger.Settle(ctx, c, string(v), why)
}

func (b *Batch) drop(c *record.Claim) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.held, c.Unit)
}

// Ending is how a batch stands when a station ends its work.
type Ending struct {
	Conflicts []ledger.Conflict  // runs of the batch that are filed as such
	Undone    map[string]int     // units that nobody has done to their end, by state: open, claimed or broken
	Named     []ledger.BatchUnit // some of each
}

// Close ends the station's work. Records that are not filed yet are filed once more; it returns
// ErrEvidence if that cannot be.
func (b *Batch) Close(ctx context.Context) (end Ending, err error) {
	b.stop()
	<-b.stopped
	interrupted := ctx.Err() != nil
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), closeWithin)
	defer cancel()
	for !interrupted && b.Ledger.Ping(ctx) != nil && ctx.Err() == nil { // it may be up again in a moment
		_ = pace.For(ctx, again) // it is looked at above
	}
	if _, err = CatchUp(ctx, b.where); err == nil {
		end, err = b.ending(ctx)
	}
	if err != nil {
		b.Tell(fmt.Sprintf("uparrot: %v. What is not filed is filed by the next station that begins here", err))
		err = ErrEvidence
	}
	return end, errors.Join(err, b.Ledger.Close())
}

// ending is how the batch stands now.
func (b *Batch) ending(ctx context.Context) (end Ending, err error) {
	if end.Conflicts, err = b.Ledger.Conflicts(ctx, b.Name); err != nil {
		return end, err
	}
	if err := b.Ledger.Expire(ctx, b.Name); err != nil {
		return end, err
	}
	states, err := b.Ledger.States(ctx, b.Name)
	if err != nil {
		return end, err
	}
	end.Undone = map[string]int{}
	for _, state := range []string{ledger.Claimed, string(verdict.Broken), ledger.Waiting} {
		if states[state] == 0 {
			continue
		}
		end.Undone[state] = states[state]
		some, err := b.Ledger.First(ctx, b.Name, state, mostNamed)
		if err != nil {
			return end, err
		}
		end.Named = append(end.Named, some...)
	}
	return end, nil
}

// mostNamed is how many units of each state are named at the end.
const mostNamed = 8

// closeWithin is how long the ledger is waited for at the end.
const closeWithin = 10 * time.Second
