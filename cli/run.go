package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/source"
)

// runCommand is the command run with its flags.
type runCommand struct {
	*app
	procedureFlags
	secrets session.Secrets
	askFor  time.Duration
	asker   *asker // of what is to be done about a step that has failed; nil asks nobody
	only    []string
	from    string
	repeat  string
	plan    bool
	metrics string
	next    string // how it is known that the next module has come
	goOn    bool

	stationName string        // among those that work through a batch; "" is the machine's name
	lease       time.Duration // of a unit of a batch

	// For the demo: begun is told of a unit that begins at a slot, before its module is looked for;
	// still is given what the board shows, half way. Either may be nil.
	begun func(slot, unit string)
	still func(screen string)
}

func (a *app) run() *cobra.Command { return (&runCommand{app: a}).command() }

func (c *runCommand) command() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "run PROCEDURE",
		Short: "Performs a procedure and checks every answer",
		Long: `Performs a procedure at the ports that the bench names, or that --port gives.
A secret is taken from the environment (UPARROT_ and its name in capitals), from
the file that --secret-file names, or is asked for without echo.

With --only, --from and --repeat-failed the other steps are left out, except those
that the procedure marks as needed or always. What they would give is taken from a
record: that of --repeat-failed, or the one that --from-record names.`,
		Example: "uparrot run commission.parrot --bench larkfell.toml --port valley --set address=3",
		Args:    args(1, 1, "one procedure"),
		RunE:    c.run,
	}
	c.ports.add(cmd)
	c.keeps.add(cmd)
	c.files.add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&c.outFile, "out", "", "when it is over write a report of the run to this file")
	fl.StringVar(&c.as, "as", "", "the form of that report: "+strings.Join(report.Forms(), ", "))
	fl.StringVar(&c.metrics, "metrics", "", "keep this file up to date with the present values of series, in the OpenMetrics text format")
	fl.StringVar(&c.units, "units", "", "perform it at each unit of this table (CSV, TSV, JSON Lines): columns are unit, port and the inputs; batch:NAME is one that \"units load\" has put into the ledger, for several stations")
	fl.StringVar(&c.stationName, "station", "", "with --units batch:NAME: the name of this station; that of the machine unless given")
	fl.DurationVar(&c.lease, "lease", time.Minute, "with --units batch:NAME: how long the ledger may not hear of this station before a unit in hand counts as broken")
	fl.StringVar(&c.next, "next", "enter", "with --units, when the next begins: enter (typed, or its name), answer (the module answers), power (it starts), replug (its port goes and comes back), none")
	fl.StringVar(&c.slots, "slots", "", "with --units: work at these slots of the bench at once: all, or names with commas between")
	fl.BoolVar(&c.goOn, "go-on", false, "with --units: leave out the units that have passed")
	fl.StringArrayVar(&c.where, "port", nil, "where a port of the procedure is: NAME=ADDRESS or NAME=NAME on the bench; with one port the address alone will do")
	fl.StringArrayVar(&c.inputs.Set, "set", nil, "value of an input: NAME=VALUE")
	fl.StringVar(&c.inputs.File, "set-file", "", "values of inputs from a TOML file of NAME = VALUE; --set goes before it")
	fl.StringArrayVar(&c.secrets.Files, "secret-file", nil, "file that holds a secret: NAME=FILE")
	fl.StringArrayVar(&c.only, "only", nil, "perform only this step: its title or number")
	fl.StringVar(&c.from, "from", "", "perform from this step on: its title or number")
	fl.StringVar(&c.repeat, "repeat-failed", "", "perform only what failed or was not tested in this record")
	fl.StringVar(&c.record, "from-record", "", "with --from or --only: what steps left out would give, from the record of an earlier run")
	fl.StringVar(&c.operator, "operator", "ask", "who answers questions: ask, yes, or none (such steps are untested)")
	fl.DurationVar(&c.askFor, "ask-for", 2*time.Minute, "how long a person is asked about a step that has failed, before it stops; 0 asks nobody")
	fl.StringVar(&c.answers, "answers", "", "answers to questions from a TOML file of \"QUESTION\" = ANSWER")
	fl.BoolVar(&c.plan, "plan", false, "print what would be said, and open no port")
	fl.BoolVar(&c.keeps.quiet, "quiet", false, "no account while it runs")
	c.addJSON(cmd, "the result")
	return cmd
}

