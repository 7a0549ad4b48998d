package cli

import (
	"errors"
	"fmt"
	"sort"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/link/bits"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// testBits runs a bit error test in the place of frames.
func (c *linkTestCommand) testBits(cmd *cobra.Command, ps *session.Ports, ends []*bench.Station) error {
	if _, ok := bits.Patterns[c.bits]; !ok {
		var names []string
		for n := range bits.Patterns {
			names = append(names, n)
		}
		sort.Strings(names)
		return usage(cmd, "--bits %s: %s", c.bits, source.DidYouMean(c.bits, names))
	}
	for _, other := range []string{"count", "every", "size", "both", "window", "load", "max-loss", "max-p95", "until-sure", "walk", "plot", "frames", "checkpoint", "resume", "to", "min-strength"} {
		if cmd.Flags().Changed(other) {
			return usage(cmd, "--%s is about frames, and --bits sends none", other)
		}
	}
	if c.bitTime <= 0 {
		return usage(cmd, "--for %v is no time to test", c.bitTime)
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
	v, err := c.conduct(cmd.Context(), c.keeps, at(bits.Name, linkName(ends), ps, ends...), c.watchBits(), func(events *record.Stream) (verdict.Verdict, error) {
		var err error
		t.Events = events
		res, err = t.Do(cmd.Context())
		return res.Verdict, err
	})
	if err != nil && !errors.Is(err, session.ErrEvidence) && res.Sent == 0 {
		return err
	}
	if c.json {
		err = errors.Join(err, c.printJSON(res))
	} else {
		s := newScreen(c.out)
		fmt.Fprintf(c.out, "%s  %s\n", s.bold(way), s.verdict(res.Verdict, 0))
		c.facts(report.BitRows(res))
	}
	return withVerdict(v, err)
}

// watchBits draws how a bit error test is going.
func (c *linkTestCommand) watchBits() func(record.Event) {
	if c.keeps.quiet {
		return nil
	}
	began := time.Now()
	return func(e record.Event) {
		if r, ok := e.Live.(bits.Result); ok {
			c.err.draw("%s of %v  %d bits compared, %d wrong, %s", took(time.Since(began).Round(100*time.Millisecond)), c.bitTime, r.Compared, r.Errored, count(r.Slips, "slip"))
		}
	}
}

// facts prints names and values, a row each.
func (a *app) facts(rows [][2]string) {
	var all [][]string
	for _, r := range rows {
		all = append(all, []string{"  " + r[0], r[1]})
	}
	table(a.out, all)
}
