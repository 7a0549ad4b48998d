// Package batch performs a procedure at one unit after another, at several slots of a bench at once: it
// waits for the next module, sees to it that no module is taken for another, and keeps what came of each
// unit. The units are those of a table, or of a batch in the ledger that several stations share.
package batch

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/ledger"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Asker is a person who can be asked.
type Asker interface {
	perform.Operator
	Ask(ctx context.Context, question string) (string, error)
}

// Batch is a procedure performed at one unit after another. What is exported is set before Open.
type Batch struct {
	Each    session.Procedure // what is performed; its values, unit and claim are set for each unit
	Inputs  session.Inputs    // of all units
	From    string            // a table of units (CSV, TSV, JSON Lines), or InLedger and the name of a batch
	Slots   []bench.Slot      // that work at once; none is one without a name
	Next    string            // how it is known that the next module has come: one of Nexts
	GoOn    bool              // units that have passed are left out
	Station string            // its name among several; "" is the machine's
	Lease   time.Duration     // of a unit in a batch of the ledger
	Asks    bool              // a person sits there, who is asked how to go on
	Plugs   bool              // a person plugs modules in, and is asked to

	// Person is who answers at a slot.
	Person func(*Slot) Asker
	// Prepare completes a procedure before it is performed at a slot: who answers, secrets, who is told.
	Prepare func(*Slot, *session.Procedure) error
	// Tell tells something of a slot; of none in particular where that is nil.
	Tell func(s *Slot, text string)
	// Begins and Ends tell of a unit at a slot, Event of what happens there in between, at a slot that
	// has a name. They may be nil.
	Begins, Ends func(*Slot, *Result)
	Event        func(s *Slot, unit string, e record.Event)

	table  *session.UnitTable
	before map[string]ledger.Run // the latest run of each unit of this procedure
	first  map[string]bool       // whether the first one passed
	shared shared
	source unitSource
	slots  []*Slot

	mu      sync.Mutex
	over    []*Result         // that have come to their end so far
	results []*Result         // all, at the end
	lost    bool              // some evidence is not complete
	stopped bool              // a person has stopped, or something keeps all from going on
	seen    map[string]string // which unit said that it is what, by its serial number
}

// Nexts are the ways to know that the next module has come: Enter is typed, or its name; it answers; it
// starts; its port goes and comes back; nothing is waited for.
var Nexts = []string{"enter", "answer", "power", "replug", "none"}

// InLedger is how From names a batch in the ledger.
const InLedger = "batch:"

// ErrLeft is that the person has left.
var ErrLeft = errors.New("left")

// Result is what came of a unit.
type Result struct {
	Row     *session.UnitRow
	Number  int // in the table, from 1
	Done    perform.Result
	Verdict verdict.Verdict
	Why     string
	Before  bool // it was done in an earlier run, and not again
	Tries   int

	taken     bool          // by a slot
	claim     *record.Claim // in a batch of the ledger; nil if it is of none
	conflicts bool          // the run is filed as a conflict

	serial   record.SettingValue // of the module; without a value if it is not known
	serialAt string              // the port that told it
	since    time.Time           // when its module was waited for first
	still    string              // what was said of a module that is to be taken out
}

// Open reads the units and makes the slots. Close is to be called where it gives no error.
func (b *Batch) Open(ctx context.Context) error {
	b.before, b.first, b.seen = map[string]ledger.Run{}, map[string]bool{}, map[string]string{}
	if err := b.open(ctx); err != nil {
		return err
	}
	if err := b.makeSlots(); err != nil {
		return errors.Join(err, b.source.close(ctx))
	}
	return nil
}

// open reads the units: those of a table, or of a batch in the ledger.
func (b *Batch) open(ctx context.Context) error {
	different := session.MustDiffer(b.Each.File, (&Slot{Batch: b}).books(nil))
	name, stored := strings.CutPrefix(b.From, InLedger)
	if stored {
		if b.GoOn {
			return &session.Misuse{What: "--go-on: a batch in the ledger always goes on; what did not pass goes out again with uparrot units release " + name}
		}
		work, err := b.openBatch(ctx, name, different)
		if err == nil {
			b.source = work
		}
		return err
	}
	if b.Station != "" {
		return &session.Misuse{What: "--station is of a batch that several stations share: load the table with uparrot units load, and name it with --units batch:NAME"}
	}
	var err error
	if b.table, err = session.ReadUnits(b.From, b.Each.File, b.Inputs, different); err != nil {
		return err
	}
	b.source = newTableUnits(b.table)
	return b.earlier(ctx)
}

// Do does all units, at all slots at once. The error is that which keeps all from going on.
func (b *Batch) Do(ctx context.Context) error { return b.all(ctx) }

