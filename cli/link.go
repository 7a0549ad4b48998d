package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/phrasebook"
	"uparrot/core/port/portlist"
	"uparrot/core/report"
	"uparrot/core/source"
	"uparrot/core/station"
)

func (a *app) link() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "link",
		Short:   "Measures the link between two ports",
		Example: "uparrot link test valley summit --bench larkfell.toml --both",
		Args:    cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage(cmd, "link has no command %q. %s", args[0], source.DidYouMean(args[0], []string{"test", "answer", "map", "capacity", "compare", "budget"}))
			}
			return cmd.Help()
		},
	}
	cmd.AddCommand(a.linkTest(), a.linkAnswer(), a.linkMap(), a.linkCapacity(), a.linkCompare(), a.linkBudget())
	return cmd
}

// linkFlags are the flags of link test as given.
type linkFlags struct {
	ports        portFlags
	plan         link.Plan
	maxLoss      string
	maxP95       time.Duration
	minStrength  float64
	frames       string
	evidence     evidenceFlags
	plot, load   string
	size         string
	save, resume string
	walk         bool
	bits         string
	bitTime      time.Duration
	maxBER       float64
	maxCount     int
	quiet        bool
}

func (a *app) linkTest() *cobra.Command {
	var f linkFlags
	cmd := &cobra.Command{
		Use:   "test A [B]",
		Short: "Loss, latency, order and damage between two ports, or there and back",
		Long: `Sends numbered frames from A to B, with --both also from B to A at the same time,
and counts what arrives. With one port it is a round trip: "uparrot link answer"
repeats the frames at the far end, or a plug joins TX and RX. A and B are names on
the bench or addresses such as /dev/ttyUSB0. Where a phrasebook tells how a payload
travels through the module, frames go that way; else in binary as they are, and as
text where the line does not take all bytes.

With limits, exit status 4 means that too few frames were sent to tell.`,
		Example: "uparrot link test valley summit --bench larkfell.toml --count 200 --every 50ms --max-loss 2% --max-p95 150ms",
		Args:    args(1, 2, "one or two ports"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ps, err := f.ports.read(cmd)
			if err != nil {
				return err
			}
			if len(args) == 2 && args[0] == args[1] {
				return usage(cmd, "both ends are %s: a link has two", args[0])
			}
			if (f.plan.Sure || f.walk) && !cmd.Flags().Changed("count") {
				f.plan.Count = f.maxCount
			} else if cmd.Flags().Changed("max-count") {
				return usage(cmd, "--max-count goes with --until-sure and --walk; else --count says how many")
			}
			if err := f.sizes(); err != nil {
				return usage(cmd, "--size %s: %v", f.size, err)
			}
			t := &link.Test{Plan: f.plan}
			if err := f.limits(cmd, t); err != nil {
				return err
			}
			var ends [2]*station.Station
			for i, name := range args {
				if ends[i], err = ps.station(name, phrasebook.Setup{}, nil); err != nil {
					return err
				}
			}
			t.A, t.B = ends[0], ends[1]
			if f.bits != "" {
				return a.bits(cmd, ps, f, t.A, t.B)
			}
			if f.load != "" {
				share, err := bench.ParseShare(f.load)
				if err != nil || share == 0 {
					return usage(cmd, "--load %s: wanted a share of the wire above zero, such as 50%%", f.load)
				}
				if cmd.Flags().Changed("every") {
					return usage(cmd, "--load says how often frames go, and so does --every: give one of them")
				}
				if err := t.Check(); err != nil { // it settles the size
					return usage(cmd, "%v", err)
				}
				t.Every = t.EveryForLoad(share)
			} else if f.plan.Window > 0 && !cmd.Flags().Changed("every") {
				t.Every = 0 // as soon as there is room
			}
			if err := t.Check(); err != nil {
				return usage(cmd, "%v", err)
			}
			if f.resume != "" {
				if t.Resume, err = link.ReadCheckpoint(f.resume); err != nil {
					return &errUsage{what: err.Error()}
				}
				if was := t.Resume.Summary; was.Size != t.Size || len(was.Directions) > 0 && was.Directions[0].From != t.A.Name {
					return usage(cmd, "--resume %s: that test sent frames of %d bytes from %s: give the same plan", f.resume, was.Size, was.Directions[0].From)
				}
				if f.frames != "" {
					return usage(cmd, "--resume goes on with the counts alone: --frames would begin in the midst")
				}
			}
			for _, w := range t.Warnings() {
				a.err.line("warning: %s", safe(w))
			}
			sum, err := a.doLinkTest(cmd.Context(), ps, t, f)
			if err != nil && !a.json && (len(sum.Directions) == 0 || sum.Directions[0].Sent == 0) {
				return err // there is nothing to sum up
			}
			if perr := a.summary(sum); perr != nil {
				err = errors.Join(err, perr)
			}
			if err == nil {
				err = verdictError(sum.Verdict)
			}
			return err
		},
	}
	f.ports.add(cmd)
	fl := cmd.Flags()
	fl.IntVar(&f.plan.Count, "count", 200, "frames in each direction")
	fl.DurationVar(&f.plan.Every, "every", 100*time.Millisecond, "from one frame to the next")
	fl.StringVar(&f.size, "size", "", fmt.Sprintf("bytes in a frame, at least %d, or %d in binary (%d, or the least); a list 24,48,96 or a sweep 24..96/8 takes them in turn", link.MinSize, link.MinBinary, link.DefaultSize))
	fl.Float64Var(&f.plan.AirRate, "air-rate", 0, "bits a second in the air, if known: a plan that the air cannot keep is then warned of")
	fl.DurationVar(&f.plan.Preamble, "preamble", 0, "preamble before each frame in the air, if known")
	fl.IntVar(&f.plan.Window, "window", 0, "send as soon as fewer than so many frames are on their way; with --every not before that either")
	fl.StringVar(&f.load, "load", "", "send so often that frames take this share of the wire, such as 50%")
	fl.StringVar(&f.plan.To, "to", "", "for a round trip: the far end's address, where the carrier needs one")
	fl.BoolVar(&f.plan.Both, "both", false, "also from B to A, at the same time")
	fl.DurationVar(&f.plan.Deadline, "deadline", 2*time.Second, "frames that arrive later than this count as late")
	fl.StringVar(&f.maxLoss, "max-loss", "", "greatest loss allowed, such as 2%")
	fl.DurationVar(&f.maxP95, "max-p95", 0, "greatest 95th percentile of latency allowed, such as 150ms")
	fl.Float64Var(&f.minStrength, "min-strength", 0, "least mean strength allowed, in dBm, such as -115")
	fl.BoolVar(&f.plan.Sure, "until-sure", false, "go on until the limits are decided, at most --max-count frames")
	fl.IntVar(&f.maxCount, "max-count", 100_000, "with --until-sure: the most frames in each direction")
	fl.DurationVar(&f.plan.MaxTime, "max-time", 0, "stop after this time in any case")
	fl.StringVar(&f.bits, "bits", "", "test bits instead of frames, through a transparent link: prbs9, prbs15 or prbs23 (ITU-T O.150)")
	fl.DurationVar(&f.bitTime, "time", 10*time.Second, "with --bits: how long")
	fl.Float64Var(&f.maxBER, "max-ber", 0, "with --bits: greatest ratio of wrong bits allowed, such as 1e-6")
	fl.BoolVar(&f.walk, "walk", false, "range walk: a live line to glance at, and results for each stretch between marks set with Enter")
	fl.StringVar(&f.save, "checkpoint", "", "keep in this file, once a minute, how far the test has come")
	fl.StringVar(&f.resume, "resume", "", "go on from a checkpoint, with the same plan")
	fl.StringVar(&f.plot, "plot", "", "draw pictures beside this file, .png or .svg: NAME-time, NAME-distribution, NAME-strength")
	fl.StringVar(&f.frames, "frames", "", "write one row a frame to this CSV file")
	f.evidence.add(cmd)
	fl.BoolVar(&a.json, "json", false, "print the summary as JSON")
	fl.BoolVar(&f.quiet, "quiet", false, "no progress while it runs")
	return cmd
}

