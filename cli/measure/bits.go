package measure

import (
	"errors"
	"fmt"
	"sort"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/link/bits"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// testBits runs a bit error test in the place of frames.
func (c *LinkTestCommand) testBits(cmd *cobra.Command, ps *session.Ports, ends []*bench.Station) error {
	if _, ok := bits.Patterns[c.bits]; !ok {
		var names []string
		for n := range bits.Patterns {
			names = append(names, n)
		}
		sort.Strings(names)
		return shell.Usage(cmd, "--bits %s: %s", c.bits, source.DidYouMean(c.bits, names))
	}
	for _, other := range []string{"count", "every", "size", "both", "window", "load", "max-loss", "max-p95", "until-sure", "walk", "plot", "frames", "checkpoint", "resume", "to", "min-strength"} {
		if cmd.Flags().Changed(other) {
			return shell.Usage(cmd, "--%s is about frames, and --bits sends none", other)
		}
	}
	if c.bitTime <= 0 {
		return shell.Usage(cmd, "--for %v is no time to test", c.bitTime)
	}
	t := &bits.Test{A: ends[0], Pattern: c.bits, Time: c.bitTime}
	way := ends[0].Name + " looped"
	if len(ends) > 1 {
		t.B, way = ends[1], ends[0].Name+" to "+ends[1].Name
	}
	if cmd.Flags().Changed("max-ber") {
		t.MaxBER = &c.maxBER
	}
	var res bits.Result
	v, err := c.Conduct(cmd.Context(), c.Keeps, shell.About(bits.Name, linkName(ends), ps, ends...), c.watchBits(), func(events *record.Stream) (verdict.Verdict, error) {
		var err error
		t.Events = events
		res, err = t.Do(cmd.Context())
		return res.Verdict, err
	})
	if err != nil && !errors.Is(err, session.ErrEvidence) && res.Sent == 0 {
		return err
	}
	if c.JSON {
		err = errors.Join(err, c.PrintJSON(res))
	} else {
		s := shell.NewScreen(c.Out)
		fmt.Fprintf(c.Out, "%s  %s\n", s.Bold(way), s.Verdict(res.Verdict, 0))
		c.Facts(report.BitRows(res))
	}
	return shell.WithVerdict(v, err)
}

// watchBits draws how a bit error test is going.
func (c *LinkTestCommand) watchBits() func(record.Event) {
	if c.Keeps.Quiet {
		return nil
	}
	began := time.Now()
	return func(e record.Event) {
		if r, ok := e.Live.(bits.Result); ok {
			c.Err.Draw("%s of %v  %d bits compared, %d wrong, %s", shell.Took(time.Since(began).Round(100*time.Millisecond)), c.bitTime, r.Compared, r.Errored, shell.Count(r.Slips, "slip"))
		}
	}
}
