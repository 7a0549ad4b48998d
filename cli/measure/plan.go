package measure

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/link"
	"uparrot/core/stats"
)

// linkPlanCommand is the command link plan with its flags.
type linkPlanCommand struct {
	*shell.Streams
	ports    shell.PortFlags
	plan     link.Plan
	maxLoss  string
	maxCount int
	losses   []string
	burst    float64
	times    int
}

func linkPlan(sh *shell.Streams) *cobra.Command {
	c := &linkPlanCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "plan [A [B]]",
		Short: "Work out how sure a link test would be, before it is made",
		Long: `Makes a link test many times at links that there are not, each judged as the test
itself would: how often it would pass, fail or stay undecided at a link that loses so
much, and how long it would take. No port is opened; with ports of a bench the plan is
held against their lines and carriers too.`,
		Example: "uparrot link plan valley summit --bench larkfell.toml --max-loss 2% --count 1000",
		Args:    shell.Args(0, 2, "the ports of the link, or nothing"),
		RunE:    c.run,
	}
	c.ports.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&c.maxLoss, "max-loss", "", "greatest loss allowed, such as 2%")
	fl.IntVar(&c.plan.Count, "count", 200, "frames in each direction")
	fl.DurationVar(&c.plan.Every, "every", 100*time.Millisecond, "from one frame to the next")
	fl.DurationVar(&c.plan.Deadline, "deadline", 2*time.Second, "frames that arrive later than this count as late")
	fl.BoolVar(&c.plan.Both, "both", false, "also from B to A, at the same time: the test passes where both directions do")
	fl.BoolVar(&c.plan.Sure, "until-sure", false, "go on until the limit is decided, at most --max-count frames")
	fl.IntVar(&c.maxCount, "max-count", 100_000, "with --until-sure: the most frames in each direction")
	fl.StringSliceVar(&c.losses, "loss", nil, "links that lose so much, such as 1%,3%; some around the limit unless given")
	fl.Float64Var(&c.burst, "burst", 1, "mean length of a burst of lost frames; 1 is each by itself")
	fl.IntVar(&c.times, "times", 0, "how often the test is made at each link; as often as ten seconds allow unless given")
	fl.Uint64Var(&c.plan.Seed, "seed", 1, "of all that is drawn")
	sh.AddJSON(cmd, "the plan")
	return cmd
}

// around are the links that are looked at, as parts of the limit.
var around = []float64{0.25, 0.5, 0.75, 1, 1.25, 1.5, 2, 3}

func (c *linkPlanCommand) run(cmd *cobra.Command, args []string) error {
	if c.maxLoss == "" {
		return shell.Usage(cmd, "--max-loss: say which loss is allowed, such as 2%%")
	}
	most, err := stats.ParseShare(c.maxLoss)
	if err != nil || most <= 0 || most >= 1 {
		return shell.Usage(cmd, "--max-loss: %s is not a percentage from 0 to 100 %%", c.maxLoss)
	}
	c.plan.Limits.MaxLoss = &most
	losses, err := c.links(most)
	if err != nil {
		return shell.Usage(cmd, "%v", err)
	}
	if c.plan.Sure {
		if cmd.Flags().Changed("count") {
			return shell.Usage(cmd, "--until-sure takes --max-count, not --count")
		}
		c.plan.Count = c.maxCount
	}
	switch {
	case c.plan.Count < 1 || c.plan.Count > 10_000_000:
		return shell.Usage(cmd, "%d frames is outside 1..10000000", c.plan.Count)
	case c.plan.Every < 0 || c.plan.Deadline < 0:
		return shell.Usage(cmd, "--every and --deadline are not below zero")
	case c.burst < 1 || c.burst > 10_000:
		return shell.Usage(cmd, "--burst %v is outside 1..10000", c.burst)
	case c.times < 0 || c.times > 1_000_000:
		return shell.Usage(cmd, "--times %d is outside 1..1000000", c.times)
	}
	if err := c.atPorts(cmd, args); err != nil {
		return err
	}
	if c.times == 0 { // some ten million frames a second
		c.times = min(5000, max(100, 50_000_000/(c.plan.Count*len(losses))))
	}
	var all []link.Foreseen
	for _, loss := range losses {
		if err := cmd.Context().Err(); err != nil {
			return err
		}
		all = append(all, c.plan.Foresee(loss, c.burst, c.times, c.plan.Seed))
	}
	if c.JSON {
		return c.PrintJSON(c.data(most, all))
	}
	c.tell(most, all)
	return nil
}

