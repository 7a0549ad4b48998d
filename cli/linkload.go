package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/phrasebook"
	"uparrot/core/report"
	"uparrot/core/station"
	"uparrot/core/verdict"
)

func (a *app) linkCapacity() *cobra.Command {
	var (
		flags                  portFlags
		maxLoss, plot, recordf string
		c                      link.Capacity
		quiet                  bool
	)
	cmd := &cobra.Command{
		Use:   "capacity A B",
		Short: "How much a link carries with its loss under a limit",
		Long: `Looks for the highest load at which the loss stays under a limit: from what the
wire carries downwards until it holds, then between what holds and what does not;
both ends are confirmed with more frames at the end.`,
		Example: "uparrot link capacity valley summit --bench larkfell.toml --max-loss 5%",
		Args:    args(2, 2, "two ports"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ps, err := flags.read(cmd)
			if err != nil {
				return err
			}
			if c.MaxLoss, err = bench.ParseShare(maxLoss); err != nil || c.MaxLoss == 0 {
				return usage(cmd, "--max-loss %s: wanted a share above zero, such as 2%%", maxLoss)
			}
			for i, end := range []**station.Station{&c.A, &c.B} {
				if *end, err = ps.station(args[i], phrasebook.Setup{}, nil); err != nil {
					return err
				}
			}
			c.Every, c.Count = time.Second, 1 // each load has its own
			if err := c.Check(); err != nil {
				return usage(cmd, "%v", err)
			}
			e, err := a.evidence(onlyRecord(recordf), "link capacity", "capacity", ps, []*station.Station{c.A, c.B})
			if err != nil {
				return err
			}
			c.Record = e.w
			if !quiet {
				a.err.line("frames of %d bytes, %d to %d at each load", c.Size, c.Least, c.Most)
				c.Found = func(p link.LoadPoint) {
					a.err.line("  %8.1f frames/s: %d of %d lost, 95 %% within %.0f ms", p.Rate, p.Lost, p.Sent, p.P95MS)
				}
			}
			res, err := c.Search(cmd.Context())
			if err = e.end(err); err != nil {
				return err
			}
			if plot != "" {
				var points []report.Load
				for _, p := range res.Points {
					points = append(points, report.Load{Rate: p.Rate, Loss: p.Loss.Ratio, Low: p.Loss.Low, High: p.Loss.High, P95: p.P95MS, Holds: p.Loss.Ratio <= c.MaxLoss})
				}
				if err := report.LoadCurve(fmt.Sprintf("%s to %s: what the link carries, frames of %d bytes", args[0], args[1], c.Size), points, c.MaxLoss, plot); err != nil {
					return &errUsage{what: err.Error()}
				}
			}
			if a.json {
				err = a.printJSON(res)
			} else {
				a.capacity(res)
			}
			if err == nil {
				err = verdictError(res.Verdict)
			}
			return err
		},
	}
	flags.add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&maxLoss, "max-loss", "2%", "greatest loss allowed")
	fl.IntVar(&c.Size, "size", 0, "bytes in a frame")
	fl.IntVar(&c.Least, "least", 60, "frames at each load before it is judged")
	fl.IntVar(&c.Most, "most", 400, "frames at each load at most")
	fl.DurationVar(&c.Deadline, "deadline", 2*time.Second, "frames that arrive later than this count as late, and are waited for so long")
	fl.StringVar(&plot, "plot", "", "draw loss and latency against load to this file, .png or .svg")
	fl.StringVar(&recordf, "record", "", recordHelp)
	fl.BoolVar(&a.json, "json", false, "print the result as JSON")
	fl.BoolVar(&quiet, "quiet", false, "no progress while it runs")
	return cmd
}

func (a *app) capacity(res link.CapacityResult) {
	s := newScreen(a.out)
	fmt.Fprintf(a.out, "%s: %s\n", s.verdict(res.Verdict, 0), res)
	rows := [][]string{{"", "interval", "frames/s", "of the wire", "loss, 95 % interval", "95 % within"}}
	row := func(name string, p *link.LoadPoint) {
		if p != nil {
			rows = append(rows, []string{name, fmt.Sprintf("%.1f ms", p.EveryMS), fmt.Sprintf("%.1f", p.Rate), fmt.Sprintf("%.0f %%", 100*p.Load),
				fmt.Sprintf("%s of %d", report.Share(p.Loss), p.Sent), fmt.Sprintf("%.0f ms", p.P95MS)})
		}
	}
	row("holds", res.Held)
	row("breaks", res.Broken)
	table(a.out, rows)
}

