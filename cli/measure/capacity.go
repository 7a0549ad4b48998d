package measure

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/link/capacity"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// linkCapacityCommand is the command link capacity with its flags.
type linkCapacityCommand struct {
	experiment
	maxLoss string
	search  capacity.Search
}

func linkCapacity(sh *shell.Streams) *cobra.Command {
	c := &linkCapacityCommand{experiment: experiment{Streams: sh}}
	cmd := &cobra.Command{
		Use:   "capacity A B",
		Short: "Measure how much a link carries with its loss under a limit",
		Long: `Looks for the highest load at which the loss stays under a limit: from what the
wire carries downwards until it holds, then between what holds and what does not;
both ends are confirmed with more frames at the end.`,
		Example: "uparrot link capacity valley summit --bench larkfell.toml --max-loss 5%",
		Args:    shell.Args(2, 2, "two ports"),
		RunE:    c.run,
	}
	fl := cmd.Flags()
	fl.StringVar(&c.maxLoss, "max-loss", "2%", "greatest loss allowed")
	fl.IntVar(&c.search.Size, "size", 0, "bytes in a frame")
	fl.DurationVar(&c.search.Trial, "trial", capacity.DefaultTrial, "how long each load is kept; RFC 2544 asks for 60s")
	fl.IntVar(&c.search.Fewest, "least", 60, "frames at each load, where the trial is shorter")
	fl.IntVar(&c.search.Most, "most", 100_000, "frames at each load at most")
	fl.DurationVar(&c.search.Deadline, "deadline", 2*time.Second, "frames that arrive later than this count as late, and are waited for so long")
	c.add(cmd, "loss and latency against load")
	return cmd
}

func (c *linkCapacityCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.read(cmd)
	if err != nil {
		return err
	}
	if c.search.MaxLoss, err = stats.ParseShare(c.maxLoss); err != nil || c.search.MaxLoss == 0 {
		return shell.Usage(cmd, "--max-loss %s: wanted a share above zero, such as 2%%", c.maxLoss)
	}
	ends, err := ps.Stations(args...)
	if err != nil {
		return err
	}
	c.search.A, c.search.B = ends[0], ends[1]
	c.search.Every, c.search.Count = time.Second, 1 // each load has its own
	if err := c.search.Check(); err != nil {
		return shell.Usage(cmd, "%v", err)
	}
	if !c.keeps.Quiet {
		c.Err.Line("frames of %d bytes, each load for %v", c.search.Size, c.search.Trial)
	}
	return conduct(&c.experiment, cmd, shell.About(capacity.Name, "capacity", ps, ends...), c.watch, func(events *record.Stream) (capacity.Result, verdict.Verdict, error) {
		c.search.Events = events
		res, err := c.search.Do(cmd.Context())
		return res, res.Verdict, err
	}, report.LoadCurve, printCapacity)
}

// watch tells of each load.
func (c *linkCapacityCommand) watch(e record.Event) {
	if p, ok := e.Live.(capacity.LoadPoint); ok {
		c.Err.Line("  %8.1f frames/s: %d of %d lost, 95 %% within %s", p.Rate, p.Lost, p.Sent, report.MS(p.P95MS))
	}
}

func printCapacity(sh *shell.Streams, res capacity.Result) {
	s := shell.NewScreen(sh.Out)
	fmt.Fprintf(sh.Out, "%s: %s\n", s.Verdict(res.Verdict, 0), res)
	rows := [][]string{{"", "interval", "carried", "of the wire", "lost or late, 95 % interval", "95 % within"}}
	row := func(name string, p *capacity.LoadPoint) {
		if p != nil {
			rows = append(rows, []string{name, fmt.Sprintf("%.1f ms", p.KeptMS), fmt.Sprintf("%.1f frames/s", p.Rate), fmt.Sprintf("%.0f %%", 100*p.Load),
				fmt.Sprintf("%s of %d", report.Share(p.Loss), p.Sent), report.MS(p.P95MS)})
		}
	}
	row("holds", res.Held)
	row("breaks", res.Broken)
	shell.Table(sh.Out, rows)
	if res.Buffer > 0 {
		fmt.Fprintf(sh.Out, "The modules held up to %s before they lost one.\n", shell.Count(res.Buffer, "frame"))
	}
}
