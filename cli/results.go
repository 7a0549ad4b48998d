package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/ledger"
	"uparrot/core/record"
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
	if v := f.filter.Verdict; v != "" && !contains(verdictWords, v) {
		return nil, usage(cmd, "--verdict: there is no verdict %q. %s", v, source.DidYouMean(v, verdictWords))
	}
	var err error
	if f.filter.Since, err = day(f.since, 0); err != nil {
		return nil, usage(cmd, "--since: %v", err)
	}
	if f.filter.Until, err = day(f.until, 1); err != nil {
		return nil, usage(cmd, "--until: %v", err)
	}
	where, err := ledgerPlace(f.ledger)
	if err != nil {
		return nil, &errUsage{what: err.Error()}
	}
	if _, err := os.Stat(where); !ledger.IsDatabase(where) && errors.Is(err, os.ErrNotExist) {
		return nil, &errUsage{what: fmt.Sprintf("there is no ledger at %s yet: each run is filed there, or name another with --ledger", where)}
	}
	return ledger.Open(cmd.Context(), where)
}

// day reads a day of this machine's calendar, or a length of time before now.
func day(text string, add int) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 && add == 0 {
		return time.Now().Add(-d), nil
	}
	t, err := time.ParseInLocation("2006-01-02", text, time.Local)
	if err != nil {
		return t, fmt.Errorf("%q is neither a day such as 2026-11-02 nor a time such as 36h", text)
	}
	return t.AddDate(0, 0, add), nil
}

