package measure

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/link/frame"
	"uparrot/core/link/hearing"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/verdict"
)

// linkMapCommand is the command link map with its flags.
type linkMapCommand struct {
	experiment
	m hearing.Map
}

func linkMap(sh *shell.Streams) *cobra.Command {
	c := &linkMapCommand{experiment: experiment{Streams: sh}}
	cmd := &cobra.Command{
		Use:   "map [PORT...]",
		Short: "Test who hears whom: each port sends in turn, all others listen",
		Long: `Lets each port of the bench, or each one named, speak to all while the others
listen. A port of the bench may say who must hear it, hears = ["summit"]; whoever is
not named then must hear nothing.`,
		Example: "uparrot link map --bench larkfell.toml",
		Args:    shell.Args(0, -1, "ports"),
		RunE:    c.run,
	}
	fl := cmd.Flags()
	fl.IntVar(&c.m.Count, "count", 20, "messages from each port")
	fl.DurationVar(&c.m.Every, "every", 100*time.Millisecond, "from one message to the next")
	fl.IntVar(&c.m.Size, "size", 40, "bytes in a message")
	fl.DurationVar(&c.m.Wait, "wait", time.Second, "time to listen after the last message of each")
	c.add(cmd, "the matrix")
	return cmd
}

func (c *linkMapCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.read(cmd)
	if err != nil {
		return err
	}
	if len(args) == 0 && ps.Bench != nil {
		args = ps.Bench.Names()
	}
	if len(args) < 2 {
		return shell.Usage(cmd, "a map needs two ports at least: name them, or a bench with --bench")
	}
	if c.m.Count < 1 || c.m.Every <= 0 || c.m.Size < frame.MinSize {
		return shell.Usage(cmd, "--count, --every and --size must be above zero, --size at least %d", frame.MinSize)
	}
	if c.m.Ports, err = ps.Stations(args...); err != nil {
		return err
	}
	c.m.Hears = map[string][]string{}
	for _, name := range args {
		if ps.Named(name) {
			if p, _ := ps.Bench.Port(name); p.Hears != nil {
				c.m.Hears[name] = *p.Hears
			}
		}
	}
	return conduct(&c.experiment, cmd, shell.About(hearing.Name, "map", ps, c.m.Ports...), c.watch, func(events *record.Stream) (hearing.Result, verdict.Verdict, error) {
		c.m.Events = events
		res, err := c.m.Do(cmd.Context())
		return res, res.Verdict, err
	}, report.Matrix, matrix)
}

// watch tells who speaks.
func (c *linkMapCommand) watch(e record.Event) {
	if name, ok := e.Live.(hearing.Speaking); ok {
		c.Err.Line("%s speaks", name)
	}
}

// matrix prints who heard whom, a speaker a line.
func matrix(sh *shell.Streams, res hearing.Result) {
	s := shell.NewScreen(sh.Out)
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
					text += " " + s.Verdict(c.Verdict, 0)
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
	shell.Table(sh.Out, rows)
	fmt.Fprintf(sh.Out, "\n%s\n", s.Verdict(res.Verdict, 0))
	for _, w := range wrong {
		fmt.Fprintln(sh.Out, "  "+w)
	}
}
