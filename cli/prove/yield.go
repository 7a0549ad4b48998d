package prove

import (
	"fmt"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/report"
	"uparrot/core/stats"
)

func resultsYield(sh *shell.Streams) *cobra.Command {
	cmd := withLedger(sh, &cobra.Command{
		Use:   "yield",
		Short: "Show how many units passed at first and in the end, and where they failed",
		Long: `Tells for each procedure how many units passed in their first run and how many in
their last, with 95 % intervals (Wilson), and which steps failed. A run that never came
to its end has not passed. Runs that named no unit are counted apart. --since and
--until choose units by their first run; their later runs count up to --until.`,
		Example: "uparrot results yield --since 2026-11-02",
		Args:    shell.Args(0, 0, "no arguments"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, _ []string) error {
		yields, err := l.Yields(cmd.Context(), f)
		if err != nil {
			return err
		}
		if sh.JSON {
			return sh.PrintJSON(yields)
		}
		if len(yields) == 0 {
			sh.Err.Line("there is no unit in %s whose first run is among those asked for", shell.Safe(l.Where()))
			return nil
		}
		s := shell.NewScreen(sh.Out)
		for i, y := range yields {
			if i > 0 {
				fmt.Fprintln(sh.Out)
			}
			title := shell.OneLine(y.Title)
			if title == "" {
				title = "(ended before its beginning)"
			}
			fmt.Fprintln(sh.Out, s.Bold(title))
			rows := [][]string{{"  units", fmt.Sprintf("%d in %s", y.Units, shell.Count(y.Runs, "run"))}}
			if y.Units > 0 {
				rows = append(rows, []string{"  first pass", passed(y.First, y.Units)}, []string{"  final", passed(y.Final, y.Units)})
			}
			if y.Unnamed > 0 {
				rows = append(rows, []string{"  unnamed", fmt.Sprintf("%s named no unit (--unit) and count for neither", shell.Count(y.Unnamed, "run"))})
			}
			for _, st := range y.Steps {
				rows = append(rows, []string{"  failed at", fmt.Sprintf("%s: %s at %s", shell.OneLine(st.Title), shell.Count(st.Runs, "run"), shell.Count(st.Units, "unit"))})
			}
			shell.Table(sh.Out, rows)
		}
		return nil
	})
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print the result as JSON")
	return cmd
}

// passed is how many of so many units passed, with the share that this points to.
func passed(s stats.Share, units int) string {
	return fmt.Sprintf("%.0f of %d: %s", s.Ratio*float64(units), units, report.Share(s))
}