func (a *app) linkMap() *cobra.Command {
	var (
		flags         portFlags
		m             link.Map
		plot, recordf string
		quiet         bool
	)
	cmd := &cobra.Command{
		Use:   "map [PORT...]",
		Short: "Who hears whom: each port speaks in turn, all others listen",
		Long: `Lets each port of the bench, or each one named, speak to all while the others
listen. A port of the bench may say who must hear it, hears = ["summit"]; whoever is
not named then must hear nothing.`,
		Example: "uparrot link map --bench larkfell.toml",
		Args:    args(0, -1, "ports"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ps, err := flags.read(cmd)
			if err != nil {
				return err
			}
			if len(args) == 0 && ps.bench != nil {
				args = ps.bench.Names()
			}
			if len(args) < 2 {
				return usage(cmd, "a map needs two ports at least: name them, or a bench with --bench")
			}
			m.Hears = map[string][]string{}
			for _, name := range args {
				st, err := ps.station(name, phrasebook.Setup{}, nil)
				if err != nil {
					return err
				}
				m.Ports = append(m.Ports, st)
				if ps.bench == nil {
					continue
				}
				if p, ok := ps.bench.Port(name); ok && p.Hears != nil {
					m.Hears[name] = *p.Hears
				}
			}
			if m.Count < 1 || m.Every <= 0 || m.Size < link.MinSize {
				return usage(cmd, "--count, --every and --size must be above zero, --size at least %d", link.MinSize)
			}
			e, err := a.evidence(onlyRecord(recordf), "link map", "map", ps, m.Ports)
			if err != nil {
				return err
			}
			m.Record = e.w
			if !quiet {
				m.Told = func(name string) { a.err.line("%s speaks", name) }
			}
			res, err := m.Do(cmd.Context())
			if err = e.end(err); err != nil {
				return err
			}
			if plot != "" {
				if err := plotMap(plot, res); err != nil {
					return &errUsage{what: err.Error()}
				}
			}
			if a.json {
				err = a.printJSON(res)
			} else {
				a.matrix(res)
			}
			if err == nil {
				err = verdictError(res.Verdict)
			}
			return err
		},
	}
	flags.add(cmd)
	fl := cmd.Flags()
	fl.IntVar(&m.Count, "count", 20, "messages from each port")
	fl.DurationVar(&m.Every, "every", 100*time.Millisecond, "from one message to the next")
	fl.IntVar(&m.Size, "size", 40, "bytes in a message")
	fl.DurationVar(&m.Wait, "wait", time.Second, "time to listen after the last message of each")
	fl.StringVar(&plot, "plot", "", "draw the matrix to this file, .png or .svg")
	fl.StringVar(&recordf, "record", "", recordHelp)
	fl.BoolVar(&a.json, "json", false, "print the result as JSON")
	fl.BoolVar(&quiet, "quiet", false, "no progress while it runs")
	return cmd
}

// matrix prints who heard whom, a speaker a line.
func (a *app) matrix(res link.MapResult) {
	s := newScreen(a.out)
	rows := [][]string{append([]string{"speaks \\ listens"}, res.Names...)}
	var wrong []string
	for _, speaker := range res.Names {
		row := []string{speaker}
		for _, listener := range res.Names {
			text := "-"
			for _, c := range res.Cells {
				if c.Speaker != speaker || c.Listener != listener {
					continue
				}
				text = fmt.Sprintf("%d/%d", c.Heard, c.Sent)
				if c.Verdict == verdict.Failed {
					text += " " + s.verdict(c.Verdict, 0)
					want := "must hear " + speaker + " and has heard"
					if c.Wanted == "not hear" {
						want = "must not hear " + speaker + " and has heard"
					}
					wrong = append(wrong, fmt.Sprintf("%s %s %d of %d", listener, want, c.Heard, c.Sent))
				}
			}
			row = append(row, text)
		}
		rows = append(rows, row)
	}
	table(a.out, rows)
	fmt.Fprintf(a.out, "\n%s\n", s.verdict(res.Verdict, 0))
	for _, w := range wrong {
		fmt.Fprintln(a.out, "  "+w)
	}
}

func plotMap(file string, res link.MapResult) error {
	place := map[string]int{}
	for i, n := range res.Names {
		place[n] = i
	}
	var cells []report.Cell
	for _, c := range res.Cells {
		cells = append(cells, report.Cell{Row: place[c.Speaker], Column: place[c.Listener], Text: fmt.Sprintf("%d of %d", c.Heard, c.Sent),
			Share: float64(c.Heard) / float64(c.Sent), Wrong: c.Verdict == verdict.Failed})
	}
	return report.Matrix("Who hears whom", res.Names, cells, file)
}