func (c *runCommand) run(cmd *cobra.Command, args []string) (err error) {
	file, err := procedure.Read(args[0])
	if err != nil {
		return asUsage(err)
	}
	if len(file.Steps) == 0 {
		return usage(cmd, "%s has routines but no steps: it is there to be included", args[0])
	}
	c.warnBriefly(file.Warnings)
	if c.units != "" {
		return c.runUnits(cmd, file)
	}
	if c.slots != "" || c.goOn {
		return usage(cmd, "--slots and --go-on are of a table of units: name it with --units")
	}
	p := &session.Procedure{File: file, Files: []string{c.inputs.File, c.answers}, Keep: c.keep(c.keeps)}
	if p.Values, err = c.inputs.Values(file); err != nil {
		return withExample(cmd, err)
	}
	if p.Chosen, p.Earlier, err = c.chosen(cmd, file); err != nil {
		return err
	}
	if p.Ports, err = c.ports.read(cmd); err != nil {
		return err
	}
	if p.At, err = c.addresses(cmd, file); err != nil {
		return err
	}
	if p.Operator, err = c.person(c.app, cmd); err != nil {
		return err
	}
	p.Asks = c.sits(p.Operator)
	if c.asker = c.secondAttempt(file, p.Operator); c.asker != nil {
		p.Second = c.asker.second
	}
	c.files.Inputs = p.Reads()
	if err := errors.Join(c.planReport(cmd), c.files.plan(cmd, "metrics", c.metrics)); err != nil {
		return err
	}
	if c.plan {
		return c.onlyPlan(cmd, p)
	}
	began := false
	defer func() {
		if !began { // what a job publishes then is not of this run
			err = errors.Join(err, c.files.Forget(c.outFile))
		}
	}()
	if err := c.takeSecrets(cmd, p); err != nil {
		return err
	}
	c.watch(p)
	res, err := c.perform(cmd.Context(), p)
	began = res.Run != ""
	if rerr := c.report(res); rerr != nil && (err == nil || errors.Is(err, session.ErrEvidence)) {
		return rerr
	}
	return withExample(cmd, withVerdict(res.Verdict, err))
}

// watch has an account given while it runs, unless nobody wants one.
func (c *runCommand) watch(p *session.Procedure) {
	var sinks []func(record.Event)
	if c.metrics != "" {
		values := newWatched()
		sinks = append(sinks, values.take, newMetrics(values, c.files.Free(c.metrics), p.Keep.Tell).event)
	}
	if c.keeps.quiet && sinks == nil {
		return
	}
	p.Watch = func(stations map[string]*bench.Station) func(record.Event) {
		if !c.keeps.quiet {
			account := c.account(p.File, stations, p.Values)
			if p.Second != nil {
				c.asker.account = account
			}
			sinks = append(sinks, account.event)
		}
		return each1(sinks)
	}
}

// takeSecrets puts the secrets among the values, and asks for them where somebody is there.
func (c *runCommand) takeSecrets(cmd *cobra.Command, p *session.Procedure) error {
	if in, ok := c.in.(*os.File); ok && term.IsTerminal(int(in.Fd())) {
		c.secrets.Ask = func(s *procedure.Secret) (string, error) { return c.askSecret(cmd.Context(), in, s) }
	}
	return withExample(cmd, c.secrets.Into(p.Values, p.File))
}

// onlyPlan tells what would be said, and what is missing for it.
func (c *runCommand) onlyPlan(cmd *cobra.Command, p *session.Procedure) error {
	missing, err := p.Plan(cmd.Context())
	if err != nil {
		return withExample(cmd, err)
	}
	for _, what := range missing {
		c.err.line("not yet: %s", safe(what))
	}
	return c.printPlan(cmd.Context(), p.File, p.Values, p.Chosen)
}

