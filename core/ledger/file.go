package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// Unfinished is the verdict of a run that has none yet, or never came to one.
const Unfinished = "unfinished"

// Filing is one run on its way into a ledger. It works beside the run: neither a
// locked ledger nor a slow one keeps the run waiting.
type Filing struct {
	where   string
	through *Ledger // open already; nil opens one
	trouble func(error)
	bounded bool // Take waits while too much is waiting

	mu      sync.Mutex
	change  *sync.Cond
	pending []row
	run     Run
	steps   map[string]int // numbers, by title
	ports   []string       // that were opened
	limits  int            // measurements so far
	before  int            // ... when the step began
	series  map[int]*filedSeries
	numbers int         // the highest number of a series when the step began
	soon    *time.Timer // files samples that wait; nil if none do
	links   int
	files   int
	told    int           // settings so far
	claim   *record.Claim // of the unit in a batch; nil if it is of none
	failed  string        // the first step that has not passed, and why
	ending  bool
	done    chan struct{}
	ctx     context.Context // of all that is written
	giveUp  context.CancelFunc
	err     error // of the ledger
	bad     error // of the events
}

// row is one statement that files something.
type row struct {
	statement string
	values    []any
}

// mostPending is how many rows wait at most where Take may wait.
const mostPending = 4096

// Begin files a run in the ledger at a place, from its first moment on. Trouble
// is told once if the ledger cannot be written; it may be nil. The record is
// where it lies, "" if there is none.
func Begin(where string, o record.Origin, recordPath string, trouble func(error)) *Filing {
	return begin(where, o, recordPath, time.Now(), trouble, false)
}

// Begin files a run in this ledger, as the function of that name does.
func (l *Ledger) Begin(o record.Origin, recordPath string, trouble func(error)) *Filing {
	f := prepare(l.where, o, recordPath, time.Now(), trouble, false)
	f.through = l
	go f.work()
	return f
}

func begin(where string, o record.Origin, recordPath string, at time.Time, trouble func(error), bounded bool) *Filing {
	f := prepare(where, o, recordPath, at, trouble, bounded)
	go f.work()
	return f
}

func prepare(where string, o record.Origin, recordPath string, at time.Time, trouble func(error), bounded bool) *Filing {
	if abs, err := filepath.Abs(recordPath); err == nil && recordPath != "" {
		recordPath = abs
	}
	f := &Filing{where: where, trouble: trouble, bounded: bounded, steps: map[string]int{}, series: map[int]*filedSeries{}, done: make(chan struct{}), claim: o.Claim}
	f.change = sync.NewCond(&f.mu)
	f.ctx, f.giveUp = context.WithCancel(context.Background())
	f.run = Run{
		Run: o.Run, Command: o.Command, Unit: o.Unit, Began: at, Verdict: Unfinished, Operator: o.Operator,
		Machine: o.Machine, Tool: o.Tool, Bench: o.Bench, Record: recordPath,
	}
	f.pending = append(f.pending, f.runRow())
	for _, file := range o.Files {
		f.file("used", file.Path, string(file.SHA256))
	}
	return f
}

// runRow files the run as it stands.
func (f *Filing) runRow() row {
	r := f.run
	return row{`INSERT INTO runs (run, command, unit, title, began, took_ms, verdict, why, operator, machine, tool, bench, record, record_sum, by_hand)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (run) DO UPDATE SET title = excluded.title, unit = excluded.unit, took_ms = excluded.took_ms, verdict = excluded.verdict, why = excluded.why,
		record = excluded.record, record_sum = excluded.record_sum, by_hand = excluded.by_hand`,
		[]any{r.Run, r.Command, r.Unit, r.Title, r.Began.UnixMicro(), r.TookMS, r.Verdict, r.Why, r.Operator, r.Machine, r.Tool, r.Bench, r.Record, r.RecordSum, r.ByHand}}
}

