package run

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/batch"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// unitsRun is a procedure performed at units, told to a person.
type unitsRun struct {
	*RunCommand
	*batch.Batch
	cmd     *cobra.Command
	person  *account.Person
	turn    chan struct{} // holds one while a slot asks
	quietly bool          // no line of each step

	mu    sync.Mutex
	board *board // nil while there is none
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
	case !slices.Contains(batch.Nexts, c.next):
		return shell.Usage(cmd, "--next: there is no way %q. %s", c.next, source.DidYouMean(c.next, batch.Nexts))
	case c.As != "" && c.As != "csv":
		return shell.Usage(cmd, "--units: --out is a table of all units, in csv")
	}
	each := session.Procedure{File: file, Files: []string{c.Answers}, Keep: c.Keep(c.Keeps)}
	if each.Ports, err = c.Ports.Read(cmd); err != nil {
		return err
	}
	if each.At, err = c.Addresses(cmd, file); err != nil {
		return err
	}
	if err := c.Files.PlanFile(cmd, "out", c.OutFile); err != nil {
		return err
	}
	if !strings.HasPrefix(c.Units, batch.InLedger) {
		c.Files.Inputs = append(c.Files.Inputs, c.Units)
	}
	u := &unitsRun{RunCommand: c, cmd: cmd, person: &account.Person{App: c.Streams}, turn: make(chan struct{}, 1), quietly: c.Keeps.Quiet}
	asks := c.Operator == "ask" && c.Answers == ""
	u.Batch = &batch.Batch{
		Each: each, Inputs: c.Inputs, From: c.Units, Next: c.next, GoOn: c.goOn, Station: c.stationName, Lease: c.lease,
		Asks: asks && c.sits(u.person), Plugs: c.Operator != "yes" && c.Answers == "",
		Person: u.who, Prepare: u.prepare, Tell: u.tell, Begins: u.begins, Ends: u.ends, Event: u.event,
	}
	if c.Slots != "" {
		if u.Batch.Slots, err = c.ChosenSlots(each.Ports.Bench); err != nil {
			return shell.WithExample(cmd, err)
		}
	}
	if err := u.Open(cmd.Context()); err != nil {
		return shell.WithExample(cmd, err)
	}
	if u.Nameless() {
		c.Err.Line("warning: nothing tells one module from the next: the statement identity in the procedure would, or a serial number in a table [[identity]] of the phrasebook")
	}
	do := u.Do
	if c.Slots != "" && u.Asks && shell.Drawable(c.Out) && !c.JSON && !c.Keeps.Quiet {
		do = u.onBoard
	}
	if c.Still != nil {
		do = u.withStill
	}
	err = do(cmd.Context())
	if cerr := u.Close(cmd.Context()); err == nil {
		err = cerr
	}
	return errors.Join(u.show(), u.outcome(err))
}

// prepare completes the procedure of one unit: who answers, secrets, who is told.
func (u *unitsRun) prepare(s *batch.Slot, p *session.Procedure) error {
	var err error
	if p.Operator, err = u.ProcedureFlags.Person(u.Streams, u.cmd); err != nil {
		return err
	}
	if _, asks := p.Operator.(*account.Person); asks {
		p.Operator = u.who(s) // one reads what is typed
	}
	if err := u.takeSecrets(u.cmd, p); err != nil {
		return err
	}
	if s.Name == "" {
		u.watch(p)
	}
	return nil
}

// whereBoard is the board; nil while there is none.
func (u *unitsRun) whereBoard() *board {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.board
}

// setBoard has what is told stand on a board; nil is on none.
func (u *unitsRun) setBoard(d *board) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.board = d
	u.quietly = u.quietly || d != nil
}

// tell tells something of a slot, or of none: on the board, where there is one.
func (u *unitsRun) tell(s *batch.Slot, text string) {
	words := shell.Safe(text)
	if s != nil && s.Name != "" {
		words = fmt.Sprintf("%-4s %s", shell.Safe(s.Name), words)
	}
	if d := u.whereBoard(); d != nil {
		d.line(words)
		return
	}
	u.Err.Line("%s", words)
}

// begins tells that a unit begins.
func (u *unitsRun) begins(s *batch.Slot, r *batch.Result) {
	if u.Begun != nil {
		u.Begun(s.Name, r.Row.Unit)
	}
	if s.Name == "" {
		u.Err.Line("")
		u.Err.Line("%s", u.Err.Bold(fmt.Sprintf("== %s, %d of %d", shell.Safe(r.Row.Unit), r.Number, u.Batch.Units())))
	}
}

// ends tells what came of a unit.
func (u *unitsRun) ends(s *batch.Slot, r *batch.Result) {
	if d := u.whereBoard(); d != nil {
		d.does(s, "")
	}
	if s.Name != "" {
		u.tell(s, fmt.Sprintf("%s %s  %s", r.Row.Unit, r.Verdict, shell.OneLine(r.Why)))
	}
}

// event tells of steps that end.
func (u *unitsRun) event(s *batch.Slot, unit string, e record.Event) {
	if e.Kind != record.Step {
		return
	}
	if d := u.whereBoard(); d != nil {
		d.does(s, "")
	}
	if e.Verdict == "" || u.quietly {
		return
	}
	words := string(e.Verdict)
	if e.TookMS > 0 {
		words += " in " + shell.Took(shell.FromMS(e.TookMS))
	}
	if e.Why != "" && e.Verdict != verdict.Passed {
		words += ": " + e.Why
	}
	u.tell(s, fmt.Sprintf("%s  %s: %s", unit, shell.OneLine(e.Step), shell.OneLine(words)))
}

