package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

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
	addLedger(cmd, &f.ledger)
	fl := cmd.Flags()
	fl.StringVar(&f.filter.Unit, "unit", "", "only runs of this unit")
	fl.StringVar(&f.filter.Title, "procedure", "", "only runs whose title holds this text")
	fl.StringVar(&f.filter.Verdict, "verdict", "", "only runs with this verdict: passed, failed, broken, undecided, untested, unfinished")
	fl.StringVar(&f.since, "since", "", "only runs from this day on, such as 2026-11-02, or of the last time, such as 36h")
	fl.StringVar(&f.until, "until", "", "only runs up to this day, the day included")
}

var verdictWords = []string{string(verdict.Passed), string(verdict.Failed), string(verdict.Broken), string(verdict.Undecided), string(verdict.Untested), string(verdict.Skipped), ledger.Unfinished}

// open opens the ledger and reads the filter.
func (f *resultsFlags) open(cmd *cobra.Command) (*ledger.Ledger, error) {
	if v := f.filter.Verdict; v != "" && !slices.Contains(verdictWords, v) {
		return nil, usage(cmd, "--verdict: there is no verdict %q. %s", v, source.DidYouMean(v, verdictWords))
	}
	var err error
	if f.filter.Since, err = day(f.since, 0); err != nil {
		return nil, usage(cmd, "--since: %v", err)
	}
	if f.filter.Until, err = day(f.until, 1); err != nil {
		return nil, usage(cmd, "--until: %v", err)
	}
	return openLedger(cmd.Context(), f.ledger)
}

// openLedger opens a ledger that is there.
func openLedger(ctx context.Context, place string) (*ledger.Ledger, error) {
	where, err := session.LedgerPlace(place)
	if err != nil {
		return nil, &session.Misuse{What: err.Error()}
	}
	if _, err := os.Stat(where); !ledger.IsDatabase(where) && errors.Is(err, os.ErrNotExist) {
		return nil, &session.Misuse{What: fmt.Sprintf("there is no ledger at %s yet: each run is filed there, or name another with --ledger", where)}
	}
	return ledger.Open(ctx, where)
}

// day reads a day of this machine's calendar, or a length of time before now.
func day(text string, add int) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(inHours(text)); err == nil && d > 0 && add == 0 {
		return time.Now().Add(-d), nil
	}
	t, err := time.ParseInLocation("2006-01-02", text, time.Local)
	if err != nil {
		return t, fmt.Errorf("%q is neither a day such as 2026-11-02 nor a time such as 36h or 2d", text)
	}
	return t.AddDate(0, 0, add), nil
}

func (a *app) results() *cobra.Command {
	var f resultsFlags
	cmd := &cobra.Command{
		Use:   "results",
		Short: "The ledger: list, show, compare, trend, series, yield, export",
		Long: `Every run is filed in the ledger. Without a further word this lists the runs, the
latest last.`,
		Example: "uparrot results --unit LK-0017",
		Args:    args(0, 0, "no arguments of its own, but one of its further commands or flags"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := f.open(cmd)
			if err != nil {
				return err
			}
			return errors.Join(a.listRuns(cmd, l, f.filter), l.Close())
		},
	}
	f.add(cmd)
	cmd.Flags().IntVar(&f.filter.Last, "last", 50, "only so many, the latest; 0 for all")
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	cmd.AddCommand(a.resultsShow(), a.resultsUnit(), a.resultsSettings(), a.resultsCompare(), a.resultsTrend(), a.resultsSeries(), a.resultsYield(), a.resultsExport(), a.resultsAdd())
	return cmd
}

// withLedger is a command on a ledger.
func (a *app) withLedger(cmd *cobra.Command, do func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error) *cobra.Command {
	var f resultsFlags
	f.add(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		l, err := f.open(cmd)
		if err != nil {
			return err
		}
		return errors.Join(do(cmd, l, f.filter, args), l.Close())
	}
	return cmd
}

func (a *app) listRuns(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter) error {
	if a.json {
		runs := []ledger.Run{}
		err := l.Runs(cmd.Context(), f, func(r ledger.Run) error { runs = append(runs, r); return nil })
		return errors.Join(err, a.printJSON(runs))
	}
	s := newScreen(a.out)
	rows := [][]string{{"began", "unit", "what", "verdict", "time", "run"}}
	if err := l.Runs(cmd.Context(), f, func(r ledger.Run) error {
		t := ""
		if r.Verdict != ledger.Unfinished {
			t = took(fromMS(r.TookMS))
		}
		rows = append(rows, []string{localMinute(r.Began), oneLine(r.Unit), runTitle(r), s.verdict(verdict.Verdict(oneLine(r.Verdict)), 0), t, short(r.Run)})
		return nil
	}); err != nil {
		return err
	}
	if len(rows) == 1 {
		a.err.line("no run in %s is so", safe(l.Where()))
		return nil
	}
	table(a.out, rows)
	if f.Last > 0 && len(rows)-1 == f.Last {
		a.err.line("%s", a.err.faint(fmt.Sprintf("the latest %d; --last 0 lists all", f.Last)))
	}
	return nil
}

func localMinute(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func runTitle(r ledger.Run) string { return oneLine(r.Name()) }

func (a *app) resultsAdd() *cobra.Command {
	var where string
	cmd := &cobra.Command{
		Use:   "add RECORD...",
		Short: "Files records that are not in the ledger yet, such as those of another machine",
		Long: `Files runs out of their records. A run that is filed already is not filed twice; an
altered record is refused.`,
		Example: "uparrot results add larkfell/*.record",
		Args:    args(1, -1, "one record or more"),
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
				fmt.Fprintf(a.out, "%s is filed as run %s\n", safe(p), safe(o.Run))
			}
			return errors.Join(errs...)
		},
	}
	addLedger(cmd, &where)
	return cmd
}