// planReport looks whether the report that is asked for can be made.
func (c *runCommand) planReport(cmd *cobra.Command) error {
	switch known := report.Forms(); {
	case c.outFile == "" && c.as != "":
		return usage(cmd, "--as %s: name the file of the report with --out", c.as)
	case c.outFile == "":
		return nil
	case c.as != "" && !slices.Contains(known, c.as):
		return usage(cmd, "--as: there is no form %q. %s", c.as, source.DidYouMean(c.as, known))
	case c.keeps.NoLedger && c.keeps.Record == "":
		return usage(cmd, "--out makes a report of the record, and --no-ledger keeps none: name one with --record")
	}
	return c.files.plan(cmd, "out", c.outFile)
}

// report makes the report of a run that has begun, whatever came of it.
func (c *runCommand) report(res perform.Result) error {
	if c.outFile == "" || res.Run == "" {
		return nil
	}
	f, err := os.Open(res.Record)
	if err != nil {
		return fmt.Errorf("the report of the run cannot be made: %w", err)
	}
	defer f.Close()
	form := c.as
	if form == "" {
		form = "text"
	}
	_, err = c.view(f, form, "", c.outFile, &c.files)
	return err
}

// perform performs a procedure and prints what came of it.
func (a *app) perform(ctx context.Context, p *session.Procedure) (perform.Result, error) {
	res, err := p.Do(ctx)
	a.err.end()
	if res.Run == "" {
		return res, err // it did not begin
	}
	perr := a.result(res, p.File)
	if perr != nil && (err == nil || errors.Is(err, session.ErrEvidence)) {
		err = perr
	}
	if p.Keep.Record == "" && p.Watch != nil && res.Record != "" {
		a.err.line("%s", a.err.faint("record: "+safe(fromHome(res.Record))))
	}
	return res, err
}

// chosen are the titles of the steps to perform, nil meaning all, and the earlier run
// that tells what the others would give.
func (c *runCommand) chosen(cmd *cobra.Command, file *procedure.File) (chosen map[string]bool, earlier *session.Earlier, err error) {
	some := c.from != "" || len(c.only) > 0
	switch {
	case c.from != "" && len(c.only) > 0, c.repeat != "" && some:
		return nil, nil, usage(cmd, "--only, --from and --repeat-failed exclude each other: give one of them")
	case c.repeat != "" && c.record != "":
		return nil, nil, usage(cmd, "--repeat-failed reads its record itself: leave out --from-record")
	case c.record != "" && !some:
		return nil, nil, usage(cmd, "--from-record tells what steps left out would give: say which to perform, with --from or --only")
	}
	if record := c.repeat + c.record; record != "" {
		if earlier, err = session.ReadEarlier(record, file); err != nil {
			return nil, nil, err
		}
	}
	switch {
	case c.repeat != "":
		chosen, err = earlier.NotPassed(file)
	case some:
		chosen, err = session.StepsFrom(file, c.only, c.from)
	}
	return chosen, earlier, withExample(cmd, err)
}

func (a *app) askSecret(ctx context.Context, in *os.File, s *procedure.Secret) (string, error) {
	what := s.Name
	if s.About != "" {
		what += " (" + s.About + ")"
	}
	fmt.Fprintf(a.err.w, "%s, not shown: ", safe(what))
	text, err := readHidden(ctx, in)
	fmt.Fprintln(a.err.w)
	if err != nil {
		return "", fmt.Errorf("read the secret %s: %w", s.Name, err)
	}
	return string(text), nil
}

// readHidden reads a line that is not shown. If ctx is done first the terminal is left
// as it was found.
func readHidden(ctx context.Context, in *os.File) ([]byte, error) {
	before, err := term.GetState(int(in.Fd()))
	if err != nil {
		return nil, err
	}
	hides := before // while it is read
	var hidden handover
	hidden.by(func() (err error) {
		if hides, err = term.GetState(int(in.Fd())); err != nil {
			return err
		}
		return term.Restore(int(in.Fd()), before)
	}, func() error { return term.Restore(int(in.Fd()), hides) })
	defer hidden.heed()()
	type line struct {
		text []byte
		err  error
	}
	read := make(chan line, 1)
	go func() {
		text, err := term.ReadPassword(int(in.Fd()))
		read <- line{text, err}
	}()
	select {
	case l := <-read:
		return l.text, l.err
	case <-ctx.Done(): // the read goes on until the program ends
		return nil, errors.Join(context.Cause(ctx), term.Restore(int(in.Fd()), before))
	}
}