// show prints what came of all units, and writes the table where one is wanted.
func (u *unitsRun) show() error {
	results := u.Results()
	defer func() {
		for _, line := range u.Undone() {
			u.Err.Line("%s", shell.OneLine(line))
		}
	}()
	if u.JSON {
		list := []map[string]any{}
		for _, r := range results {
			list = append(list, map[string]any{"unit": r.Row.Unit, "verdict": r.Verdict, "why": r.Why, "before": r.Before, "tries": r.Tries, "failure": r.Failure(), "run": r.Done.Run, "record": r.Done.Record, "took_ms": r.Done.TookMS, "limits": append([]record.Measurement{}, r.Done.Limits...)})
		}
		return errors.Join(u.PrintJSON(list), u.write())
	}
	s := shell.NewScreen(u.Out)
	values := u.Measured()
	values = values[:min(len(values), mostValues)]
	rows := [][]string{append(append([]string{"unit", "verdict", "time"}, values...), "")}
	passed := 0
	for _, r := range results {
		t := ""
		if r.Tries > 0 {
			t = shell.Took(shell.FromMS(r.Done.TookMS))
		}
		if r.Verdict == verdict.Passed {
			passed++
		}
		row := []string{shell.OneLine(r.Row.Unit), s.Verdict(r.Verdict, 0), t}
		for _, name := range values {
			v := ""
			if m, ok := r.Measurement(name); ok {
				v = shell.OneLine(shell.Clip(record.WithUnit(m.Single(), m.Unit)))
			}
			row = append(row, v)
		}
		rows = append(rows, append(row, shell.OneLine(text.Middle(r.Why, mostWhy))))
	}
	fmt.Fprintln(u.Out)
	shell.Table(u.Out, rows)
	yield, first := "", u.FirstPassed()
	if n := len(results); n > 1 {
		yield = fmt.Sprintf(": %.1f %%, %.1f %% at the first", 100*float64(passed)/float64(n), 100*float64(first)/float64(n))
	}
	fmt.Fprintf(u.Out, "\n%d of %s passed, %d of them at the first try%s\n", passed, shell.Count(len(results), "unit"), first, yield)
	return u.write()
}

// mostWhy is how many characters of a reason stand in that table.
const mostWhy = 100

// mostValues is how many measurements stand in the table of a screen.
const mostValues = 4

// write writes the table of all units.
func (u *unitsRun) write() error {
	if u.OutFile != "" {
		return u.Save(&u.Files, u.OutFile, u.CSV)
	}
	if u.JSON || u.Stored() {
		return nil
	}
	beside := strings.TrimSuffix(u.From, filepath.Ext(u.From)) + "-results.csv"
	f, err := record.NewFile(beside) // of this run alone: what was there stays
	if err != nil {
		return fmt.Errorf("write the results beside the table, which --out puts elsewhere: %w", err)
	}
	if err := errors.Join(u.CSV(f), f.Close()); err != nil {
		return fmt.Errorf("write %s: %w", f.Name(), err)
	}
	u.Err.Line("written to %s", shell.Safe(f.Name()))
	return nil
}

// outcome is the error that tells the exit status: that of the worst unit.
func (u *unitsRun) outcome(err error) error {
	if err != nil && !errors.Is(err, batch.ErrLeft) {
		return err
	}
	if err := shell.NotPassed(u.Worst()); err != nil || !u.Lost() {
		return err
	}
	return shell.ErrEvidence
}

// who is asked at a slot, about units and by the procedure: on the board, where there is one.
func (u *unitsRun) who(s *batch.Slot) batch.Asker {
	if s.Name == "" {
		return u.person
	}
	return &slotPerson{u, s}
}

// slotPerson is the person as a slot asks: on the board, or with the name of the slot, one slot after
// another.
type slotPerson struct {
	run  *unitsRun
	slot *batch.Slot
}

// Tell shows what to do where.
func (p *slotPerson) Tell(ctx context.Context, text string) error {
	if d := p.run.whereBoard(); d != nil {
		d.does(p.slot, text)
		return nil
	}
	return p.run.person.Tell(ctx, "slot "+p.slot.Name+": "+text)
}

// Confirm asks until yes or no is typed.
func (p *slotPerson) Confirm(ctx context.Context, question string) (bool, error) {
	ask, over, err := p.turn(ctx)
	if err != nil {
		return false, err
	}
	defer over()
	return account.AskOnce(ask).Confirm(ctx, question, p.wrong)
}

// Value asks until a value is typed that fits.
func (p *slotPerson) Value(ctx context.Context, question string, check func(string) error) (string, error) {
	ask, over, err := p.turn(ctx)
	if err != nil {
		return "", err
	}
	defer over()
	return account.AskOnce(ask).Value(ctx, question, check, p.wrong)
}

// Ask asks once.
func (p *slotPerson) Ask(ctx context.Context, question string) (string, error) {
	ask, over, err := p.turn(ctx)
	if err != nil {
		return "", err
	}
	defer over()
	return ask(ctx, question)
}

// turn waits until the slot may ask. On the board all may at once.
func (p *slotPerson) turn(ctx context.Context) (ask account.AskOnce, over func(), err error) {
	if d := p.run.whereBoard(); d != nil {
		return func(ctx context.Context, question string) (string, error) { return d.ask(ctx, p.slot, question) }, func() {}, nil
	}
	select {
	case p.run.turn <- struct{}{}:
		return func(ctx context.Context, question string) (string, error) {
			return p.run.person.Ask(ctx, "slot "+p.slot.Name+": "+question)
		}, func() { <-p.run.turn }, nil
	case <-ctx.Done():
		return nil, nil, context.Cause(ctx)
	}
}

// wrong tells why an answer will not do.
func (p *slotPerson) wrong(why string) {
	if p.run.whereBoard() != nil {
		p.run.tell(p.slot, why)
		return
	}
	p.run.person.Wrong(why)
}
