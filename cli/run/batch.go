package run

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/ledger"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// nexts are how it is known that the next module has come.
var nexts = []string{"enter", "answer", "power", "replug", "none"}

// batch is a procedure done to one unit after another.
type batch struct {
	*RunCommand
	cmd    *cobra.Command
	file   *procedure.File
	ports  *session.Ports
	at     map[string]string
	table  *session.UnitTable
	before map[string]ledger.Run // the latest run of each unit of this procedure
	first  map[string]bool       // whether the first one passed
	person *account.Person
	slots  []*slot
	shared shared
	source unitSource

	asksPerson bool // one sits at the terminal
	quietly    bool // no line of each step

	mu      sync.Mutex
	over    []*unitResult     // that have come to their end so far
	done    []*unitResult     // all, at the end
	lost    bool              // some evidence is not complete
	shown   *board            // nil while there is none
	stopped bool              // a person has stopped, or something keeps all from going on
	seen    map[string]string // which unit said that it is what, by its serial number
}

// unitResult is what came of a unit.
type unitResult struct {
	row     *session.UnitRow
	number  int // in the table, from 1
	res     perform.Result
	verdict verdict.Verdict
	why     string
	before  bool // it was done in an earlier run, and not again
	tries   int

	taken     bool          // by a slot
	claim     *record.Claim // in a batch of the ledger; nil if it is of none
	conflicts bool          // the run is filed as a conflict

	serial   record.SettingValue // of the module; without a value if it is not known
	serialAt string              // the port that told it
	since    time.Time           // when its module was waited for first
	still    string              // what was said of a module that is to be taken out
}

// runUnits performs a procedure at every unit of a table.
func (c *RunCommand) runUnits(cmd *cobra.Command, file *procedure.File) (err error) {
	switch {
	case c.Keeps.NoLedger:
		return shell.Usage(cmd, "--units: which units are done stands in the ledger, so --no-ledger has no place here")
	case c.Keeps.Record != "" || c.Keeps.Unit != "":
		return shell.Usage(cmd, "--units: each unit has a record of its own beside the ledger, and its name in the table")
	case c.repeat != "" || c.Record != "" || c.from != "" || len(c.only) > 0 || c.plan:
		return shell.Usage(cmd, "--units performs the whole procedure at each unit: leave out --only, --from, --repeat-failed and --plan")
	case !slices.Contains(nexts, c.next):
		return shell.Usage(cmd, "--next: there is no way %q. %s", c.next, source.DidYouMean(c.next, nexts))
	case c.As != "" && c.As != "csv":
		return shell.Usage(cmd, "--units: --out is a table of all units, in csv")
	}
	b := &batch{RunCommand: c, cmd: cmd, file: file, before: map[string]ledger.Run{}, first: map[string]bool{}}
	if b.ports, err = c.Ports.Read(cmd); err != nil {
		return err
	}
	if b.at, err = c.Addresses(cmd, file); err != nil {
		return err
	}
	if err := c.Files.PlanFile(cmd, "out", c.OutFile); err != nil {
		return err
	}
	if err := b.open(cmd.Context()); err != nil {
		return shell.WithExample(cmd, err)
	}
	b.person, b.seen = &account.Person{App: c.Streams}, map[string]string{}
	b.asksPerson = c.Operator == "ask" && c.Answers == "" && c.sits(b.person)
	if err := b.makeSlots(); err != nil {
		return shell.WithExample(cmd, errors.Join(err, b.source.close(cmd.Context())))
	}
	b.warnNameless()
	all := b.all
	if c.Slots != "" && b.asksPerson && shell.Drawable(c.Streams.Out) && !c.JSON && !c.Keeps.Quiet {
		all = b.onBoard
	}
	if c.Still != nil {
		all = b.withStill
	}
	err = all(cmd.Context())
	if cerr := b.source.close(cmd.Context()); errors.Is(cerr, session.ErrEvidence) {
		b.lost = true
	} else if err == nil {
		err = cerr
	}
	b.done = b.source.all()
	return errors.Join(b.tell(), b.outcome(err))
}

// open reads the units: those of a table, or of a batch in the ledger.
func (b *batch) open(ctx context.Context) error {
	different := session.MustDiffer(b.file, (&slot{batch: b}).books(nil))
	name, stored := strings.CutPrefix(b.Units, batchPrefix)
	if stored {
		if b.goOn {
			return &session.Misuse{What: "--go-on: a batch in the ledger always goes on; what did not pass goes out again with uparrot units release " + name}
		}
		work, err := b.openBatch(ctx, name, different)
		if err == nil {
			b.source = work
		}
		return err
	}
	if b.stationName != "" {
		return &session.Misuse{What: "--station is of a batch that several stations share: load the table with uparrot units load, and name it with --units batch:NAME"}
	}
	var err error
	if b.table, err = session.ReadUnits(b.Units, b.file, b.Inputs, different); err != nil {
		return err
	}
	b.Files.Inputs = append(b.Files.Inputs, b.Units)
	b.source = newTableUnits(b.table)
	return b.earlier(ctx)
}

