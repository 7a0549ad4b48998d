package run

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

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/report/live"
	"uparrot/core/session"
	"uparrot/core/source"
)

// RunCommand is the command run with its flags.
type RunCommand struct {
	*shell.Streams
	account.ProcedureFlags
	secrets session.Secrets
	askFor  time.Duration
	asker   *account.Asker // of what is to be done about a step that has failed; nil asks nobody
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
	Begun func(slot, unit string)
	Still func(screen string)
}

// Run is the command run.
func Run(sh *shell.Streams) *cobra.Command { return (&RunCommand{Streams: sh}).Command() }

// Command is the command run with its flags bound to c.
func (c *RunCommand) Command() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "run PROCEDURE",
		Short: "Perform a procedure and check every answer",
		Long: `Performs a procedure at the ports that the bench names, or that --port gives.
A secret is taken from the environment (UPARROT_ and its name in capitals), from
the file that --secret-file names, or is asked for without echo.

With --only, --from and --repeat-failed the other steps are left out, except those
that the procedure marks as needed or always. What they would give is taken from a
record: that of --repeat-failed, or the one that --from-record names.`,
		Example: "uparrot run commission.parrot --bench larkfell.toml --port valley --set address=3",
		Args:    shell.Args(1, 1, "one procedure"),
		RunE:    c.run,
	}
	c.Ports.Add(cmd)
	c.Keeps.Add(cmd)
	c.Files.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&c.OutFile, "out", "", "when it is over write a report of the run to this file")
	fl.StringVar(&c.As, "as", "", "the form of that report: "+strings.Join(report.Forms(), ", "))
	fl.StringVar(&c.metrics, "metrics", "", "keep this file up to date with the present values of series, in the OpenMetrics text format")
	fl.StringVar(&c.Units, "units", "", "perform it at each unit of this table (CSV, TSV, JSON Lines): columns are unit, port and the inputs; batch:NAME is one that \"units load\" has put into the ledger, for several stations")
	fl.StringVar(&c.stationName, "station", "", "with --units batch:NAME: the name of this station; that of the machine unless given")
	fl.DurationVar(&c.lease, "lease", time.Minute, "with --units batch:NAME: time without contact before a unit in progress is marked broken")
	fl.StringVar(&c.next, "next", "enter", "with --units, when the next begins: enter (typed, or its name), answer (the module answers), power (it starts), replug (its port goes and comes back), none")
	fl.StringVar(&c.Slots, "slots", "", "with --units: work at these slots of the bench at once: all, or names with commas between")
	fl.BoolVar(&c.goOn, "go-on", false, "with --units: leave out the units that have passed")
	fl.StringArrayVar(&c.Where, "port", nil, "where a port of the procedure is: NAME=ADDRESS or NAME=NAME on the bench; with one port the address is enough")
	fl.StringArrayVar(&c.Inputs.Set, "set", nil, "value of an input: NAME=VALUE")
	fl.StringVar(&c.Inputs.File, "set-file", "", "values of inputs from a TOML file of NAME = VALUE; --set takes precedence")
	fl.StringArrayVar(&c.secrets.Files, "secret-file", nil, "file that holds a secret: NAME=FILE")
	shell.AddPoolKey(cmd, &c.Keeps.PoolKey)
	fl.StringArrayVar(&c.only, "only", nil, "perform only this step: its title or number")
	fl.StringVar(&c.from, "from", "", "perform from this step on: its title or number")
	fl.StringVar(&c.repeat, "repeat-failed", "", "perform only what failed or was not tested in this record")
	fl.StringVar(&c.Record, "from-record", "", "with --from or --only: what steps left out would give, from the record of an earlier run")
	fl.StringVar(&c.Operator, "operator", "ask", "who answers questions: ask, yes, or none (such steps are untested)")
	fl.DurationVar(&c.askFor, "ask-for", 2*time.Minute, "how long a person is asked about a step that has failed, before it stops; 0 asks nobody")
	fl.StringVar(&c.Answers, "answers", "", "answers to questions from a TOML file of \"QUESTION\" = ANSWER")
	fl.BoolVar(&c.plan, "plan", false, "print what would be said, and open no port")
	fl.BoolVar(&c.Keeps.Quiet, "quiet", false, "no account while it runs")
	c.AddJSON(cmd, "the result")
	return cmd
}

func (c *RunCommand) run(cmd *cobra.Command, args []string) (err error) {
	file, err := procedure.Read(args[0])
	if err != nil {
		return shell.AsUsage(err)
	}
	if len(file.Steps) == 0 {
		return shell.Usage(cmd, "%s has routines but no steps: it is there to be included", args[0])
	}
	c.WarnBriefly(file.Warnings)
	if c.Units != "" {
		return c.runUnits(cmd, file)
	}
	if c.Slots != "" || c.goOn {
		return shell.Usage(cmd, "--slots and --go-on are of a table of units: name it with --units")
	}
	p := &session.Procedure{File: file, Files: []string{c.Inputs.File, c.Answers}, Keep: c.Keep(c.Keeps)}
	if p.Values, err = c.Inputs.Values(file); err != nil {
		return shell.WithExample(cmd, err)
	}
	if p.Chosen, p.Earlier, err = c.chosen(cmd, file); err != nil {
		return err
	}
	if p.Ports, err = c.Ports.Read(cmd); err != nil {
		return err
	}
	if p.At, err = c.Addresses(cmd, file); err != nil {
		return err
	}
	if p.Operator, err = c.Person(c.Streams, cmd); err != nil {
		return err
	}
	p.Asks = c.sits(p.Operator)
	if c.asker = c.secondAttempt(file, p.Operator); c.asker != nil {
		p.OnFailure = c.asker.AskHowToGoOn
	}
	c.Files.Inputs = p.Reads()
	if err := errors.Join(c.planReport(cmd), c.Files.PlanFile(cmd, "metrics", c.metrics)); err != nil {
		return err
	}
	if c.plan {
		return c.onlyPlan(cmd, p)
	}
	began := false
	defer func() {
		if !began { // what a job publishes then is not of this run
			err = errors.Join(err, c.Files.Forget(c.OutFile))
		}
	}()
	if err := c.takeSecrets(cmd, p); err != nil {
		return err
	}
	c.watch(p)
	res, err := Perform(c.Streams, cmd.Context(), p)
	began = res.Run != ""
	if rerr := c.report(res); rerr != nil && (err == nil || errors.Is(err, session.ErrEvidence)) {
		return rerr
	}
	return shell.WithExample(cmd, shell.WithVerdict(res.Verdict, err))
}