// sizes reads one size, a list or a sweep.
func (f *linkFlags) sizes() error {
	if f.size == "" {
		return nil
	}
	wanted := errors.New("wanted a number of bytes, a list such as 24,48,96 or a sweep such as 24..96/8")
	if low, rest, ok := strings.Cut(f.size, ".."); ok {
		high, step, _ := strings.Cut(rest, "/")
		from, err1 := strconv.Atoi(low)
		to, err2 := strconv.Atoi(high)
		by, err3 := strconv.Atoi(step)
		if err1 != nil || err2 != nil || err3 != nil || from < 1 || to < from || by < 1 || (to-from)/by > 1000 {
			return wanted
		}
		for n := from; n <= to; n += by {
			f.plan.Sizes = append(f.plan.Sizes, n)
		}
		return nil
	}
	for _, text := range strings.Split(f.size, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(text))
		if err != nil || n < 1 {
			return wanted
		}
		f.plan.Sizes = append(f.plan.Sizes, n)
	}
	if len(f.plan.Sizes) == 1 {
		f.plan.Size, f.plan.Sizes = f.plan.Sizes[0], nil
	}
	return nil
}

func (f *linkFlags) limits(cmd *cobra.Command, t *link.Test) error {
	if f.maxLoss != "" {
		v, err := bench.ParseShare(f.maxLoss)
		if err != nil {
			return usage(cmd, "--max-loss: %v", err)
		}
		t.Limits.MaxLoss = &v
	}
	if f.maxP95 < 0 {
		return usage(cmd, "--max-p95: %v is below zero", f.maxP95)
	}
	if f.maxP95 > 0 {
		v := float64(f.maxP95.Microseconds()) / 1000
		t.Limits.MaxP95MS = &v
	}
	if cmd.Flags().Changed("min-strength") {
		t.Limits.MinDBm = &f.minStrength
	}
	if f.plan.Deadline <= 0 {
		return usage(cmd, "--deadline: %v is no time to wait", f.plan.Deadline)
	}
	return nil
}