func (f *Filing) file(role, path, sum string) {
	f.files++
	f.pending = append(f.pending, row{"INSERT INTO files (run, number, role, path, sha256) VALUES (?, ?, ?, ?, ?) ON CONFLICT (run, number) DO NOTHING",
		[]any{f.run.Run, f.files, role, path, sum}})
}

// Take files what an event of the run's record tells. Most events tell nothing
// for a ledger.
func (f *Filing) Take(e record.Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for f.bounded && len(f.pending) >= mostPending && f.err == nil {
		f.change.Wait()
	}
	if f.err != nil {
		return
	}
	n := len(f.pending)
	switch e.Kind {
	case record.Begin:
		f.run.Title = e.Text
		f.pending = append(f.pending, f.runRow())
		f.inputs(e)
	case record.Step, record.Try:
		f.step(e)
	case record.Series:
		f.seriesBegins(e)
	case record.Sampled:
		f.samples(e)
	case record.Limit, record.Value:
		f.limit(e)
	case record.Link:
		f.link(e)
	case record.Result:
		if e.Text == record.SettingsKind {
			f.settings(e)
		}
	case record.Kept:
		var kept struct{ SHA256 record.Digest }
		if f.decode(e, &kept) {
			f.file("kept", e.Text, string(kept.SHA256))
		}
	case record.Open:
		if !slices.Contains(f.ports, e.Port) {
			f.ports = append(f.ports, e.Port)
		}
	case record.Verdict:
		if f.run.Title == "" { // no procedure, no link test: it is known by its ports
			f.run.Title = strings.Join(f.ports, ", ")
		}
		f.run.Verdict, f.run.Why, f.run.TookMS = string(e.Verdict), e.Why, e.TookMS
		f.pending = append(f.pending, f.runRow())
		f.settle(e)
	}
	if len(f.pending) > n {
		f.change.Broadcast()
	}
}

func (f *Filing) decode(e record.Event, v any) bool {
	if err := json.Unmarshal(e.Data, v); err != nil {
		f.bad = errors.Join(f.bad, fmt.Errorf("what the record says of a %s cannot be read: %w", e.Kind, err))
		return false
	}
	return true
}

func (f *Filing) step(e record.Event) {
	if e.Verdict == "" {
		f.before, f.numbers = f.limits, 0
		for n := range f.series {
			f.numbers = max(f.numbers, n)
		}
		return
	}
	if e.Kind == record.Try { // what it measured is measured again
		if further, err := record.Decode[record.Further](e); err == nil && further.ByHand {
			f.run.ByHand++
		}
		f.pending = append(f.pending, row{"DELETE FROM measurements WHERE run = ? AND number > ?", []any{f.run.Run, f.before}})
		f.limits = f.before
		for n := range f.series {
			if n > f.numbers {
				delete(f.series, n)
			}
		}
		for _, table := range []string{"samples", "series"} {
			f.pending = append(f.pending, row{"DELETE FROM " + table + " WHERE run = ? AND number > ?", []any{f.run.Run, f.numbers}})
		}
		return
	}
	if e.Verdict != verdict.Passed && e.Verdict != verdict.Skipped && f.failed == "" {
		f.failed = e.Step + ": " + e.Why
	}
	number, known := f.steps[e.Step]
	if !known {
		number = len(f.steps) + 1
		f.steps[e.Step] = number
	}
	f.pending = append(f.pending, row{`INSERT INTO steps (run, number, title, verdict, tries, took_ms, why) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (run, number) DO UPDATE SET verdict = excluded.verdict, tries = excluded.tries, took_ms = excluded.took_ms, why = excluded.why`,
		[]any{f.run.Run, number, e.Step, string(e.Verdict), e.Try, e.TookMS, e.Why}})
}

