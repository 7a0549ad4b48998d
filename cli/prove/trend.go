package prove

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

func resultsTrend(sh *shell.Streams) *cobra.Command {
	var plot, step, in string
	files := &shell.Outputs{}
	cmd := withLedger(sh, &cobra.Command{
		Use:   "trend MEASUREMENT",
		Short: "Show a measurement over units and time: mean, spread, capability",
		Long: `Tells how a measurement spreads over units and time, and how its limits stand to
that: Ppk by the spread of all values (ISO 22514-2), Cpk by that of neighbouring ones
(ISO 7870-2), each with its 95 % interval. Without a MEASUREMENT their names are listed.`,
		Example: `uparrot results trend "transmitted power" --plot power.png`,
		Args:    shell.Args(0, 1, "one measurement"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error {
		if err := files.PlanPicture(cmd, "plot", plot); err != nil {
			return err
		}
		names, err := l.Names(cmd.Context())
		if err != nil {
			return err
		}
		if len(args) == 0 {
			for _, n := range names {
				fmt.Fprintln(sh.Out, shell.OneLine(n))
			}
			return nil
		}
		if !slices.Contains(names, args[0]) {
			return &session.Misuse{What: fmt.Sprintf("the ledger has no measurement %q. %s", args[0], source.DidYouMean(args[0], names))}
		}
		t, err := l.Trend(cmd.Context(), args[0], f)
		if err != nil {
			return err
		}
		if step != "" || cmd.Flags().Changed("in") {
			t = ledger.NewTrend(t.What, slices.DeleteFunc(t.Values, func(v ledger.Value) bool {
				return step != "" && v.Step != step || cmd.Flags().Changed("in") && v.Unit != in
			}))
		}
		if t.N == 0 {
			return &session.Misuse{What: fmt.Sprintf("no run that was asked for has measured %q", args[0])}
		}
		if plot != "" && len(t.Parts) > 0 {
			return &session.Misuse{What: fmt.Sprintf("%q is measured %s: choose one for the picture with --step or --in", args[0], partsOf(t))}
		}
		if plot != "" {
			if err := trendPicture(sh, files, plot, t); err != nil {
				return err
			}
		}
		if sh.JSON {
			return sh.PrintJSON(t)
		}
		if len(t.Parts) > 0 {
			sh.Err.Line("%q is measured %s: each by itself", shell.OneLine(args[0]), shell.OneLine(partsOf(t)))
			for _, part := range t.Parts {
				showTrend(sh, part)
				fmt.Fprintln(sh.Out)
			}
			return nil
		}
		showTrend(sh, t)
		return nil
	})
	files.Add(cmd)
	cmd.Flags().StringVar(&plot, "plot", "", "draw the values over time to this file, .png or .svg")
	cmd.Flags().StringVar(&step, "step", "", "only as this step has measured it")
	cmd.Flags().StringVar(&in, "in", "", "only as measured in this unit, such as mV")
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print the result as JSON")
	return cmd
}

// partsOf are the units of measurement and the steps of a trend, in words.
func partsOf(t ledger.Trend) string {
	var units, steps []string
	for _, p := range t.Parts {
		if unit := cmp.Or(p.Unit, "no unit"); !slices.Contains(units, unit) {
			units = append(units, unit)
		}
		if step := fmt.Sprintf("%q", p.Step); !slices.Contains(steps, step) {
			steps = append(steps, step)
		}
	}
	var words []string
	if len(units) > 1 {
		words = append(words, "in "+strings.Join(units, " and "))
	}
	if len(steps) > 1 {
		words = append(words, "in the steps "+strings.Join(steps, ", "))
	}
	return strings.Join(words, ", and ")
}

func trendPicture(sh *shell.Streams, files *shell.Outputs, file string, t ledger.Trend) error {
	var points []report.TrendPoint
	for _, v := range t.Values {
		if v.Value.Finite() {
			points = append(points, report.TrendPoint{At: when(v), Value: float64(v.Value), Low: v.Low, High: v.High, Passed: v.Verdict != verdict.Failed})
		}
	}
	if len(points) == 0 {
		return &session.Misuse{What: fmt.Sprintf("%s has only values that are no number: there is nothing to draw", t.What)}
	}
	return sh.Draw(files, file, report.Trend(t.What, t.Unit, float64(t.Mean), points))
}

// when is the time of a value: its own, or where the ledger has none that of its run.
func when(v ledger.Value) time.Time {
	if v.At.IsZero() {
		return v.Run.Began.Local()
	}
	return v.At.Local()
}

// mostUnits is how many units are listed one by one.
const mostUnits = 40

func showTrend(sh *shell.Streams, t ledger.Trend) {
	s := shell.NewScreen(sh.Out)
	name := s.Bold(shell.OneLine(t.What))
	if t.Step != "" {
		name += fmt.Sprintf(" in %q", shell.OneLine(t.Step))
	}
	fmt.Fprintf(sh.Out, "%s: %s at %s, %s to %s\n", name, shell.Count(t.N, "value"), shell.Count(t.Units, "unit"), localMinute(t.Values[0].Run.Began), localMinute(t.Values[t.N-1].Run.Began))
	byUnit := map[string][]ledger.Value{}
	var units []string
	for _, v := range t.Values {
		if byUnit[v.Run.Unit] == nil {
			units = append(units, v.Run.Unit)
		}
		byUnit[v.Run.Unit] = append(byUnit[v.Run.Unit], v)
	}
	sort.Strings(units)
	rows := [][]string{{"unit", "values", "mean", "min", "max", "latest", ""}}
	for i, u := range units {
		if i == mostUnits {
			break
		}
		one := ledger.NewTrend(t.What, byUnit[u])
		last := byUnit[u][one.N-1]
		note := ""
		if one.Failed > 0 {
			note = fmt.Sprintf("%d outside", one.Failed)
		}
		row := []string{named(u), fmt.Sprint(one.N), shell.PlainNumber(float64(one.Mean)), shell.PlainNumber(float64(one.Min)), shell.PlainNumber(float64(one.Max)), shell.PlainNumber(float64(last.Value)), note}
		if one.None == one.N {
			row[2], row[3], row[4] = "-", "-", "-"
		}
		rows = append(rows, row)
	}
	fmt.Fprintln(sh.Out)
	shell.Table(sh.Out, rows)
	if len(units) > mostUnits {
		fmt.Fprintf(sh.Out, "and %d more units\n", len(units)-mostUnits)
	}
	fmt.Fprintln(sh.Out)
	shell.Table(sh.Out, trendRows(t))
	if t.Ppk != nil && t.N < ledger.EnoughForIndex {
		fmt.Fprintf(sh.Out, "\n%s are few for a capability: %d or more make it worth telling.\n", shell.Count(t.N, "value"), ledger.EnoughForIndex)
	}
}

// trendRows are what all values of a trend come to.
func trendRows(t ledger.Trend) [][]string {
	rows := [][]string{{"mean", shell.WithUnit(shell.PlainNumber(float64(t.Mean)), t.Unit)}}
	if t.None == t.N {
		rows[0][1] = "none"
	}
	if t.SD != nil {
		rows = append(rows, []string{"spread", fmt.Sprintf("standard deviation %s, %s to %s", shell.WithUnit(shell.PlainNumber(float64(*t.SD)), t.Unit), shell.PlainNumber(float64(t.Min)), shell.WithUnit(shell.PlainNumber(float64(t.Max)), t.Unit))})
	}
	if t.Judged == 0 {
		rows = append(rows, []string{"limits", "none: nothing was judged"})
	} else {
		rows = append(rows, []string{"outside", fmt.Sprintf("%d of %d outside their limits", t.Failed, t.Judged)})
	}
	if t.None > 0 {
		rows = append(rows, []string{"none", fmt.Sprintf("%d of %d are no number that could be counted: they are in nothing here but outside", t.None, t.N)})
	}
	switch {
	case t.Moved:
		rows = append(rows, []string{"limits", "not the same for all values, so no capability is told"})
	case t.Low != nil || t.High != nil:
		rows = append(rows, []string{"limits", shell.WithUnit(record.Measurement{Low: t.Low, High: t.High}.Range(), t.Unit)})
	}
	index := func(name, of string, x *stats.Index) {
		if x != nil {
			rows = append(rows, []string{name, fmt.Sprintf("%.2f, with 95 %% confidence %.2f to %.2f (%s)", x.Value, x.Low, x.High, of)})
		}
	}
	index("Ppk", "spread of all values", t.Ppk)
	index("Cpk", "spread of neighbouring values", t.Cpk)
	if t.Means {
		rows = append(rows, []string{"capability", "not told: these are means of values over time, and what they average spreads more"})
	}
	if d := t.Drift; d != nil {
		over := shell.Took(time.Duration(d.OverS * float64(time.Second)))
		low, high := rounded(d.Low), shell.WithUnit(rounded(d.High), t.Unit)
		words := fmt.Sprintf("%s from the first to the last, %s, with 95 %% confidence %s to %s (line of least squares)", rounded(d.Value), over, low, high)
		if !d.Shown() {
			words = fmt.Sprintf("none shown from the first to the last, %s: %s to %s (line of least squares)", over, low, high)
		}
		rows = append(rows, []string{"drift", words})
	}
	return rows
}

// rounded is a number to three digits that count: an estimate has no more.
func rounded(v float64) string {
	v, _ = strconv.ParseFloat(strconv.FormatFloat(v, 'g', 3, 64), 64) // it can be read, having been written
	return shell.PlainNumber(v)
}
