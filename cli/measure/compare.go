package measure

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/link"
	"uparrot/core/link/compare"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/stats"
)

// compared is one comparison with the run it is about.
type compared struct {
	Runs        []string             `json:"runs"`
	Comparisons []compare.Comparison `json:"comparisons"`
}

// linkCompareCommand is the command link compare with its flags.
type linkCompareCommand struct {
	*shell.Streams
	show, plot string
	files      shell.Outputs
}

func linkCompare(sh *shell.Streams) *cobra.Command {
	c := &linkCompareCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "compare RUN RUN...",
		Short: "Test whether the links of several runs really differ",
		Long: `Holds the first run against each of the others: the difference of loss with its
95 % interval, and of latency by a rank test. A run is the summary that
"link test --json" prints, or a record with a link test in it.`,
		Example: "uparrot link compare old-antenna.json new-antenna.json",
		Args:    shell.Args(2, -1, "two or more runs"),
		RunE:    c.run,
	}
	c.files.Add(cmd)
	cmd.Flags().StringVar(&c.show, "show", "1%", "difference of loss for which to tell how many frames would show it")
	cmd.Flags().StringVar(&c.plot, "plot", "", "draw the distributions of latency to this file, .png or .svg")
	sh.AddJSON(cmd, "the comparison")
	return cmd
}

func (c *linkCompareCommand) run(cmd *cobra.Command, files []string) error {
	c.files.Inputs = files
	if err := c.files.PlanPicture(cmd, "plot", c.plot); err != nil {
		return err
	}
	size, err := stats.ParseShare(c.show)
	if err != nil || size == 0 {
		return shell.Usage(cmd, "--show %s: wanted a share above zero, such as 1%%", c.show)
	}
	var runs []link.Summary
	for _, f := range files {
		sum, err := compare.ReadRun(f)
		if err != nil {
			return &session.Misuse{What: err.Error()}
		}
		runs = append(runs, sum)
	}
	if c.plot != "" {
		if err := plotRuns(c.Streams, &c.files, c.plot, files, runs); err != nil {
			return err
		}
	}
	all := []compared{}
	var lists [][]compare.Comparison
	for i := 1; i < len(files); i++ {
		cs, err := compare.Runs(files[0], runs[0], files[i], runs[i], size)
		if err != nil {
			return &session.Misuse{What: err.Error()}
		}
		all = append(all, compared{[]string{files[0], files[i]}, cs})
		lists = append(lists, cs)
	}
	compare.Correct(lists...)
	if c.JSON {
		return c.PrintJSON(all)
	}
	for i, one := range all {
		if i > 0 {
			fmt.Fprintln(c.Out)
		}
		comparison(c.Streams, one, size)
	}
	return nil
}

// comparison prints one run beside another, and what that says.
func comparison(sh *shell.Streams, c compared, size float64) {
	s := shell.NewScreen(sh.Out)
	for i, d := range c.Comparisons {
		if i > 0 {
			fmt.Fprintln(sh.Out)
		}
		fmt.Fprintln(sh.Out, s.Bold(d.Direction))
		rows := [][]string{{"  run", "sent", "lost", "loss, 95 % interval", "median", "95th percentile"}}
		for _, side := range []compare.Side{d.A, d.B} {
			row := []string{"  " + side.Name, fmt.Sprint(side.Sent), fmt.Sprint(side.Lost), report.Share(side.Loss), "", ""}
			if l := side.Latency; l != nil {
				row[4], row[5] = report.MS(l.Median), report.MS(l.P95)
			}
			rows = append(rows, row)
		}
		shell.Table(sh.Out, rows)
		for _, side := range []compare.Side{d.A, d.B} {
			if side.Doubt != "" {
				fmt.Fprintf(sh.Out, "  not sure of %s: %s\n", filepath.Base(side.Name), side.Doubt)
			}
		}
		first, second := filepath.Base(d.A.Name), filepath.Base(d.B.Name)
		interval := fmt.Sprintf("%+.2f percentage points, with 95 %% confidence %+.2f to %+.2f", 100*d.Loss.Value, 100*d.Loss.Low, 100*d.Loss.High)
		switch {
		case d.A.Sent == 0 || d.B.Sent == 0:
			fmt.Fprintln(sh.Out, "  loss: no frame was sent in one of the runs")
		case d.Order != "":
			fmt.Fprintf(sh.Out, "  loss: %s: no difference is claimed (%s)\n", d.Order, interval)
		case d.LossShown && d.Loss.Value > 0:
			fmt.Fprintf(sh.Out, "  loss: %s lost more: %s\n", first, interval)
		case d.LossShown:
			fmt.Fprintf(sh.Out, "  loss: %s lost more: %s\n", second, interval)
		default:
			fmt.Fprintf(sh.Out, "  loss: no difference shown (%s); %d frames in each run would show one of %.3g percentage points in four cases of five\n", interval, d.MoreToSay, 100*size)
		}
		how := fmt.Sprintf("a frame of %s takes longer than one of %s in %.0f %% of pairs, medians %+.1f ms apart (permutation of blocks, p %s)", first, second, 100*d.Ranks.Effect, d.Ranks.Shift, pValue(d.Ranks.Corrected))
		switch {
		case d.A.Latency == nil || d.B.Latency == nil:
			fmt.Fprintln(sh.Out, "  latency: nothing arrived in one of the runs")
		case d.Order != "":
			fmt.Fprintf(sh.Out, "  latency: %s: a run of an earlier version does not tell in which order its frames came, so no difference is claimed\n", d.Order)
		case !d.Slower:
			fmt.Fprintf(sh.Out, "  latency: no difference shown; %s\n", how)
		case d.Ranks.Effect > 0.5:
			fmt.Fprintf(sh.Out, "  latency: %s is slower: %s\n", first, how)
		default:
			fmt.Fprintf(sh.Out, "  latency: %s is slower: %s\n", second, how)
		}
	}
}

func pValue(p float64) string {
	if p < 0.0001 {
		return "below 0.0001"
	}
	return fmt.Sprintf("%.4f", p)
}

// plotRuns draws the latencies of all runs on shared axes.
func plotRuns(sh *shell.Streams, o *shell.Outputs, file string, names []string, runs []link.Summary) error {
	var curves []report.Curve
	for i, r := range runs {
		for j := range r.Directions {
			d := &r.Directions[j]
			bins, err := d.Latencies()
			if err != nil {
				return &session.Misuse{What: names[i] + ": " + err.Error()}
			}
			if len(bins) == 0 {
				continue
			}
			c := report.Curve{Name: filepath.Base(names[i]) + ": " + d.From + " to " + d.To}
			for _, b := range bins {
				c.Add(b.MS, b.Count)
			}
			curves = append(curves, c)
		}
	}
	return sh.Draw(o, file, report.Distribution("How long frames took", curves))
}