func (f *Filing) limit(e record.Event) {
	var m record.Measurement
	if !f.decode(e, &m) {
		return
	}
	f.limits++
	var number *int
	if s := m.Series; s != nil {
		number = &s.Number
		f.fileSeries()
		if of := f.series[s.Number]; of != nil {
			f.seriesRow(of, *s)
		}
	}
	f.pending = append(f.pending, row{`INSERT INTO measurements (run, number, what, value, low, high, unit, step, verdict, text, measured, series) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (run, number) DO NOTHING`,
		[]any{f.run.Run, f.limits, m.What, m.Value, m.Low, m.High, m.Unit, m.Step, m.Verdict, m.Text, e.Time.UnixMicro(), number}})
	if m.Identity && m.Text != nil {
		f.run.Unit = *m.Text
		f.pending = append(f.pending, f.runRow())
	}
}

// inputs files what a procedure was given.
func (f *Filing) inputs(e record.Event) {
	var begun struct{ Inputs map[string]any }
	if e.Data == nil || !f.decode(e, &begun) {
		return
	}
	for i, name := range slices.Sorted(maps.Keys(begun.Inputs)) {
		value := fmt.Sprint(begun.Inputs[name])
		if n, number := begun.Inputs[name].(float64); number {
			value = record.Number(n).String()
		}
		f.pending = append(f.pending, row{"INSERT INTO inputs (run, number, name, value) VALUES (?, ?, ?, ?) ON CONFLICT (run, number) DO NOTHING",
			[]any{f.run.Run, i + 1, name, value}})
	}
}

func (f *Filing) link(e record.Event) {
	var sum link.Summary
	if !f.decode(e, &sum) {
		return
	}
	for _, d := range sum.Directions {
		f.links++
		var median, p95 *record.Number // of which a lost frame makes +Inf
		var strength *float64
		if d.LatencyMS != nil {
			median, p95 = &d.LatencyMS.Median, &d.LatencyMS.P95
		}
		if d.Strength != nil {
			strength = &d.Strength.Mean
		}
		f.pending = append(f.pending, row{`INSERT INTO links (run, number, sender, receiver, sent, lost, late, median_ms, p95_ms, strength, verdict)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (run, number) DO NOTHING`,
			[]any{f.run.Run, f.links, d.From, d.To, d.Sent, d.Lost, d.Late, median, p95, strength, string(d.Verdict)}})
		if f.run.Title == "" {
			f.run.Title = d.From + " to " + d.To
			f.pending = append(f.pending, f.runRow())
		}
	}
}

// End files what is left, with the checksum of the whole record, and waits until
// that is done. An error means that the run does not stand in the ledger as it
// was.
func (f *Filing) End(ctx context.Context, recordSum string) error {
	f.mu.Lock()
	f.fileSeries()
	if recordSum != "" {
		f.run.RecordSum = recordSum
		f.pending = append(f.pending, f.runRow())
	}
	f.ending = true
	f.change.Broadcast()
	f.mu.Unlock()
	defer f.giveUp()
	select {
	case <-f.done:
	case <-ctx.Done(): // it has a moment to file how the run ended
		timer := time.AfterFunc(lastMoment, f.giveUp)
		defer timer.Stop()
		<-f.done
	}
	return errors.Join(f.err, f.bad)
}

// How long a ledger may take to file what it is given, and how long once the run was
// interrupted.
const (
	filingTime = 15 * time.Second
	lastMoment = 500 * time.Millisecond
)

// again is how long a ledger that could not be written is left alone before it
// is tried again.
const again = time.Second