func (a *app) linkAnswer() *cobra.Command {
	var flags portFlags
	var recordFile string
	cmd := &cobra.Command{
		Use:   "answer PORT",
		Short: "The far end: repeats every test frame back with its own times",
		Long: `Repeats every test frame that comes at a port, until it is told to stop (Ctrl-C).
Its times of receiving and sending go back in the frame, so that "uparrot link test"
at the near end can take its share out.`,
		Example: "uparrot link answer /dev/ttyUSB1 --phrasebook dunlin.toml",
		Args:    args(1, 1, "one port"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ps, err := flags.read(cmd)
			if err != nil {
				return err
			}
			st, err := ps.station(args[0], phrasebook.Setup{}, nil)
			if err != nil {
				return err
			}
			e, err := a.evidence(onlyRecord(recordFile), "link answer", st.Name, ps, []*station.Station{st})
			if err != nil {
				return err
			}
			far := &link.Answer{Station: st, Record: e.w}
			fmt.Fprintf(a.out, "answering at %s (%s)\n", st.Address, st.Setup.Words())
			a.err.line("Ctrl-C ends it.")
			err = e.end(far.Do(cmd.Context()))
			fmt.Fprintf(a.out, "%s repeated\n", count(int(far.Repeated.Load()), "frame"))
			return err
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&recordFile, "record", "", recordHelp)
	return cmd
}

// doLink runs a link test with its files.
func (a *app) doLinkTest(ctx context.Context, ps *ports, t *link.Test, f linkFlags) (sum link.Summary, err error) {
	ends := []*station.Station{t.A}
	if t.B != nil {
		ends = append(ends, t.B)
	}
	e, err := a.evidence(f.evidence, "link test", linkName(ends), ps, ends)
	if err != nil {
		return sum, err
	}
	e.quiet = e.quiet || f.quiet
	began := time.Now()
	defer func() {
		e.verdict(sum.Verdict, err, time.Since(began))
		err = e.end(err)
	}()
	t.Record = e.w
	if f.save != "" {
		t.Checkpoint = func(c link.Checkpoint) error { return c.Write(f.save) }
	}
	var points *report.Frames
	var takers []func(from, to string, r link.Row)
	if f.plot != "" {
		points = report.NewFrames()
		takers = append(takers, points.Row)
	}
	var walk *walker
	if f.walk {
		walk = a.newWalker(t.Every)
		takers = append(takers, walk.walk.Row)
		t.Stop = walk.stop
	}
	if f.frames != "" {
		file, ferr := os.OpenFile(f.frames, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
		if ferr != nil {
			return sum, &errUsage{what: fmt.Sprintf("make the file of frames: %v", ferr)}
		}
		rows := report.NewFrameTable(file)
		takers = append(takers, rows.Row)
		defer func() { err = errors.Join(err, rows.Close(), file.Close()) }()
	}
	if len(takers) > 0 {
		t.Row = func(from, to string, r link.Row) {
			for _, take := range takers {
				take(from, to, r)
			}
		}
	}
	switch {
	case walk != nil:
		t.Observe = walk.observe
	case !f.quiet:
		t.Observe = a.linkProgress(t)
	}
	defer a.err.end()
	sum, err = t.Do(ctx)
	tellHoldBack(t, &sum)
	if walk != nil {
		sum.Stretches = walk.walk.Stretches()
	}
	if points != nil && len(sum.Directions) > 0 {
		err = errors.Join(err, report.Pictures(f.plot, points, sum))
	}
	return sum, err
}

// linkName names a link by its ends.
func linkName(ends []*station.Station) string {
	names := []string{"link"}
	for _, e := range ends {
		names = append(names, e.Name)
	}
	return strings.Join(names, "-")
}

// tellHoldBack notes how long the receiving adapters may gather bytes. Where the
// system does not tell, nothing is noted.
func tellHoldBack(t *link.Test, sum *link.Summary) {
	all, err := portlist.List()
	if err != nil {
		return
	}
	held := map[string]*int{}
	for _, p := range all {
		held[p.Path] = p.HoldBack
	}
	for i := range sum.Directions {
		d := &sum.Directions[i]
		receiver := t.A
		if t.B != nil && d.To == t.B.Name {
			receiver = t.B
		}
		path := receiver.Address
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
		}
		d.HoldMS = held[path]
	}
}

// linkProgress draws how a test is going; where that cannot be drawn, it says
// so every ten seconds.
func (a *app) linkProgress(t *link.Test) func([]link.Progress) {
	began, told := time.Now(), time.Now()
	if long := took(time.Duration(t.Count) * t.Every); t.Sure {
		a.err.line("frames of %d bytes, one every %v, until the limits are decided: %s at most", t.Size, t.Every, long)
	} else {
		a.err.line("%s of %d bytes, one every %v: about %s", count(t.Count, "frame"), t.Size, t.Every, long)
	}
	return func(all []link.Progress) {
		var parts []string
		for _, d := range all {
			part := fmt.Sprintf("%s to %s: %d sent, %d received", d.From, d.To, d.Sent, d.Received)
			if d.Mean > 0 {
				part += fmt.Sprintf(", on average after %.1f ms", d.Mean.Seconds()*1000)
			}
			parts = append(parts, part)
		}
		text := fmt.Sprintf("%s  %s", took(time.Since(began).Round(100*time.Millisecond)), strings.Join(parts, "; "))
		a.err.draw("%s", text)
		if !a.err.terminal && time.Since(told) > 10*time.Second {
			told = time.Now()
			a.err.line("%s", text)
		}
	}
}

// summary prints what a link test found.
func (a *app) summary(sum link.Summary) error {
	if a.json {
		a.err.line("%s", sum.Verdict)
		return a.printJSON(sum)
	}
	printSummary(a.out, sum)
	if len(sum.Stretches) > 0 {
		a.stretches(sum.Stretches)
	}
	return nil
}

func printSummary(w io.Writer, sum link.Summary) {
	s := newScreen(w)
	for i, d := range sum.Directions {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s  %s\n", s.bold(d.From+" to "+d.To), s.verdict(d.Verdict, 0))
		var rows [][]string
		for _, r := range report.LinkRows(sum, d) {
			rows = append(rows, []string{"  " + r[0], r[1]})
		}
		table(w, rows)
	}
}
