package cli

import (
	"errors"
	"fmt"
	"sort"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/link"
	"uparrot/core/source"
	"uparrot/core/station"
)

// bits runs a bit error test in the place of frames.
func (a *app) bits(cmd *cobra.Command, ps *ports, f linkFlags, near, far *station.Station) error {
	if _, ok := link.Patterns[f.bits]; !ok {
		var names []string
		for n := range link.Patterns {
			names = append(names, n)
		}
		sort.Strings(names)
		return usage(cmd, "--bits %s: %s", f.bits, source.DidYouMean(f.bits, names))
	}
	for _, other := range []string{"count", "every", "size", "both", "window", "load", "max-loss", "max-p95", "until-sure", "walk", "plot", "frames", "checkpoint", "resume", "to", "min-strength"} {
		if cmd.Flags().Changed(other) {
			return usage(cmd, "--%s is about frames, and --bits sends none", other)
		}
	}
	if f.bitTime <= 0 {
		return usage(cmd, "--time %v is no time to test", f.bitTime)
	}
	ends := []*station.Station{near}
	if far != nil {
		ends = append(ends, far)
	}
	e, err := a.evidence(f.evidence, "bit error test", linkName(ends), ps, ends)
	if err != nil {
		return err
	}
	e.quiet = e.quiet || f.quiet
	t := &link.Bits{A: near, B: far, Pattern: f.bits, Time: f.bitTime, Record: e.w}
	if cmd.Flags().Changed("max-ber") {
		t.MaxBER = &f.maxBER
	}
	if !f.quiet {
		began := time.Now()
		t.Observe = func(r link.BitsResult) {
			a.err.draw("%s of %v  %d bits compared, %d wrong, %s", took(time.Since(began).Round(100*time.Millisecond)), f.bitTime, r.Compared, r.Errored, count(r.Slips, "slip"))
		}
	}
	res, err := t.Do(cmd.Context())
	a.err.end()
	err = errors.Join(err, e.result(res.Verdict, res))
	e.verdict(res.Verdict, err, f.bitTime)
	if err = e.end(err); err != nil && res.Sent == 0 {
		return err
	}
	if a.json {
		err = errors.Join(err, a.printJSON(res))
	} else {
		a.bitTable(near, far, res)
	}
	return withVerdict(res.Verdict, err)
}

func (a *app) bitTable(near, far *station.Station, r link.BitsResult) {
	s := newScreen(a.out)
	way := near.Name + " looped"
	if far != nil {
		way = near.Name + " to " + far.Name
	}
	fmt.Fprintf(a.out, "%s  %s\n", s.bold(way), s.verdict(r.Verdict, 0))
	ratio := fmt.Sprintf("%.2g, with 95 %% confidence %.2g to %.2g", r.Ratio.Ratio, r.Ratio.Low, r.Ratio.High)
	if r.Errored == 0 && r.Compared > 0 {
		ratio = fmt.Sprintf("none wrong of %d: with 95 %% confidence below %.2g", r.Compared, r.Ratio.High)
	}
	table(a.out, [][]string{
		{"  bits", fmt.Sprintf("%d sent as %s, %d compared, %d wrong, %d while out of step", r.Sent, r.Pattern, r.Compared, r.Errored, r.Outside)},
		{"  ratio", ratio},
		{"  step", fmt.Sprintf("lost %s, %s by %+d bits together", count(r.Losses, "time"), count(r.Slips, "slip"), r.Shifted)},
		{"  seconds", fmt.Sprintf("%d, of them %d available (%.3f %%); %d errored, %d severely (ITU-T G.821)", r.Seconds, r.Available, 100*r.AvailRatio, r.ErroredS, r.Severely)},
		{"  judged", r.Why},
	})
}