// work writes what is pending until the run has ended.
func (f *Filing) work() {
	defer close(f.done)
	l := f.through
	told := false
	for {
		f.mu.Lock()
		for len(f.pending) == 0 && !f.ending && f.err == nil {
			f.change.Wait()
		}
		batch, ending := f.pending, f.ending
		f.pending = nil
		over := f.err != nil || len(batch) == 0
		f.change.Broadcast()
		f.mu.Unlock()
		var err error
		if !over {
			ctx, cancel := context.WithTimeout(f.ctx, filingTime)
			if l == nil {
				l, err = Open(ctx, f.where)
			}
			if err == nil {
				err = l.write(ctx, batch)
			}
			cancel()
			if err == nil {
				continue
			}
			if f.ctx.Err() != nil {
				err = fmt.Errorf("the ledger %s did not answer before the program was to end", Shown(f.where))
			}
		}
		f.mu.Lock()
		if err != nil {
			f.pending = append(batch, f.pending...) // nothing is lost while there is hope
			if !told && !ending && f.trouble != nil {
				f.trouble(err)
			}
			told = true
			if ending || f.bounded {
				f.err, over = err, true
			}
		}
		f.change.Broadcast()
		f.mu.Unlock()
		if over {
			if l != nil {
				err := l.there()
				f.mu.Lock()
				f.err = errors.Join(f.err, err)
				f.mu.Unlock()
			}
			if l != nil && l != f.through {
				cerr := l.Close()
				f.mu.Lock()
				f.err = errors.Join(f.err, cerr)
				f.mu.Unlock()
			}
			return
		}
		f.rest()
	}
}

// rest waits before another try, but no longer than to the end of the run.
func (f *Filing) rest() {
	timer := time.AfterFunc(again, f.change.Broadcast)
	defer timer.Stop()
	until := time.Now().Add(again)
	f.mu.Lock()
	defer f.mu.Unlock()
	for !f.ending && time.Now().Before(until) {
		f.change.Wait()
	}
}

// write files rows in one transaction.
func (l *Ledger) write(ctx context.Context, rows []row) (err error) {
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("write the ledger %s: %w", l.where, plain(err))
	}
	defer func() {
		if err != nil {
			err = fmt.Errorf("write the ledger %s: %w", l.where, plain(err))
			_ = tx.Rollback() // the error is on its way
		}
	}()
	prepared := map[string]*sql.Stmt{}
	for _, r := range rows {
		st := prepared[r.statement]
		if st == nil {
			if st, err = tx.PrepareContext(ctx, l.bind(r.statement)); err != nil {
				return err
			}
			defer st.Close()
			prepared[r.statement] = st
		}
		if _, err = st.ExecContext(ctx, r.values...); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// NoVerdict is a record that was filed, though it has come to no verdict.
type NoVerdict struct{ Record string }

func (e *NoVerdict) Error() string {
	return fmt.Sprintf("%s has come to no verdict; it is filed as unfinished", e.Record)
}

// Add files a record that lies in a file, whole or cut short; a run that stands
// in the ledger already is brought up to what the record says. An altered record
// is refused.
func Add(where, path string) (o record.Origin, err error) {
	file, err := source.Open(path)
	if err != nil {
		return o, fmt.Errorf("read the record: %w", err)
	}
	defer file.Close()
	state, err := record.Read(file, func(record.Event) error { return nil })
	switch {
	case err != nil:
		return o, fmt.Errorf("%s: %w", path, err)
	case state.Altered != "":
		return o, fmt.Errorf("%s is %s", path, state.Words())
	case state.Origin.Run == "":
		return o, fmt.Errorf("%s names no run: it is of the first format, so it cannot be told whether it is filed already", path)
	}
	if _, err := file.Seek(0, 0); err != nil {
		return o, fmt.Errorf("read the record: %w", err)
	}
	var f *Filing
	sum := ""
	begun := false
	_, err = record.Again(file, func(e record.Event) error {
		if f == nil {
			f = begin(where, state.Origin, path, e.Time, nil, true)
		}
		f.Take(e)
		begun = begun || e.Kind == record.Begin || e.Kind == record.Link || e.Kind == record.Verdict
		if e.Kind == record.End {
			sum = e.Sum
		}
		return nil
	})
	if f != nil {
		err = errors.Join(err, f.End(context.Background(), sum))
	}
	if err == nil && !begun {
		err = &NoVerdict{path}
	}
	return state.Origin, err
}
