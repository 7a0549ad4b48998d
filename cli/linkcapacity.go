package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/link/capacity"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// linkCapacityCommand is the command link capacity with its flags.
type linkCapacityCommand struct {
	*app
	ports         portFlags
	keeps         evidenceFlags
	maxLoss, plot string
	search        capacity.Search
	files         outputs
}

func (a *app) linkCapacity() *cobra.Command {
	c := &linkCapacityCommand{app: a}
	cmd := &cobra.Command{
		Use:   "capacity A B",
		Short: "How much a link carries with its loss under a limit",
		Long: `Looks for the highest load at which the loss stays under a limit: from what the
wire carries downwards until it holds, then between what holds and what does not;
both ends are confirmed with more frames at the end.`,
		Example: "uparrot link capacity valley summit --bench larkfell.toml --max-loss 5%",
		Args:    args(2, 2, "two ports"),
		RunE:    c.run,
	}
	c.ports.add(cmd)
	c.keeps.add(cmd)
	c.files.add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&c.maxLoss, "max-loss", "2%", "greatest loss allowed")
	fl.IntVar(&c.search.Size, "size", 0, "bytes in a frame")
	fl.DurationVar(&c.search.Trial, "trial", capacity.DefaultTrial, "how long each load is kept; RFC 2544 asks for 60s")
	fl.IntVar(&c.search.Fewest, "least", 60, "frames at each load, where the trial is shorter")
	fl.IntVar(&c.search.Most, "most", 100_000, "frames at each load at most")
	fl.DurationVar(&c.search.Deadline, "deadline", 2*time.Second, "frames that arrive later than this count as late, and are waited for so long")
	fl.StringVar(&c.plot, "plot", "", "draw loss and latency against load to this file, .png or .svg")
	fl.BoolVar(&c.keeps.quiet, "quiet", false, "no progress while it runs")
	a.addJSON(cmd, "the result")
	return cmd
}

func (c *linkCapacityCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.ports.read(cmd)
	if err != nil {
		return err
	}
	c.files.Inputs = ps.Files()
	if err := c.files.planPicture(cmd, "plot", c.plot); err != nil {
		return err
	}
	if c.search.MaxLoss, err = stats.ParseShare(c.maxLoss); err != nil || c.search.MaxLoss == 0 {
		return usage(cmd, "--max-loss %s: wanted a share above zero, such as 2%%", c.maxLoss)
	}
	ends, err := ps.Stations(args...)
	if err != nil {
		return err
	}
	c.search.A, c.search.B = ends[0], ends[1]
	c.search.Every, c.search.Count = time.Second, 1 // each load has its own
	if err := c.search.Check(); err != nil {
		return usage(cmd, "%v", err)
	}
	var res capacity.Result
	v, err := c.conduct(cmd.Context(), c.keeps, at(capacity.Name, "capacity", ps, ends...), c.watch(), func(events *record.Stream) (verdict.Verdict, error) {
		var err error
		c.search.Events = events
		res, err = c.search.Do(cmd.Context())
		return res.Verdict, err
	})
	if err != nil && !errors.Is(err, session.ErrEvidence) {
		return err
	}
	err = errors.Join(err, c.draw(&c.files, c.plot, report.LoadCurve(res)))
	if c.json {
		err = errors.Join(err, c.printJSON(res))
	} else {
		c.printCapacity(res)
	}
	return withVerdict(v, err)
}

// watch tells of each load.
func (c *linkCapacityCommand) watch() func(record.Event) {
	if c.keeps.quiet {
		return nil
	}
	c.err.line("frames of %d bytes, each load for %v", c.search.Size, c.search.Trial)
	return func(e record.Event) {
		if p, ok := e.Live.(capacity.LoadPoint); ok {
			c.err.line("  %8.1f frames/s: %d of %d lost, 95 %% within %s", p.Rate, p.Lost, p.Sent, report.MS(p.P95MS))
		}
	}
}

func (a *app) printCapacity(res capacity.Result) {
	s := newScreen(a.out)
	fmt.Fprintf(a.out, "%s: %s\n", s.verdict(res.Verdict, 0), res)
	rows := [][]string{{"", "interval", "carried", "of the wire", "lost or late, 95 % interval", "95 % within"}}
	row := func(name string, p *capacity.LoadPoint) {
		if p != nil {
			rows = append(rows, []string{name, fmt.Sprintf("%.1f ms", p.KeptMS), fmt.Sprintf("%.1f frames/s", p.Rate), fmt.Sprintf("%.0f %%", 100*p.Load),
				fmt.Sprintf("%s of %d", report.Share(p.Loss), p.Sent), report.MS(p.P95MS)})
		}
	}
	row("holds", res.Held)
	row("breaks", res.Broken)
	table(a.out, rows)
	if res.Buffer > 0 {
		fmt.Fprintf(a.out, "The modules held up to %s before they lost one.\n", count(res.Buffer, "frame"))
	}
}
