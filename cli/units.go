package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

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
	*runCommand
	cmd    *cobra.Command
	file   *procedure.File
	ports  *session.Ports
	at     map[string]string
	table  *session.UnitTable
	before map[string]ledger.Run // the latest run of each unit of this procedure
	person *person
	slots  []*slot
	shared shared

	asksPerson bool // one sits at the terminal
	quietly    bool // no line of each step

	mu      sync.Mutex
	done    []unitResult
	upNext  int               // the place of the next unit
	stopped bool              // a person has stopped, or something keeps all from going on
	seen    map[string]string // which unit said that it is what, by its serial number
}

// unitResult is what came of a unit.
type unitResult struct {
	row     *session.UnitRow
	res     perform.Result
	verdict verdict.Verdict
	why     string
	before  bool // it was done in an earlier run, and not again
	tries   int
}

// runUnits performs a procedure at every unit of a table.
func (c *runCommand) runUnits(cmd *cobra.Command, file *procedure.File) error {
	switch {
	case c.keeps.NoLedger:
		return usage(cmd, "--units: which units are done stands in the ledger, so --no-ledger has no place here")
	case c.keeps.Record != "" || c.keeps.Unit != "":
		return usage(cmd, "--units: each unit has a record of its own beside the ledger, and its name in the table")
	case c.repeat != "" || c.record != "" || c.from != "" || len(c.only) > 0 || c.plan:
		return usage(cmd, "--units performs the whole procedure at each unit: leave out --only, --from, --repeat-failed and --plan")
	case !contains(nexts, c.next):
		return usage(cmd, "--next: there is no way %q. %s", c.next, source.DidYouMean(c.next, nexts))
	case c.as != "" && c.as != "csv":
		return usage(cmd, "--units: --out is a table of all units, in csv")
	}
	b := &batch{runCommand: c, cmd: cmd, file: file, before: map[string]ledger.Run{}}
	var err error
	if b.ports, err = c.ports.read(cmd); err != nil {
		return err
	}
	if b.at, err = c.addresses(cmd, file); err != nil {
		return err
	}
	if b.table, err = session.ReadUnits(c.units, file, c.inputs, session.MustDiffer(file, (&slot{batch: b}).books(nil))); err != nil {
		return err
	}
	c.files.Inputs = append(c.files.Inputs, c.units)
	if err := c.files.plan(cmd, "out", c.out); err != nil {
		return err
	}
	if err := b.earlier(cmd.Context()); err != nil {
		return err
	}
	b.person, b.seen = &person{app: c.app}, map[string]string{}
	b.asksPerson = c.operator == "ask" && c.answers == "" && c.sits(b.person)
	if err := b.makeSlots(); err != nil {
		return withExample(cmd, err)
	}
	b.warnNameless()
	all := b.all
	if c.slots != "" && b.asksPerson && isTerminal(c.app.out) && !c.json && !c.keeps.quiet {
		all = b.onBoard
	}
	err = all(cmd.Context())
	return errors.Join(b.tell(), b.outcome(err))
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
	where, err := session.LedgerPlace(b.keeps.Ledger)
	if err != nil {
		return &session.Misuse{What: err.Error()}
	}
	l, err := ledger.Open(ctx, where)
	if err != nil {
		return err
	}
	defer l.Close()
	return l.Runs(ctx, ledger.Filter{Title: b.file.Title}, func(r ledger.Run) error {
		if r.Title == b.file.Title && r.Unit != "" && r.Command == "run" {
			b.before[r.Unit] = r
		}
		return nil
	})
}

// errLeave is that the person leaves.
var errLeave = errors.New("left")