// books are the phrasebooks of the procedure's ports, as far as they are known now.
func (b *slot) books(row *session.UnitRow) (books []*phrasebook.Phrasebook) {
	for _, p := range b.file.Ports {
		book := p.Phrasebook
		if st, err := b.station(p, row); err == nil {
			book = st.Phrasebook
		}
		books = append(books, book)
	}
	return books
}

// station is where a port of the procedure is, for a unit or, with nil, for all.
func (b *slot) station(p *procedure.PortDecl, row *session.UnitRow) (*bench.Station, error) {
	where := orName(b.at[p.Name], p.Name)
	if port, ok := b.Ports[p.Name]; ok {
		where = port
	}
	if row != nil {
		where = orName(row.Ports[p.Name], where)
	}
	return b.ports.Station(where, p.Setup, p.Phrasebook)
}

func orName(at, name string) string {
	if at == "" {
		return name
	}
	return at
}

// earlier finds what has been done before.
func (b *batch) earlier(ctx context.Context) error {
	l, closeIt, err := b.openLedger(ctx)
	if err != nil {
		return err
	}
	defer closeIt() //nolint:errcheck // it was only read
	return l.Runs(ctx, ledger.Filter{Title: b.file.Title, Results: true}, func(r ledger.Run) error {
		if r.Title == b.file.Title && r.Unit != "" && r.Command == "run" {
			b.before[r.Unit] = r
			if _, known := b.first[r.Unit]; !known {
				b.first[r.Unit] = r.Verdict == string(verdict.Passed)
			}
		}
		return nil
	})
}

// errLeave is that the person leaves.
var errLeave = errors.New("left")

// all goes through the units, at all slots at once: each takes the next one.
func (b *batch) all(ctx context.Context) error {
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
		if err != nil && !errors.Is(err, errLeave) {
			return err
		}
	}
	return nil
}

// next1 is the next unit; nil if there is none, or a person has stopped.
func (b *batch) next1(ctx context.Context) (*unitResult, error) {
	b.mu.Lock()
	stopped := b.stopped
	b.mu.Unlock()
	if stopped {
		return nil, nil
	}
	return b.source.take(ctx, "")
}

