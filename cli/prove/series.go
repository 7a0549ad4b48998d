package prove

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/report"
	"uparrot/core/report/chart"
	"uparrot/core/series"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// mostOver is how many series a picture shows over one another: more cannot be told apart.
const mostOver = 8

// SeriesViews are how series are drawn.
var SeriesViews = []string{"time", "units", "spread"}

func resultsSeries(sh *shell.Streams) *cobra.Command {
	var plot, view string
	var last int
	files := &shell.Outputs{}
	cmd := withLedger(sh, &cobra.Command{
		Use:   "series [NAME]",
		Short: "Show values over time of each run, and draw them",
		Long: `Tells what came of a value that was measured again and again, a row a run. Without a
NAME their names are listed. --plot draws them: with --view time by the clock, with
--view units each from its own beginning over one another, such as before and after,
with --view spread how many values are at most what. All values as a table:
uparrot results export --table samples.`,
		Example: `uparrot results series wind --last 2 --plot wind.png --view units`,
		Args:    shell.Args(0, 1, "one name of values over time"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error {
		if !slices.Contains(SeriesViews, view) {
			return shell.Usage(cmd, "--view: there is no view %q. %s", view, source.DidYouMean(view, SeriesViews))
		}
		if err := files.PlanPicture(cmd, "plot", plot); err != nil {
			return err
		}
		all, names, err := namedSeries(cmd.Context(), l, f, strings.Join(args, ""))
		if err != nil {
			return err
		}
		if len(args) == 0 {
			for _, n := range names {
				fmt.Fprintln(sh.Out, shell.OneLine(n))
			}
			if len(names) == 0 {
				sh.Err.Line("no run that was asked for has values over time")
			}
			return nil
		}
		if len(all) == 0 {
			return &session.Misuse{What: fmt.Sprintf("no run that was asked for has values over time named %q. %s", args[0], source.DidYouMean(args[0], names))}
		}
		if last > 0 && len(all) > last {
			all = all[len(all)-last:]
		}
		if plot != "" {
			if err := drawSeries(sh, cmd.Context(), l, files, plot, view, all); err != nil {
				return err
			}
		}
		if sh.JSON {
			return sh.PrintJSON(seriesJSON(all))
		}
		showSeries(sh, all)
		return nil
	})
	files.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&plot, "plot", "", "draw the values to this file, .png or .svg")
	fl.StringVar(&view, "view", "time", "how: "+strings.Join(SeriesViews, ", "))
	fl.IntVar(&last, "last", 0, "only so many, the latest; 0 for all")
	fl.BoolVar(&sh.JSON, "json", false, "print the result as JSON")
	return cmd
}

// namedSeries are the series of a name, and the names of all.
func namedSeries(ctx context.Context, l *ledger.Ledger, f ledger.Filter, name string) (all []ledger.Series, names []string, err error) {
	err = l.SeriesNamed(ctx, "", f, func(s ledger.Series) error {
		if !slices.Contains(names, s.What) {
			names = append(names, s.What)
		}
		if s.What == name {
			all = append(all, s)
		}
		return nil
	})
	slices.Sort(names)
	return all, names, err
}

// seriesJSON are series as JSON tells them.
func seriesJSON(all []ledger.Series) []map[string]any {
	list := make([]map[string]any, len(all))
	for i, s := range all {
		list[i] = map[string]any{"run": s.Run.Run, "unit": s.Run.Unit, "what": s.What, "value_unit": s.Unit, "low": s.Low, "high": s.High, "verdict": s.Verdict, "series": s.Series}
	}
	return list
}

func showSeries(sh *shell.Streams, all []ledger.Series) {
	s := shell.NewScreen(sh.Out)
	fmt.Fprintf(sh.Out, "%s: %s\n\n", s.Bold(shell.OneLine(all[0].What)), shell.Count(len(all), "run"))
	rows := [][]string{{"unit", "began", "values", "a second", "min", "mean", "max", "spread", "limits", "outside", "silence", "run"}}
	for _, one := range all {
		m := one.Series
		spread := ""
		if m.Spread != nil {
			spread = shell.NumberOrNone(*m.Spread)
		}
		outside := ""
		if one.Verdict != verdict.Measured {
			outside = fmt.Sprint(m.Outside)
		}
		rows = append(rows, []string{named(one.Run.Unit), localMinute(one.Run.Began), fmt.Sprint(m.N), shell.PlainNumber(m.Rate), shell.NumberOrNone(m.Least), shell.NumberOrNone(m.Mean), shell.WithUnit(shell.NumberOrNone(m.Greatest), one.Unit), spread,
			shell.OneLine(one.Wanted()), outside, shell.Took(shell.FromMS(1000 * m.Silence)), short(one.Run.Run)})
	}
	shell.Table(sh.Out, rows)
}

// drawSeries draws series out of all their values.
func drawSeries(sh *shell.Streams, ctx context.Context, l *ledger.Ledger, files *shell.Outputs, path, view string, all []ledger.Series) error {
	if len(all) > mostOver {
		sh.Err.Line("of %s the latest %d are drawn", shell.Count(len(all), "run"), mostOver)
		all = all[len(all)-mostOver:]
	}
	var lines []report.Timeline
	var amounts []report.Amounts
	for _, s := range all {
		gathered := series.Series{}
		name := named(s.Run.Unit) + ", " + localMinute(s.Run.Began)
		amount := report.Amounts{Name: name, Low: float64(s.Series.Least), High: float64(s.Series.Greatest), Counts: make([]int, 200)}
		line := report.Timeline{Name: name, Unit: s.Unit, Usual: report.Usual(*s.Series), Low: s.Low, High: s.High}
		if err := l.Samples(ctx, s.Run.Run, s.Series.Number, func(one series.Sample, _ *string) error {
			one.At = one.At.Local()
			gathered.Add(one.At, one.Value, false)
			if !series.Number(one.Value).Finite() {
				return nil
			}
			if (s.Low != nil && one.Value < *s.Low || s.High != nil && one.Value > *s.High) && len(line.Outside) < 200 {
				line.Outside = append(line.Outside, one)
			}
			amount.Add(one.Value)
			return nil
		}); err != nil {
			return err
		}
		line.Curve = gathered.Curve()
		lines, amounts = append(lines, line), append(amounts, amount)
	}
	first := all[0]
	var c chart.Chart
	switch view {
	case "units":
		c = report.Aligned(first.What, lines)
	case "spread":
		c = report.Spread(first.What, first.What, first.Unit, amounts, first.Low, first.High)
	default:
		c = report.OverTime(first.What, lines, nil)
	}
	if c == nil {
		return &session.Misuse{What: fmt.Sprintf("%s has no values that are numbers: there is nothing to draw", first.What)}
	}
	return sh.Draw(files, path, c)
}