// Close ends the work, whether all is done or not.
func (b *Batch) Close(ctx context.Context) error {
	err := b.source.close(ctx)
	b.results = b.source.all()
	if errors.Is(err, session.ErrEvidence) {
		b.lost, err = true, nil
	}
	return err
}

// Stored reports whether the units lie in the ledger.
func (b *Batch) Stored() bool {
	_, stored := b.source.(*batchUnits)
	return stored
}

// Units is how many units there are.
func (b *Batch) Units() int { return len(b.table.Rows) }

// Working are the slots at work.
func (b *Batch) Working() []*Slot { return b.slots }

// Results are what came of the units, in the order of the table; they are complete after Close.
func (b *Batch) Results() []*Result { return b.results }

// Lost reports whether some evidence is not complete.
func (b *Batch) Lost() bool { return b.lost }

// FirstPassed is how many of the units that passed did so at the first try, earlier runs counted.
func (b *Batch) FirstPassed() (n int) {
	for _, r := range b.results {
		if r.Verdict != verdict.Passed {
			continue
		}
		if at, known := b.first[r.Row.Unit]; known && at || !known && r.Tries <= 1 {
			n++
		}
	}
	return n
}

// Worst is the verdict of the worst unit. What another station has in hand, what a station has lost and what
// nobody has begun is untested.
func (b *Batch) Worst() (worst verdict.Verdict) {
	for _, r := range b.results {
		worst = verdict.Worse(worst, r.Verdict)
	}
	if u, stored := b.source.(*batchUnits); stored && len(u.end.Undone) > 0 {
		worst = verdict.Worse(worst, verdict.Untested)
	}
	return worst
}

// Undone tells, in words, which units of a batch in the ledger nobody has done to their end: those claimed, by
// whom, those broken, and those open. It is nil where there are none.
func (b *Batch) Undone() (lines []string) {
	u, stored := b.source.(*batchUnits)
	if !stored {
		return nil
	}
	for _, s := range []struct{ state, words string }{
		{ledger.Claimed, "claimed, and broken when the lease is over unless the station goes on"},
		{string(verdict.Broken), "broken, and go out again with uparrot units release " + u.Name},
		{ledger.Waiting, "open"},
	} {
		n := u.end.Undone[s.state]
		if n == 0 {
			continue
		}
		var names []string
		for _, one := range u.end.Named {
			if one.State != s.state {
				continue
			}
			name := one.Unit
			if one.Station != "" && s.state != ledger.Waiting {
				name += " (" + one.Station + ")"
			}
			names = append(names, name)
		}
		if more := n - len(names); more > 0 {
			names = append(names, fmt.Sprintf("and %d more", more))
		}
		lines = append(lines, fmt.Sprintf("%s: %s", text.Count(n, "unit")+" of the batch "+s.words, strings.Join(names, ", ")))
	}
	return lines
}

// Progress is how far a batch is.
type Progress struct {
	Done, Passed, Worked int // units; Worked are those that were not done before
	Of                   int // units in all
	Open                 int // units that nobody has begun; below zero where that is not known
}

// Progress is how far it is by now.
func (b *Batch) Progress() Progress {
	p := Progress{Of: len(b.table.Rows), Open: b.source.left()}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, r := range b.over {
		p.Done++
		if r.Verdict == verdict.Passed {
			p.Passed++
		}
		if !r.Before {
			p.Worked++
		}
	}
	return p
}

// Measured are the names of all measurements, in the order in which they came.
func (b *Batch) Measured() (names []string) {
	for _, r := range b.results {
		for _, m := range r.Done.Limits {
			if !slices.Contains(names, m.What) {
				names = append(names, m.What)
			}
		}
	}
	return names
}

// Measurement is what a unit measured by a name; false if it did not. Of several the last counts.
func (r *Result) Measurement(name string) (found record.Measurement, ok bool) {
	for _, m := range r.Done.Limits {
		if m.What == name {
			found, ok = m, true
		}
	}
	return found, ok
}

// CSV writes the table of all units.
func (b *Batch) CSV(w io.Writer) error {
	names := b.Measured()
	out := csv.NewWriter(w)
	out.UseCRLF = true
	head := append([]string{"unit", "verdict", "why", "tries", "took_ms", "run", "record"}, names...)
	_ = out.Write(head) // its error comes back below
	for _, r := range b.results {
		row := []string{report.CSVText(r.Row.Unit), string(r.Verdict), report.CSVText(r.Why), fmt.Sprint(r.Tries), fmt.Sprint(r.Done.TookMS), r.Done.Run, report.CSVText(r.Done.Record)}
		for _, name := range names {
			v := ""
			if m, ok := r.Measurement(name); ok {
				v = report.CSVText(m.Single())
			}
			row = append(row, v)
		}
		_ = out.Write(row)
	}
	out.Flush()
	return out.Error()
}