// all goes through the units, at all slots at once: each takes the next one.
func (b *batch) all(ctx context.Context) error {
	b.done = make([]unitResult, len(b.table.Rows))
	for i, row := range b.table.Rows {
		b.done[i] = unitResult{row: row, verdict: verdict.Untested, why: notBegun}
	}
	errs := make([]error, len(b.slots))
	var all sync.WaitGroup
	for i, s := range b.slots {
		if first, ok := b.take(); ok { // in the order of the slots
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

// take is the place of the next unit; false if there is none, or a person has stopped.
func (b *batch) take() (int, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.stopped || b.upNext >= len(b.table.Rows) {
		return 0, false
	}
	b.upNext++
	return b.upNext - 1, true
}

// work does units, from a first one on, until there is none.
func (s *slot) work(ctx context.Context, first int) error {
	for i, ok := first, true; ok; i, ok = s.take() {
		r := unitResult{row: s.table.Rows[i], verdict: verdict.Untested}
		again, err := s.mayBegin(ctx, &r)
		if err == nil && again {
			err = s.one(ctx, i, &r)
		}
		s.batch.mu.Lock()
		s.batch.done[i] = r
		s.stopped = s.stopped || err != nil
		s.batch.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return nil
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

// one does a unit, again as long as a person asks for it.
func (b *slot) one(ctx context.Context, i int, r *unitResult) error {
	b.begins(r.row.Unit, i)
	defer func() { b.ends(r) }()
	for {
		if err := b.nextModule(ctx, r); err != nil || r.why == skipped {
			return err
		}
		if is := b.stillThere(ctx, r.row); is != "" {
			b.say("   %s", is)
			if r.verdict, r.why = verdict.Untested, is; b.asksPerson && b.next == "enter" {
				continue
			}
			return nil
		}
		r.tries++
		res, err := b.perform1(ctx, r.row)
		r.res, r.verdict, r.why = res, res.Verdict, whyFailed(res)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if res.Run == "" { // it could not begin
			r.verdict, r.why = verdict.Broken, err.Error()
			b.say("uparrot: %v", err)
		}
		if r.verdict == verdict.Passed || !b.asksPerson {
			return nil
		}
		answer, err := b.who.ask(ctx, fmt.Sprintf("%s %s: again, next, or stop? [a/n/s]", r.row.Unit, r.verdict))
		if err != nil {
			return err
		}
		switch strings.ToLower(answer) {
		case "s", "stop":
			return errLeave
		case "a", "again":
			continue
		}
		return nil
	}
}

// reader is what reads the serial number of the module at the first port: false where no
// phrasebook tells how.
func (b *slot) reader(row *session.UnitRow) (*bench.Station, phrasebook.Way, bool) {
	for i, book := range b.books(row) {
		if book == nil {
			continue
		}
		port := b.file.Ports[i]
		for _, id := range book.Identity {
			if !record.IsSerial(id.Name) {
				continue
			}
			st, err := b.station(port, row)
			return st, id.Way(), err == nil
		}
	}
	return nil, phrasebook.Way{}, false
}

// warnNameless tells where nothing would notice that the module before is plugged in still.
func (b *batch) warnNameless() {
	if _, _, ok := b.slots[0].reader(b.table.Rows[0]); !ok && !procedure.Identifies(b.file) {
		b.err.line("warning: nothing tells one module from the next: the statement identity in the procedure would, or a serial number in a table [[identity]] of the phrasebook")
	}
}

// stillThere tells that the module is one that was another unit before; "" if it is not, or
// that cannot be told: then the procedure will find out what is wrong.
func (b *slot) stillThere(ctx context.Context, row *session.UnitRow) string {
	st, way, ok := b.reader(row)
	if !ok {
		return ""
	}
	serial, err := (&session.Modules{}).Ask(ctx, st, way)
	if err != nil || serial == "" {
		return ""
	}
	b.batch.mu.Lock()
	defer b.batch.mu.Unlock()
	if other, is := b.seen[serial]; is && other != row.Unit {
		return fmt.Sprintf("the module says that it is %s, which was %s before: it is plugged in still", serial, other)
	}
	b.seen[serial] = row.Unit
	return ""
}

// notBegun is why nothing is known of a unit.
const notBegun = "not begun"

// skipped is why a unit was not done that a person passed over.
const skipped = "passed over"

// nextModule waits until the module of a unit is there.
func (b *slot) nextModule(ctx context.Context, r *unitResult) error {
	switch b.next {
	case "none":
		return nil
	case "answer", "power", "replug":
		return b.untilNext(ctx, r.row)
	}
	if b.operator == "yes" || b.answers != "" {
		return nil
	}
	answer, err := b.who.ask(ctx, fmt.Sprintf("plug in %s, then Enter; n passes it over, s stops", r.row.Unit))
	if _, left := errors.AsType[*perform.Left](err); left {
		return errLeave
	}
	switch strings.ToLower(answer) {
	case "n":
		r.why = skipped
	case "s":
		return errLeave
	case "", "y":
	default:
		if answer != r.row.Unit { // a reader of bar codes types like a person
			b.say("          %s is not %s: plug in %s, or pass it over", answer, r.row.Unit, r.row.Unit)
			return b.nextModule(ctx, r)
		}
	}
	return err
}

// nextWithin is how long the next module is waited for.
const nextWithin = 10 * time.Minute

// untilNext waits until the next module shows by itself that it is there.
func (b *slot) untilNext(ctx context.Context, row *session.UnitRow) error {
	port := b.file.Ports[0]
	st, err := b.station(port, row)
	if err != nil {
		return err
	}
	statements, err := b.shows(st)
	if err != nil {
		return err
	}
	b.say("   waiting for %s: %s", row.Unit, map[string]string{"answer": "until it answers", "power": "until it starts", "replug": "until its port has gone and come back"}[b.next])
	return (&session.Modules{}).Shows(ctx, st, statements, nextWithin)
}

// shows are the statements that end when the next module is there.
func (b *slot) shows(st *bench.Station) ([]string, error) {
	pb := st.Phrasebook
	switch {
	case b.next == "replug":
		return []string{fmt.Sprintf("line module reopen within %v", nextWithin)}, nil
	case pb == nil:
		return nil, &session.Misuse{What: "--next " + b.next + ": no phrasebook tells what the module says"}
	case b.next == "power" && pb.Banner == nil:
		return nil, &session.Misuse{What: fmt.Sprintf("--next power: %s tells no banner, the line after power-up", pb.File)}
	case b.next == "power":
		return []string{fmt.Sprintf("hear module within %v: \"%s\"", nextWithin, pb.Banner.Heard)}, nil
	}
	var ways []phrasebook.Way
	for _, id := range pb.Identity {
		ways = append(ways, id.Way())
	}
	for _, s := range pb.Settings {
		ways = append(ways, s.Way())
	}
	for _, way := range ways {
		if way.Readable() {
			return way.Statements(st.Setup.Dialect, "module", "it"), nil
		}
	}
	return nil, &session.Misuse{What: fmt.Sprintf("--next answer: %s tells nothing that can be read: a table [[identity]] would", pb.File)}
}

// perform1 performs the procedure at one unit.
func (b *slot) perform1(ctx context.Context, row *session.UnitRow) (perform.Result, error) {
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
	keep := b.keep(b.keeps)
	keep.Unit = row.Unit
	p := &session.Procedure{File: b.file, Ports: b.ports, At: at, Values: row.Values, Files: []string{b.units, b.inputs.File, b.runCommand.answers}, Keep: keep}
	var err error
	if p.Operator, err = b.runCommand.person(b.cmd); err != nil {
		return perform.Result{}, err
	}
	if _, asks := p.Operator.(*person); asks {
		p.Operator = b.who // one reads what is typed
	}
	p.Asks = b.asksPerson
	if err := b.takeSecrets(b.cmd, p); err != nil {
		return perform.Result{}, err
	}
	if b.Name == "" {
		b.watch(p)
	} else {
		p.Watch = func(map[string]*bench.Station) func(record.Event) { return b.event }
		p.Uses = b.shared.use
	}
	res, err := p.Do(ctx)
	b.err.end()
	return res, err
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
	if b.json {
		list := []map[string]any{}
		for _, r := range b.done {
			list = append(list, map[string]any{"unit": r.row.Unit, "verdict": r.verdict, "why": r.why, "before": r.before, "tries": r.tries, "run": r.res.Run, "record": r.res.Record, "took_ms": r.res.TookMS, "limits": orEmpty(r.res.Limits)})
		}
		return errors.Join(b.printJSON(list), b.write())
	}
	s := newScreen(b.app.out)
	values := b.values()
	rows := [][]string{append(append([]string{"unit", "verdict", "time"}, values...), "")}
	passed, first := 0, 0
	for _, r := range b.done {
		t := ""
		if r.tries > 0 {
			t = took(fromMS(r.res.TookMS))
		}
		if r.verdict == verdict.Passed {
			if passed++; r.tries <= 1 {
				first++
			}
		}
		row := []string{oneLine(r.row.Unit), s.verdict(r.verdict, 0), t}
		for _, name := range values {
			row = append(row, valueOf(r, name))
		}
		rows = append(rows, append(row, oneLine(clip(r.why))))
	}
	fmt.Fprintln(b.app.out)
	table(b.app.out, rows)
	fmt.Fprintf(b.app.out, "\n%d of %s passed, %d of them at the first try\n", passed, count(len(b.done), "unit"), first)
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

func valueOf(r unitResult, name string) string {
	for _, m := range r.res.Limits {
		if m.What == name {
			return oneLine(clip(record.WithUnit(bareValue(m), m.Unit)))
		}
	}
	return ""
}

// bareValue is a value without its unit, of a series the mean.
func bareValue(m record.Measurement) string {
	if m.Series != nil {
		return numberOrNone(m.Series.Mean)
	}
	return m.Bare()
}

// write writes the table of all units.
func (b *batch) write() error {
	if b.out == "" {
		return nil
	}
	names := b.measured()
	return b.save(&b.files, b.out, func(w io.Writer) error {
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
	})
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
	return verdictError(worst)
}