// links are the losses of the links that are looked at.
func (c *linkPlanCommand) links(most float64) (all []float64, err error) {
	for _, text := range c.losses {
		loss, err := stats.ParseShare(text)
		if err != nil {
			return nil, fmt.Errorf("--loss: %w", err)
		}
		all = append(all, loss)
	}
	for _, part := range around {
		if loss := part * most; len(c.losses) == 0 && loss <= 1 {
			all = append(all, loss)
		}
	}
	return all, nil
}

// atPorts holds the plan against the ports that are named.
func (c *linkPlanCommand) atPorts(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if len(args) == 2 && args[0] == args[1] {
		return shell.Usage(cmd, "both ends are %s: a link has two", args[0])
	}
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return err
	}
	t := &link.Test{Plan: c.plan}
	for i, name := range args {
		st, err := ps.Absent(name)
		if err != nil {
			return shell.WithExample(cmd, err)
		}
		if i == 0 {
			t.A = st
		} else {
			t.B = st
		}
	}
	if t.B == nil {
		t.To = "1" // of any address: its length counts
	}
	if err := t.Check(); err != nil {
		return shell.Usage(cmd, "%v", err)
	}
	for _, w := range t.Warnings() {
		c.Err.Line("warning: %s", shell.Safe(w))
	}
	return nil
}

func (c *linkPlanCommand) data(most float64, all []link.Foreseen) any {
	type one struct {
		link.Foreseen
		TookS     float64 `json:"took_s"`
		TookMostS float64 `json:"took_p95_s"`
	}
	list := []one{}
	for _, f := range all {
		list = append(list, one{f, f.Took.Seconds(), f.TookMost.Seconds()})
	}
	return map[string]any{"max_loss": most, "count": c.plan.Count, "every_ms": float64(c.plan.Every.Microseconds()) / 1000, "until_sure": c.plan.Sure, "burst": c.burst, "times": c.times, "seed": c.plan.Seed, "links": list}
}

func (c *linkPlanCommand) tell(most float64, all []link.Foreseen) {
	frames := shell.Count(c.plan.Count, "frame")
	if c.plan.Sure {
		frames = "until sure, " + frames + " at most"
	}
	fmt.Fprintf(c.Out, "%s, one every %v, at most %s lost; %s at each link, losses %s, seed %d\n\n",
		frames, c.plan.Every, stats.Percent(most), shell.Count(c.times, "test"), map[bool]string{true: "each by itself", false: fmt.Sprintf("in bursts of %v on average", c.burst)}[c.burst == 1], c.plan.Seed)
	rows := [][]string{{"the link loses", "passed", "failed", "undecided", "takes", "at most"}}
	for _, f := range all {
		mark := stats.Percent(f.Loss)
		if f.Loss == most {
			mark += " (the limit)"
		}
		rows = append(rows, []string{mark, stats.Percent(f.Passed.Ratio), stats.Percent(f.Failed.Ratio), stats.Percent(f.Undecided.Ratio), shell.Took(f.Took), shell.Took(f.TookMost)})
	}
	shell.Table(c.Out, rows)
	var wrong []string
	for _, f := range all {
		switch {
		case f.Loss > most && f.Passed.High > 0.05:
			wrong = append(wrong, fmt.Sprintf("a link of %s may pass (%s to %s of tests)", stats.Percent(f.Loss), stats.Percent(f.Passed.Low), stats.Percent(f.Passed.High)))
		case f.Loss < most && f.Failed.High > 0.05:
			wrong = append(wrong, fmt.Sprintf("a link of %s may fail (%s to %s of tests)", stats.Percent(f.Loss), stats.Percent(f.Failed.Low), stats.Percent(f.Failed.High)))
		}
	}
	fmt.Fprintln(c.Out)
	if len(wrong) > 0 {
		fmt.Fprintf(c.Out, "%s\n", strings.Join(wrong, "\n"))
	}
	if c.plan.Both {
		fmt.Fprintln(c.Out, "each direction is judged so by itself; the test passes where both do")
	}
}