// books are the phrasebooks of the procedure's ports, as far as they are known now.
func (b *Slot) books(row *session.UnitRow) (books []*phrasebook.Phrasebook) {
	for _, p := range b.Each.File.Ports {
		book := p.Phrasebook
		if st, err := b.station(p, row); err == nil {
			book = st.Phrasebook
		}
		books = append(books, book)
	}
	return books
}

// station is where a port of the procedure is, for a unit or, with nil, for all.
func (b *Slot) station(p *procedure.PortDecl, row *session.UnitRow) (*bench.Station, error) {
	where := cmp.Or(b.Each.At[p.Name], p.Name)
	if port, ok := b.Ports[p.Name]; ok {
		where = port
	}
	if row != nil {
		where = cmp.Or(row.Ports[p.Name], where)
	}
	return b.Each.Ports.Station(where, p.Setup, p.Phrasebook)
}

// earlier finds what has been done before.
func (b *Batch) earlier(ctx context.Context) error {
	l, closeIt, err := b.openLedger(ctx)
	if err != nil {
		return err
	}
	defer closeIt() //nolint:errcheck // it was only read
	return l.Runs(ctx, ledger.Filter{Title: b.Each.File.Title, Results: true}, func(r ledger.Run) error {
		if r.Title == b.Each.File.Title && r.Unit != "" && r.Command == "run" {
			b.before[r.Unit] = r
			if _, known := b.first[r.Unit]; !known {
				b.first[r.Unit] = r.Verdict == string(verdict.Passed)
			}
		}
		return nil
	})
}

// all goes through the units, at all slots at once: each takes the next one.
func (b *Batch) all(ctx context.Context) error {
	errs := make([]error, len(b.slots))
	var all sync.WaitGroup
	for i, s := range b.slots {
		first, err := b.next1(ctx) // in the order of the slots
		if errs[i] = err; first != nil {
			all.Go(func() { errs[i] = s.work(ctx, first) })
		}
	}
	all.Wait()
	for _, err := range errs {
		if err != nil && !errors.Is(err, ErrLeft) {
			return err
		}
	}
	return nil
}

// next1 is the next unit; nil if there is none, or a person has stopped.
func (b *Batch) next1(ctx context.Context) (*Result, error) {
	b.mu.Lock()
	stopped := b.stopped
	b.mu.Unlock()
	if stopped {
		return nil, nil
	}
	return b.source.take(ctx, "")
}

// work does units, from a first one on, until there is none.
func (s *Slot) work(ctx context.Context, r *Result) (err error) {
	defer func() {
		if err != nil {
			s.Batch.mu.Lock()
			s.stopped = true
			s.Batch.mu.Unlock()
		}
	}()
	for r != nil && err == nil {
		if err = s.do(ctx, r); err == nil {
			r, err = s.next1(ctx)
		}
	}
	return err
}

// do does a unit, unless that was done before.
func (s *Slot) do(ctx context.Context, r *Result) error {
	begin, err := s.mayBegin(ctx, r)
	if err == nil && begin {
		r, err = s.one(ctx, r)
	}
	if err == nil {
		s.Batch.mu.Lock()
		s.over = append(s.over, r)
		s.Batch.mu.Unlock()
	}
	return err
}

// mayBegin decides whether a unit is to be done, which may have been before.
func (b *Slot) mayBegin(ctx context.Context, r *Result) (bool, error) {
	old, known := b.before[r.Row.Unit]
	if !known {
		return true, nil
	}
	when := old.Began.Local().Format("2006-01-02 15:04")
	switch passed := old.Verdict == string(verdict.Passed); {
	case passed && b.GoOn:
		r.Before, r.Verdict, r.Why = true, verdict.Passed, "passed on "+when
		return false, nil
	case passed && b.Asks:
		yes, err := b.who.Confirm(ctx, fmt.Sprintf("%s has passed this on %s. Again?", r.Row.Unit, when))
		if err == nil && !yes {
			r.Before, r.Verdict, r.Why = true, verdict.Passed, "passed on "+when
		}
		return yes, err
	case passed:
		r.Why = "it has passed this on " + when + ": --go-on leaves out such units"
		b.say("%s: %s", r.Row.Unit, r.Why)
		return false, nil
	case old.Verdict == ledger.Unfinished:
		b.say("%s was begun on %s and not ended: it is done again", r.Row.Unit, when)
	default:
		b.say("%s was %s on %s: it is done again", r.Row.Unit, old.Verdict, when)
	}
	return true, nil
}

