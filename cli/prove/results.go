package prove

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// resultsFlags choose a ledger and the runs in it.
type resultsFlags struct {
	ledger string
	filter ledger.Filter
	since  string
	until  string
}

func (f *resultsFlags) add(cmd *cobra.Command) {
	shell.AddLedger(cmd, &f.ledger)
	fl := cmd.Flags()
	fl.StringVar(&f.filter.Unit, "unit", "", "only runs of this unit")
	fl.StringVar(&f.filter.Title, "procedure", "", "only runs whose title holds this text")
	fl.StringVar(&f.filter.Verdict, "verdict", "", "only runs with this verdict: passed, failed, broken, undecided, untested, unfinished")
	fl.StringVar(&f.since, "since", "", "only runs from this day on, such as 2026-11-02, or of the last time, such as 36h")
	fl.StringVar(&f.until, "until", "", "only runs up to this day, the day included")
}

var verdictWords = []string{string(verdict.Passed), string(verdict.Failed), string(verdict.Broken), string(verdict.Undecided), string(verdict.Untested), string(verdict.Skipped), ledger.Unfinished}

// open opens the ledger, with what could not be filed before, and reads the filter.
func (f *resultsFlags) open(sh *shell.Streams, cmd *cobra.Command) (*ledger.Ledger, error) {
	if v := f.filter.Verdict; v != "" && !slices.Contains(verdictWords, v) {
		return nil, shell.Usage(cmd, "--verdict: there is no verdict %q. %s", v, source.DidYouMean(v, verdictWords))
	}
	var err error
	if f.filter.Since, err = day(f.since, 0); err != nil {
		return nil, shell.Usage(cmd, "--since: %v", err)
	}
	if f.filter.Until, err = day(f.until, 1); err != nil {
		return nil, shell.Usage(cmd, "--until: %v", err)
	}
	l, err := shell.OpenLedger(cmd.Context(), f.ledger)
	if err != nil {
		return nil, err
	}
	if where, err := session.LedgerPlace(f.ledger); err == nil { // it was found a moment ago
		session.TellCaughtUp(cmd.Context(), where, func(text string) { sh.Err.Line("%s", shell.Safe(text)) })
	}
	return l, nil
}

// day reads a day of this machine's calendar, or a length of time before now.
func day(text string, add int) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(shell.InHours(text)); err == nil && d > 0 && add == 0 {
		return time.Now().Add(-d), nil
	}
	t, err := time.ParseInLocation("2006-01-02", text, time.Local)
	if err != nil {
		return t, fmt.Errorf("%q is neither a day such as 2026-11-02 nor a time such as 36h or 2d", text)
	}
	return t.AddDate(0, 0, add), nil
}

// Results is the command results with its subcommands.
func Results(sh *shell.Streams) *cobra.Command {
	var f resultsFlags
	cmd := &cobra.Command{
		Use:   "results",
		Short: "Query the ledger: list, show, compare, trend, series, yield, export",
		Long: `Every run is filed in the ledger. Without a further word this lists the runs, the
latest last.`,
		Example: "uparrot results --unit LK-0017",
		Args:    shell.Subcommands,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := f.open(sh, cmd)
			if err != nil {
				return err
			}
			return errors.Join(listRuns(sh, cmd, l, f.filter), l.Close())
		},
	}
	f.add(cmd)
	cmd.Flags().IntVar(&f.filter.Last, "last", 50, "only so many, the latest; 0 for all")
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print the result as JSON")
	cmd.AddCommand(resultsShow(sh), resultsUnit(sh), resultsSettings(sh), resultsCompare(sh), resultsTrend(sh), resultsSeries(sh), resultsYield(sh), resultsExport(sh), resultsAdd(sh))
	return cmd
}

// withLedger is a command on a ledger.
func withLedger(sh *shell.Streams, cmd *cobra.Command, do func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error) *cobra.Command {
	var f resultsFlags
	f.add(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		l, err := f.open(sh, cmd)
		if err != nil {
			return err
		}
		return errors.Join(do(cmd, l, f.filter, args), l.Close())
	}
	return cmd
}

func listRuns(sh *shell.Streams, cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter) error {
	if sh.JSON {
		runs := []ledger.Run{}
		err := l.Runs(cmd.Context(), f, func(r ledger.Run) error { runs = append(runs, r); return nil })
		return errors.Join(err, sh.PrintJSON(runs))
	}
	s := shell.NewScreen(sh.Out)
	rows := [][]string{{"began", "unit", "what", "verdict", "time", "run"}}
	if err := l.Runs(cmd.Context(), f, func(r ledger.Run) error {
		t := ""
		if r.Verdict != ledger.Unfinished {
			t = shell.Took(shell.FromMS(r.TookMS))
		}
		rows = append(rows, []string{localMinute(r.Began), shell.OneLine(r.Unit), runTitle(r), s.Verdict(verdict.Verdict(shell.OneLine(r.Verdict)), 0), t, short(r.Run)})
		return nil
	}); err != nil {
		return err
	}
	if len(rows) == 1 {
		sh.Err.Line("no matching runs in %s", shell.Safe(l.Where()))
		return nil
	}
	shell.Table(sh.Out, rows)
	if f.Last > 0 && len(rows)-1 == f.Last {
		sh.Err.Line("%s", sh.Err.Faint(fmt.Sprintf("the latest %d; --last 0 lists all", f.Last)))
	}
	return nil
}

func localMinute(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func runTitle(r ledger.Run) string { return shell.OneLine(r.Name()) }

func resultsAdd(sh *shell.Streams) *cobra.Command {
	var where string
	cmd := &cobra.Command{
		Use:   "add RECORD...",
		Short: "File records that are not in the ledger yet, such as those of another machine",
		Long: `Files runs out of their records. A run that is filed already is not filed twice; an
altered record is refused.`,
		Example: "uparrot results add larkfell/*.record",
		Args:    shell.Args(1, -1, "one record or more"),
		RunE: func(cmd *cobra.Command, paths []string) error {
			place, err := session.LedgerPlace(where)
			if err != nil {
				return &session.Misuse{What: err.Error()}
			}
			var errs []error
			for _, p := range paths {
				o, err := ledger.Add(place, p)
				if err != nil {
					errs = append(errs, err)
					continue
				}
				fmt.Fprintf(sh.Out, "%s is filed as run %s\n", shell.Safe(p), shell.Safe(o.Run))
			}
			return errors.Join(errs...)
		},
	}
	shell.AddLedger(cmd, &where)
	return cmd
}