// work does units, from a first one on, until there is none.
func (s *slot) work(ctx context.Context, r *unitResult) (err error) {
	defer func() {
		if err != nil {
			s.batch.mu.Lock()
			s.stopped = true
			s.batch.mu.Unlock()
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
func (s *slot) do(ctx context.Context, r *unitResult) error {
	begin, err := s.mayBegin(ctx, r)
	if err == nil && begin {
		r, err = s.one(ctx, r)
	}
	if err == nil {
		s.batch.mu.Lock()
		s.over = append(s.over, r)
		s.batch.mu.Unlock()
	}
	return err
}

// mayBegin decides whether a unit is to be done, which may have been before.
func (b *slot) mayBegin(ctx context.Context, r *unitResult) (bool, error) {
	old, known := b.before[r.row.Unit]
	if !known {
		return true, nil
	}
	when := old.Began.Local().Format("2006-01-02 15:04")
	switch passed := old.Verdict == string(verdict.Passed); {
	case passed && b.goOn:
		r.before, r.verdict, r.why = true, verdict.Passed, "passed on "+when
		return false, nil
	case passed && b.asksPerson:
		yes, err := b.who.Confirm(ctx, fmt.Sprintf("%s has passed this on %s. Again?", r.row.Unit, when))
		if err == nil && !yes {
			r.before, r.verdict, r.why = true, verdict.Passed, "passed on "+when
		}
		return yes, err
	case passed:
		r.why = "it has passed this on " + when + ": --go-on leaves out such units"
		b.say("%s: %s", r.row.Unit, r.why)
		return false, nil
	case old.Verdict == ledger.Unfinished:
		b.say("%s was begun on %s and not ended: it is done again", r.row.Unit, when)
	default:
		b.say("%s was %s on %s: it is done again", r.row.Unit, old.Verdict, when)
	}
	return true, nil
}

// one does a unit, again as long as a person asks for it. Which one it is a person may change
// by the name of another.
func (b *slot) one(ctx context.Context, r *unitResult) (_ *unitResult, err error) {
	b.begins(r)
	defer func() { b.ends(r) }()
	for {
		if r, err = b.nextModule(ctx, r); err != nil {
			if r.tries == 0 {
				err = errors.Join(err, b.source.giveBack(ctx, r))
			}
			return r, err
		}
		if r.why == skipped {
			return r, b.source.over(ctx, r)
		}
		may, why, err := b.mayBe(ctx, r)
		switch {
		case err != nil && r.tries == 0:
			return r, errors.Join(err, b.source.giveBack(ctx, r))
		case err != nil:
			return r, err
		case why != "":
			if r.tries == 0 {
				r.verdict, r.why = verdict.Untested, why
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
func (b *slot) perform1(ctx context.Context, r *unitResult) (again bool, err error) {
	if r.tries > 0 {
		if err := b.source.again(ctx, r); err != nil {
			return false, err
		}
	}
	r.tries++
	res, err := b.run1(ctx, r)
	r.res, r.verdict, r.why = res, res.Verdict, whyFailed(res)
	if errors.Is(err, session.ErrEvidence) && !errors.Is(err, session.ErrLater) {
		b.batch.mu.Lock()
		b.lost = true
		b.batch.mu.Unlock()
	}
	switch {
	case res.Run == "" && r.claim != nil: // nor could it begin with the next
		return false, errors.Join(err, b.source.giveBack(ctx, r))
	case res.Run == "" && ctx.Err() == nil:
		r.verdict, r.why = verdict.Broken, err.Error()
		b.say("uparrot: %v", err)
	}
	if over := b.source.over(context.WithoutCancel(ctx), r); over != nil {
		return false, over
	}
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	if r.verdict == verdict.Passed || r.conflicts || !b.asksPerson {
		return false, nil
	}
	answer, err := b.who.Ask(ctx, fmt.Sprintf("%s %s: again, next, or stop? [a/n/s]", r.row.Unit, r.verdict))
	if err != nil {
		return false, err
	}
	switch strings.ToLower(answer) {
	case "s", "stop":
		return false, errLeave
	case "a", "again":
		return true, nil
	}
	return false, nil
}

// openLedger is the ledger, and what closes it.
func (b *batch) openLedger(ctx context.Context) (*ledger.Ledger, func() error, error) {
	if shares, ok := b.source.(*batchUnits); ok {
		return shares.Ledger, func() error { return nil }, nil
	}
	where, err := session.LedgerPlace(b.Keeps.Ledger)
	if err != nil {
		return nil, nil, &session.Misuse{What: err.Error()}
	}
	l, err := ledger.Open(ctx, where)
	if err != nil {
		return nil, nil, err
	}
	return l, l.Close, nil
}

// run1 performs the procedure at one unit.
func (b *slot) run1(ctx context.Context, r *unitResult) (perform.Result, error) {
	row := r.row
	at := map[string]string{}
	for name, where := range b.at {
		at[name] = where
	}
	for name, where := range b.Ports {
		at[name] = where
	}
	for name, where := range row.Ports {
		at[name] = where
	}
	keep := b.Keep(b.Keeps)
	keep.Unit, keep.Claim = row.Unit, r.claim
	if b.Name != "" { // it stands among other slots, or on the board
		keep.Tell = func(text string) { b.say("%s", text) }
	}
	if shares, ok := b.source.(*batchUnits); ok {
		keep.Through = shares.Ledger
	}
	p := &session.Procedure{File: b.file, Ports: b.ports, At: at, Values: maps.Clone(row.Values), Files: []string{b.tableFile(), b.Inputs.File, b.RunCommand.Answers}, Keep: keep}
	var err error
	if p.Operator, err = b.ProcedureFlags.Person(b.Streams, b.cmd); err != nil {
		return perform.Result{}, err
	}
	if _, asks := p.Operator.(*account.Person); asks {
		p.Operator = b.who // one reads what is typed
	}
	p.Asks = b.asksPerson
	if err := b.takeSecrets(b.cmd, p); err != nil {
		return perform.Result{}, err
	}
	if r.serialAt != "" {
		p.Identity = map[string]record.SettingValue{r.serialAt: r.serial}
	}
	if b.Name == "" {
		b.watch(p)
	} else {
		p.Watch = func(map[string]*bench.Station) func(record.Event) { return b.event }
		p.Uses = b.shared.use
	}
	res, err := p.Do(ctx)
	b.Err.End()
	return res, err
}

// tableFile is the table that was read; "" if the units lie in the ledger.
func (b *batch) tableFile() string {
	if _, stored := b.source.(*batchUnits); stored {
		return ""
	}
	return b.Units
}

// whyFailed is the first reason of a result.
func whyFailed(res perform.Result) string {
	for _, st := range res.Steps {
		if st.Err != nil && st.Verdict != verdict.Skipped {
			return st.Title + ": " + st.Why
		}
	}
	return ""
}

// tell prints what came of all units, and writes the table where one is wanted.
func (b *batch) tell() error {
	if b.JSON {
		list := []map[string]any{}
		for _, r := range b.done {
			list = append(list, map[string]any{"unit": r.row.Unit, "verdict": r.verdict, "why": r.why, "before": r.before, "tries": r.tries, "run": r.res.Run, "record": r.res.Record, "took_ms": r.res.TookMS, "limits": orEmpty(r.res.Limits)})
		}
		return errors.Join(b.PrintJSON(list), b.write())
	}
	s := shell.NewScreen(b.Streams.Out)
	values := b.values()
	rows := [][]string{append(append([]string{"unit", "verdict", "time"}, values...), "")}
	passed, first := 0, 0
	for _, r := range b.done {
		t := ""
		if r.tries > 0 {
			t = shell.Took(shell.FromMS(r.res.TookMS))
		}
		if r.verdict == verdict.Passed {
			at, known := b.first[r.row.Unit]
			if passed++; known && at || !known && r.tries <= 1 {
				first++
			}
		}
		row := []string{shell.OneLine(r.row.Unit), s.Verdict(r.verdict, 0), t}
		for _, name := range values {
			row = append(row, valueOf(r, name))
		}
		rows = append(rows, append(row, shell.OneLine(shell.Clip(r.why))))
	}
	fmt.Fprintln(b.Streams.Out)
	shell.Table(b.Streams.Out, rows)
	yield := ""
	if n := len(b.done); n > 1 {
		yield = fmt.Sprintf(": %.1f %%, %.1f %% at the first", 100*float64(passed)/float64(n), 100*float64(first)/float64(n))
	}
	fmt.Fprintf(b.Streams.Out, "\n%d of %s passed, %d of them at the first try%s\n", passed, shell.Count(len(b.done), "unit"), first, yield)
	return b.write()
}

func orEmpty(list []record.Measurement) []record.Measurement {
	if list == nil {
		return []record.Measurement{}
	}
	return list
}

// mostValues is how many measurements stand in the table of a screen.
const mostValues = 4

// values are the names of the first measurements.
func (b *batch) values() []string {
	names := b.measured()
	return names[:min(len(names), mostValues)]
}

// measured are the names of all measurements, in the order in which they came.
func (b *batch) measured() (names []string) {
	for _, r := range b.done {
		for _, m := range r.res.Limits {
			if !slices.Contains(names, m.What) {
				names = append(names, m.What)
			}
		}
	}
	return names
}

func valueOf(r *unitResult, name string) string {
	for _, m := range r.res.Limits {
		if m.What == name {
			return shell.OneLine(shell.Clip(record.WithUnit(bareValue(m), m.Unit)))
		}
	}
	return ""
}

// bareValue is a value without its unit, of a series the mean.
func bareValue(m record.Measurement) string {
	if m.Series != nil {
		return shell.NumberOrNone(m.Series.Mean)
	}
	return m.Bare()
}

// write writes the table of all units.
func (b *batch) write() error {
	if b.OutFile != "" {
		return b.Save(&b.Files, b.OutFile, b.csv)
	}
	if b.JSON || b.tableFile() == "" {
		return nil
	}
	beside := strings.TrimSuffix(b.Units, filepath.Ext(b.Units)) + "-results.csv"
	f, err := record.NewFile(beside) // of this run alone: what was there stays
	if err != nil {
		return fmt.Errorf("write the results beside the table, which --out puts elsewhere: %w", err)
	}
	if err := errors.Join(b.csv(f), f.Close()); err != nil {
		return fmt.Errorf("write %s: %w", f.Name(), err)
	}
	b.Err.Line("written to %s", shell.Safe(f.Name()))
	return nil
}

// csv is the table of all units.
func (b *batch) csv(w io.Writer) error {
	names := b.measured()
	out := csv.NewWriter(w)
	out.UseCRLF = true
	head := append([]string{"unit", "verdict", "why", "tries", "took_ms", "run", "record"}, names...)
	_ = out.Write(head) // its error comes back below
	for _, r := range b.done {
		row := []string{report.CSVText(r.row.Unit), string(r.verdict), report.CSVText(r.why), fmt.Sprint(r.tries), fmt.Sprint(r.res.TookMS), r.res.Run, report.CSVText(r.res.Record)}
		for _, name := range names {
			v := ""
			for _, m := range r.res.Limits {
				if m.What == name {
					v = report.CSVText(bareValue(m))
				}
			}
			row = append(row, v)
		}
		_ = out.Write(row)
	}
	out.Flush()
	return out.Error()
}

// outcome is the error that tells the exit status: that of the worst unit.
func (b *batch) outcome(err error) error {
	if err != nil && !errors.Is(err, errLeave) {
		return err
	}
	worst := verdict.Verdict("")
	for _, r := range b.done {
		worst = verdict.Worse(worst, r.verdict)
	}
	if err := shell.NotPassed(worst); err != nil || !b.lost {
		return err
	}
	return shell.ErrEvidence
}