// one does a unit, again as long as a person asks for it. Which one it is a person may change
// by the name of another.
func (b *Slot) one(ctx context.Context, r *Result) (_ *Result, err error) {
	b.begins(r)
	defer func() { b.ends(r) }()
	for {
		if r, err = b.nextModule(ctx, r); err != nil {
			if r.Tries == 0 {
				err = errors.Join(err, b.source.giveBack(ctx, r))
			}
			return r, err
		}
		if r.Why == skipped {
			return r, b.source.over(ctx, r)
		}
		may, why, err := b.mayBe(ctx, r)
		switch {
		case err != nil && r.Tries == 0:
			return r, errors.Join(err, b.source.giveBack(ctx, r))
		case err != nil:
			return r, err
		case why != "":
			if r.Tries == 0 {
				r.Verdict, r.Why = verdict.Untested, why
			}
			return r, b.source.over(ctx, r)
		case !may:
			continue
		}
		if again, err := b.perform1(ctx, r); !again {
			return r, err
		}
	}
}

// perform1 performs the procedure at a unit; again if a person wants it once more.
func (b *Slot) perform1(ctx context.Context, r *Result) (again bool, err error) {
	if r.Tries > 0 {
		if err := b.source.again(ctx, r); err != nil {
			return false, err
		}
	}
	r.Tries++
	res, err := b.run1(ctx, r)
	r.Done, r.Verdict, r.Why = res, res.Verdict, whyFailed(res)
	if errors.Is(err, session.ErrEvidence) && !errors.Is(err, session.ErrLater) {
		b.Batch.mu.Lock()
		b.lost = true
		b.Batch.mu.Unlock()
	}
	switch {
	case res.Run == "" && r.claim != nil: // nor could it begin with the next
		return false, errors.Join(err, b.source.giveBack(ctx, r))
	case res.Run == "" && ctx.Err() == nil:
		r.Verdict, r.Why = verdict.Broken, err.Error()
		b.say("uparrot: %v", err)
	}
	if over := b.source.over(context.WithoutCancel(ctx), r); over != nil {
		return false, over
	}
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	if r.Verdict == verdict.Passed || r.conflicts || !b.Asks {
		return false, nil
	}
	answer, err := b.who.Ask(ctx, fmt.Sprintf("%s %s: again, next, or stop? [a/n/s]", r.Row.Unit, r.Verdict))
	if err != nil {
		return false, err
	}
	switch strings.ToLower(answer) {
	case "s", "stop":
		return false, ErrLeft
	case "a", "again":
		return true, nil
	}
	return false, nil
}

// openLedger is the ledger, and what closes it.
func (b *Batch) openLedger(ctx context.Context) (*ledger.Ledger, func() error, error) {
	if shares, ok := b.source.(*batchUnits); ok {
		return shares.Ledger, func() error { return nil }, nil
	}
	where, err := session.LedgerPlace(b.Each.Keep.Ledger)
	if err != nil {
		return nil, nil, &session.Misuse{What: err.Error() + ". Name one with --ledger"}
	}
	l, err := ledger.Open(ctx, where)
	if err != nil {
		return nil, nil, err
	}
	return l, l.Close, nil
}

// run1 performs the procedure at one unit.
func (b *Slot) run1(ctx context.Context, r *Result) (perform.Result, error) {
	row := r.Row
	at := map[string]string{}
	for name, where := range b.Each.At {
		at[name] = where
	}
	for name, where := range b.Ports {
		at[name] = where
	}
	for name, where := range row.Ports {
		at[name] = where
	}
	p := b.Each
	p.At, p.Values = at, maps.Clone(row.Values)
	p.Files = append([]string{b.tableFile(), b.Inputs.File}, b.Each.Files...)
	p.Keep.Unit, p.Keep.Claim = row.Unit, r.claim
	if b.Name != "" { // it stands among other slots, or on the board
		p.Keep.Tell = func(text string) { b.say("%s", text) }
		p.Watch = func(map[string]*bench.Station) func(record.Event) { return b.event }
		p.Uses = b.shared.use
	}
	if shares, ok := b.source.(*batchUnits); ok {
		p.Keep.Through = shares.Ledger
	}
	p.Asks = b.Asks
	if r.serialAt != "" {
		p.Identity = map[string]record.SettingValue{r.serialAt: r.serial}
	}
	if err := b.Prepare(b, &p); err != nil {
		return perform.Result{}, err
	}
	return p.Do(ctx)
}

// tableFile is the table that was read; "" if the units lie in the ledger.
func (b *Batch) tableFile() string {
	if b.Stored() {
		return ""
	}
	return b.From
}

// Failure is the first reason of a result as data; nil if there is none.
func (r *Result) Failure() *perform.Facts {
	for _, st := range r.Done.Steps {
		if st.Err != nil && st.Verdict != verdict.Skipped {
			return st.Failure
		}
	}
	return nil
}

// whyFailed is the first reason of a result.
func whyFailed(res perform.Result) string {
	for _, st := range res.Steps {
		if st.Err != nil && st.Verdict != verdict.Skipped {
			return st.Title + ": " + perform.Reason(st.Err)
		}
	}
	return ""
}