// watch has an account given while it runs, unless nobody wants one.
func (c *RunCommand) watch(p *session.Procedure) {
	var sinks []func(record.Event)
	if c.metrics != "" {
		values := live.NewWatched()
		sinks = append(sinks, values.Take, live.NewMetrics(values, c.Files.Free(c.metrics), p.Keep.Tell).Event)
	}
	if c.Keeps.Quiet && sinks == nil {
		return
	}
	p.Watch = func(stations map[string]*bench.Station) func(record.Event) {
		if !c.Keeps.Quiet {
			account := account.Account(c.Streams, p.File, stations, p.Values)
			if p.OnFailure != nil {
				c.asker.Account = account
			}
			sinks = append(sinks, account.Event)
		}
		return account.Each1(sinks)
	}
}

// takeSecrets puts the secrets among the values, and asks for them where somebody is there.
func (c *RunCommand) takeSecrets(cmd *cobra.Command, p *session.Procedure) error {
	if in, ok := c.In.(*os.File); ok && term.IsTerminal(int(in.Fd())) {
		c.secrets.Ask = func(s *procedure.Secret) (string, error) { return account.AskSecret(c.Streams, cmd.Context(), in, s) }
	}
	return shell.WithExample(cmd, c.secrets.Into(p.Values, p.File))
}

// onlyPlan tells what would be said, and what is missing for it.
func (c *RunCommand) onlyPlan(cmd *cobra.Command, p *session.Procedure) error {
	missing, err := p.Plan(cmd.Context())
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	for _, what := range missing {
		c.Err.Line("not yet: %s", shell.Safe(what))
	}
	return printPlan(c.Streams, cmd.Context(), p.File, p.Values, p.Chosen)
}

// planReport looks whether the report that is asked for can be made.
func (c *RunCommand) planReport(cmd *cobra.Command) error {
	switch known := report.Forms(); {
	case c.OutFile == "" && c.As != "":
		return shell.Usage(cmd, "--as %s: name the file of the report with --out", c.As)
	case c.OutFile == "":
		return nil
	case c.As != "" && !slices.Contains(known, c.As):
		return shell.Usage(cmd, "--as: there is no form %q. %s", c.As, source.DidYouMean(c.As, known))
	case c.Keeps.NoLedger && c.Keeps.Record == "":
		return shell.Usage(cmd, "--out makes a report of the record, and --no-ledger keeps none: name one with --record")
	}
	return c.Files.PlanFile(cmd, "out", c.OutFile)
}

// report makes the report of a run that has begun, whatever came of it.
func (c *RunCommand) report(res perform.Result) error {
	if c.OutFile == "" || res.Run == "" {
		return nil
	}
	f, err := os.Open(res.Record)
	if err != nil {
		return fmt.Errorf("the report of the run cannot be made: %w", err)
	}
	defer f.Close()
	form := c.As
	if form == "" {
		form = "text"
	}
	_, err = account.View(c.Streams, f, form, "", c.OutFile, &c.Files)
	return err
}

// Perform performs a procedure and prints what came of it.
func Perform(sh *shell.Streams, ctx context.Context, p *session.Procedure) (perform.Result, error) {
	res, err := p.Do(ctx)
	sh.Err.End()
	if res.Run == "" {
		return res, err // it did not begin
	}
	perr := account.Result(sh, res, p.File)
	if perr != nil && (err == nil || errors.Is(err, session.ErrEvidence)) {
		err = perr
	}
	if p.Keep.Record == "" && p.Watch != nil && res.Record != "" {
		sh.Err.Line("%s", sh.Err.Faint("record: "+shell.Safe(shell.FromHome(res.Record))))
	}
	return res, err
}

// chosen are the titles of the steps to perform, nil meaning all, and the earlier run
// that tells what the others would give.
func (c *RunCommand) chosen(cmd *cobra.Command, file *procedure.File) (chosen map[string]bool, earlier *session.Earlier, err error) {
	some := c.from != "" || len(c.only) > 0
	switch {
	case c.from != "" && len(c.only) > 0, c.repeat != "" && some:
		return nil, nil, shell.Usage(cmd, "--only, --from and --repeat-failed exclude each other: give one of them")
	case c.repeat != "" && c.Record != "":
		return nil, nil, shell.Usage(cmd, "--repeat-failed reads its record itself: leave out --from-record")
	case c.Record != "" && !some:
		return nil, nil, shell.Usage(cmd, "--from-record tells what steps left out would give: say which to perform, with --from or --only")
	}
	if record := c.repeat + c.Record; record != "" {
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
	return chosen, earlier, shell.WithExample(cmd, err)
}