func (a *app) results() *cobra.Command {
	var f resultsFlags
	cmd := &cobra.Command{
		Use:   "results",
		Short: "The ledger: list, show, compare, trend, yield, export",
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
	cmd.AddCommand(a.resultsShow(), a.resultsCompare(), a.resultsTrend(), a.resultsYield(), a.resultsExport(), a.resultsAdd())
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
		rows = append(rows, []string{localMinute(r.Began), oneLine(r.Unit), runTitle(r), s.verdict(verdict.Verdict(oneLine(r.Verdict)), 0), t, r.Run[:min(8, len(r.Run))]})
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

func runTitle(r ledger.Run) string {
	title := oneLine(r.Title)
	if title == "" {
		title = "-"
	}
	if r.Command != "run" {
		title = oneLine(r.Command) + ": " + title
	}
	return title
}

func (a *app) resultsShow() *cobra.Command {
	cmd := a.withLedger(&cobra.Command{
		Use:     "show RUN",
		Short:   "Everything that stands in the ledger of one run, and whether its record is as it was filed",
		Example: "uparrot results show last",
		Args:    args(1, 1, "one run: its name, the beginning of it, or last"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, _ ledger.Filter, args []string) error {
		r, err := readRun(cmd, l, args[0])
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(r)
		}
		a.showRun(r)
		return nil
	})
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	return cmd
}

// wholeRun is all that the ledger knows of a run.
type wholeRun struct {
	ledger.Run
	RecordState  string               `json:"record_state"`
	Steps        []ledger.Step        `json:"steps"`
	Measurements []record.Measurement `json:"measurements"`
	Links        []ledger.Link        `json:"links"`
	Files        []ledger.File        `json:"files"`
}

func readRun(cmd *cobra.Command, l *ledger.Ledger, name string) (w wholeRun, err error) {
	ctx := cmd.Context()
	if w.Run, err = l.Find(ctx, name); err != nil {
		return w, &errUsage{what: err.Error(), example: "uparrot results"}
	}
	var errs [4]error
	w.Steps, errs[0] = l.Steps(ctx, w.Run.Run)
	w.Measurements, errs[1] = l.Measurements(ctx, w.Run.Run)
	w.Links, errs[2] = l.Links(ctx, w.Run.Run)
	w.Files, errs[3] = l.Files(ctx, w.Run.Run)
	w.RecordState = recordState(w.Run)
	return w, errors.Join(errs[:]...)
}

// recordState holds the record of a run against what was filed of it.
func recordState(r ledger.Run) string {
	if r.Record == "" {
		return "no record was kept"
	}
	f, err := os.Open(r.Record)
	if err != nil {
		return "it is not there any more: " + err.Error()
	}
	defer f.Close()
	sum := ""
	state, err := record.Read(f, func(e record.Event) error {
		if e.Kind == record.End {
			sum = e.Sum
		}
		return nil
	})
	switch {
	case err != nil:
		return err.Error()
	case state.Origin.Run != r.Run:
		return "another record lies there now: that of run " + state.Origin.Run
	case state.Whole() && r.RecordSum != "" && sum != r.RecordSum:
		return "altered: it is whole in itself, but its checksum is not the one that was filed"
	case state.Whole() && r.RecordSum != "":
		return fmt.Sprintf("whole, and the same that was filed: %d lines", state.Events)
	}
	return state.Words()
}

func (a *app) showRun(r wholeRun) {
	s := newScreen(a.out)
	fmt.Fprintf(a.out, "%s  %s\n\n", s.bold(runTitle(r.Run)), s.verdict(verdict.Verdict(oneLine(r.Verdict)), 0))
	var rows [][]string
	add := func(name, v string) {
		if v != "" {
			rows = append(rows, []string{name, oneLine(v)})
		}
	}
	add("unit", r.Unit)
	add("began", r.Began.Local().Format("2006-01-02 15:04:05 -07:00"))
	if r.Verdict != ledger.Unfinished {
		add("took", took(fromMS(r.TookMS)))
	}
	add("why", r.Why)
	add("operator", r.Operator)
	add("machine", r.Machine)
	add("tool", r.Tool)
	add("bench", r.Bench)
	add("run", r.Run.Run)
	add("record", fromHome(r.Record))
	add("", r.RecordState)
	table(a.out, rows)
	if len(r.Steps) > 0 {
		rows = [][]string{{"step", "verdict", "tries", "time"}}
		for _, st := range r.Steps {
			rows = append(rows, []string{fmt.Sprintf("%d  %s", st.Number, oneLine(st.Title)), s.verdict(verdict.Verdict(oneLine(st.Verdict)), 0), strconv.Itoa(st.Tries), took(fromMS(st.TookMS))})
		}
		fmt.Fprintln(a.out)
		table(a.out, rows)
		for _, st := range r.Steps {
			if st.Why != "" && st.Verdict != string(verdict.Skipped) {
				fmt.Fprintf(a.out, "%s: %s\n", oneLine(st.Title), oneLine(st.Why))
			}
		}
	}
	if len(r.Measurements) > 0 {
		rows = [][]string{{"measurement", "value", "limits", "verdict"}}
		for _, m := range r.Measurements {
			rows = append(rows, []string{oneLine(m.What), withUnit(plainNumber(m.Value), m.Unit), withUnit(m.Range(), m.Unit), s.verdict(verdict.Verdict(oneLine(string(m.Verdict))), 0)})
		}
		fmt.Fprintln(a.out)
		table(a.out, rows)
	}
	if len(r.Links) > 0 {
		rows = [][]string{{"link", "sent", "lost", "late", "median", "95 %", "strength", "verdict"}}
		for _, k := range r.Links {
			rows = append(rows, []string{oneLine(k.From + " to " + k.To), fmt.Sprint(k.Sent), fmt.Sprint(k.Lost), fmt.Sprint(k.Late), maybe(k.MedianMS, "%.1f ms"), maybe(k.P95MS, "%.1f ms"), maybe(k.Strength, "%.1f dBm"), s.verdict(verdict.Verdict(oneLine(k.Verdict)), 0)})
		}
		fmt.Fprintln(a.out)
		table(a.out, rows)
	}
	if len(r.Files) > 0 {
		rows = [][]string{{"file", "", "SHA-256"}}
		for _, f := range r.Files {
			rows = append(rows, []string{oneLine(f.Path), f.Role, f.SHA256})
		}
		fmt.Fprintln(a.out)
		table(a.out, rows)
	}
}

func maybe(v *float64, format string) string {
	if v == nil {
		return ""
	}
	return fmt.Sprintf(format, *v)
}

func plainNumber(v float64) string { return strconv.FormatFloat(v, 'g', 6, 64) }

func withUnit(text, unit string) string { return record.WithUnit(text, oneLine(unit)) }

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
			place, err := ledgerPlace(where)
			if err != nil {
				return &errUsage{what: err.Error()}
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
