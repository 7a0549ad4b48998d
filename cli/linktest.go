package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/link/frame"
	"uparrot/core/output"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// linkTestCommand is the command link test with its flags.
type linkTestCommand struct {
	*app
	ports        portFlags
	keeps        evidenceFlags
	plan         link.Plan
	maxLoss      string
	maxP95       time.Duration
	minStrength  float64
	frames       string
	plot, load   string
	size         string
	save, resume string
	walk         bool
	bits         string
	bitTime      time.Duration
	maxBER       float64
	maxCount     int
	files        outputs
}

func (a *app) linkTest() *cobra.Command {
	c := &linkTestCommand{app: a}
	cmd := &cobra.Command{
		Use:   "test A [B]",
		Short: "Loss, latency, order and damage between two ports, or there and back",
		Long: `Sends numbered frames from A to B, with --both also from B to A at the same time,
and counts what arrives. With one port it is a round trip: "uparrot link answer"
repeats the frames at the far end, or a plug joins TX and RX. A and B are names on
the bench or addresses such as ` + port.Example + `. Where a phrasebook tells how a payload
travels through the module, frames go that way; else in binary as they are, and as
text where the line does not take all bytes.

With limits, exit status 4 means that too few frames were sent to tell.`,
		Example: "uparrot link test valley summit --bench larkfell.toml --count 200 --every 50ms --max-loss 8%",
		Args:    args(1, 2, "one or two ports"),
		RunE:    c.run,
	}
	c.flags(cmd)
	return cmd
}

func (c *linkTestCommand) flags(cmd *cobra.Command) {
	c.ports.add(cmd)
	c.keeps.add(cmd)
	c.files.add(cmd)
	fl := cmd.Flags()
	fl.IntVar(&c.plan.Count, "count", 200, "frames in each direction")
	fl.DurationVar(&c.plan.Every, "every", 100*time.Millisecond, "from one frame to the next")
	fl.StringVar(&c.size, "size", "", fmt.Sprintf("bytes in a frame, at least %d, or %d in binary (%d, or the least); a list 24,48,96 or a sweep 24..96/8 takes them in turn", frame.MinSize, frame.MinBinary, link.DefaultSize))
	fl.Float64Var(&c.plan.AirRate, "air-rate", 0, "bits a second in the air, if known: a plan that the air cannot keep is then warned of")
	fl.DurationVar(&c.plan.Preamble, "preamble", 0, "preamble before each frame in the air, if known")
	fl.IntVar(&c.plan.Window, "window", 0, "send as soon as fewer than so many frames are on their way; with --every not before that either")
	fl.StringVar(&c.load, "load", "", "send so often that frames take this share of the wire, such as 50%")
	fl.StringVar(&c.plan.To, "to", "", "for a round trip: the far end's address, where the carrier needs one")
	fl.BoolVar(&c.plan.Both, "both", false, "also from B to A, at the same time")
	fl.DurationVar(&c.plan.Deadline, "deadline", 2*time.Second, "frames that arrive later than this count as late")
	fl.StringVar(&c.maxLoss, "max-loss", "", "greatest loss allowed, such as 2%")
	fl.DurationVar(&c.maxP95, "max-p95", 0, "greatest 95th percentile of latency allowed, such as 150ms")
	fl.Float64Var(&c.minStrength, "min-strength", 0, "least mean strength allowed, in dBm, such as -115")
	fl.BoolVar(&c.plan.Sure, "until-sure", false, "go on until the limits are decided, at most --max-count frames")
	fl.IntVar(&c.maxCount, "max-count", 100_000, "with --until-sure: the most frames in each direction")
	fl.DurationVar(&c.plan.MaxTime, "max-time", 0, "stop after this time in any case")
	fl.StringVar(&c.bits, "bits", "", "test bits instead of frames, through a transparent link: prbs9, prbs15 or prbs23 (ITU-T O.150)")
	fl.DurationVar(&c.bitTime, "for", 10*time.Second, "with --bits: how long")
	fl.Float64Var(&c.maxBER, "max-ber", 0, "with --bits: greatest ratio of wrong bits allowed, such as 1e-6")
	fl.BoolVar(&c.walk, "walk", false, "range walk: a live line to glance at, and results for each stretch between marks set with Enter")
	fl.StringVar(&c.save, "checkpoint", "", "keep in this file, once a minute, how far the test has come")
	fl.StringVar(&c.resume, "resume", "", "go on from a checkpoint, with the same plan")
	fl.StringVar(&c.plot, "plot", "", "draw pictures beside this file, .png or .svg: NAME-time, NAME-distribution, NAME-strength")
	fl.StringVar(&c.frames, "frames", "", "write one row a frame to this CSV file")
	c.addJSON(cmd, "the summary")
	fl.BoolVar(&c.keeps.quiet, "quiet", false, "no progress while it runs")
}

func (c *linkTestCommand) run(cmd *cobra.Command, args []string) error {
	if len(args) == 2 && args[0] == args[1] {
		return usage(cmd, "both ends are %s: a link has two", args[0])
	}
	ps, err := c.ports.read(cmd)
	if err != nil {
		return err
	}
	c.files.Inputs = ps.Files()
	if err := c.planFiles(cmd); err != nil {
		return err
	}
	var t *link.Test
	if c.bits == "" {
		if t, err = c.test(cmd); err != nil {
			return err
		}
	}
	ends, err := ps.Stations(args...)
	if err != nil {
		return err
	}
	if t == nil {
		return c.testBits(cmd, ps, ends)
	}
	if err := c.join(cmd, t, ends); err != nil {
		return err
	}
	for _, w := range t.Warnings() {
		c.err.line("warning: %s", safe(w))
	}
	sum, err := c.do(cmd.Context(), ps, t)
	if err != nil && !errors.Is(err, session.ErrEvidence) && !c.json && (len(sum.Directions) == 0 || sum.Directions[0].Sent == 0) {
		return err // there is nothing to sum up
	}
	if perr := c.summary(sum); perr != nil {
		err = errors.Join(err, perr)
	}
	if again := c.toDecide(cmd, args, sum); again != "" {
		c.err.line("to decide it: %s", safe(again))
	}
	return withVerdict(sum.Verdict, err)
}

// test is the test that the flags describe, as yet without its ends.
func (c *linkTestCommand) test(cmd *cobra.Command) (*link.Test, error) {
	changed := cmd.Flags().Changed
	if (c.plan.Sure || c.walk) && !changed("count") {
		c.plan.Count = c.maxCount
	} else if changed("max-count") {
		return nil, usage(cmd, "--max-count goes with --until-sure and --walk; else --count says how many")
	}
	var err error
	if c.plan.Size, c.plan.Sizes, err = readSizes(c.size); err != nil {
		return nil, usage(cmd, "--size %s: %v", c.size, err)
	}
	t := &link.Test{Plan: c.plan}
	if err := c.limits(cmd, t); err != nil {
		return nil, err
	}
	switch {
	case c.load != "" && changed("every"):
		return nil, usage(cmd, "--load says how often frames go, and so does --every: give one of them")
	case c.load != "":
		if t.Load, err = stats.ParseShare(c.load); err != nil || t.Load == 0 {
			return nil, usage(cmd, "--load %s: wanted a share of the wire above zero, such as 50%%", c.load)
		}
	case c.plan.Window > 0 && !changed("every"):
		t.Every = 0 // as soon as there is room
	}
	return t, nil
}

// join gives the test its ends, and checks the plan with them.
func (c *linkTestCommand) join(cmd *cobra.Command, t *link.Test, ends []*bench.Station) error {
	t.A = ends[0]
	if len(ends) > 1 {
		t.B = ends[1]
	}
	if err := t.Check(); err != nil {
		return usage(cmd, "%v", err)
	}
	if t.Load > 0 {
		t.Every = t.EveryForLoad(t.Load) // until the addresses are known
	}
	if c.resume != "" {
		return c.goOn(cmd, t)
	}
	return nil
}

// goOn has the test go on from a checkpoint.
func (c *linkTestCommand) goOn(cmd *cobra.Command, t *link.Test) (err error) {
	if t.Resume, err = link.ReadCheckpoint(c.resume); err != nil {
		return &session.Misuse{What: err.Error()}
	}
	if err := t.Resume.Fits(t); err != nil {
		return usage(cmd, "--resume %s: %v: give the same plan", c.resume, err)
	}
	if c.frames != "" {
		return usage(cmd, "--resume goes on with the counts alone: --frames would begin in the midst")
	}
	return nil
}

func (c *linkTestCommand) limits(cmd *cobra.Command, t *link.Test) error {
	if c.maxLoss != "" {
		v, err := stats.ParseShare(c.maxLoss)
		if err != nil {
			return usage(cmd, "--max-loss: %v", err)
		}
		t.Limits.MaxLoss = &v
	}
	if c.maxP95 < 0 {
		return usage(cmd, "--max-p95: %v is below zero", c.maxP95)
	}
	if c.maxP95 > 0 {
		v := float64(c.maxP95.Microseconds()) / 1000
		t.Limits.MaxP95MS = &v
	}
	if cmd.Flags().Changed("min-strength") {
		t.Limits.MinDBm = &c.minStrength
	}
	if c.plan.Deadline <= 0 {
		return usage(cmd, "--deadline: %v is no time to wait", c.plan.Deadline)
	}
	return nil
}

// readSizes reads one size, a list or a sweep.
func readSizes(given string) (size int, sizes []int, err error) {
	if given == "" {
		return 0, nil, nil
	}
	wanted := errors.New("wanted a number of bytes, a list such as 24,48,96 or a sweep such as 24..96/8")
	if low, rest, ok := strings.Cut(given, ".."); ok {
		high, step, _ := strings.Cut(rest, "/")
		from, err1 := strconv.Atoi(low)
		to, err2 := strconv.Atoi(high)
		by, err3 := strconv.Atoi(step)
		if err1 != nil || err2 != nil || err3 != nil || from < 1 || to < from || by < 1 || (to-from)/by > 1000 {
			return 0, nil, wanted
		}
		for n := from; n <= to; n += by {
			sizes = append(sizes, n)
		}
		return 0, sizes, nil
	}
	for _, text := range strings.Split(given, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(text))
		if err != nil || n < 1 {
			return 0, nil, wanted
		}
		sizes = append(sizes, n)
	}
	if len(sizes) == 1 {
		return sizes[0], nil, nil
	}
	return 0, sizes, nil
}

// picture is the file of one kind of picture: beside the one that --plot names.
func (c *linkTestCommand) picture(kind string) string {
	ext := filepath.Ext(c.plot)
	return strings.TrimSuffix(c.plot, ext) + "-" + kind + ext
}

// planFiles looks whether all files may be written that the flags name.
func (c *linkTestCommand) planFiles(cmd *cobra.Command) error {
	err := c.files.plan(cmd, "frames", c.frames)
	if err == nil && c.save != c.resume { // who goes on from a checkpoint may go on keeping it
		err = c.files.plan(cmd, "checkpoint", c.save)
		c.save = c.files.Free(c.save)
	}
	if c.plot == "" {
		return err
	}
	for _, kind := range report.PictureKinds {
		if err == nil {
			err = c.files.planPicture(cmd, "plot", c.picture(kind))
		}
	}
	return err
}

// pictures draws the test.
func (c *linkTestCommand) pictures(points *report.Frames, sum link.Summary) error {
	charts, err := report.Pictures(points, sum)
	for _, kind := range report.PictureKinds {
		if err == nil && charts[kind] != nil {
			err = c.draw(&c.files, c.picture(kind), charts[kind])
		}
	}
	return err
}

// linkFiles are the files that a test writes beside its record, and what is shown
// meanwhile: all told of what happens by one stream.
type linkFiles struct {
	watch  []func(record.Event)
	points *report.Frames // for pictures; nil if none are drawn
	rows   *report.FrameTable
	file   *output.File
}

// open makes the files that the flags name.
func (c *linkTestCommand) open() (*linkFiles, error) {
	f := &linkFiles{}
	if c.plot != "" {
		f.points = report.NewFrames()
		f.frames(f.points.Row)
	}
	if c.frames != "" {
		var err error
		if f.file, err = c.files.Create(c.frames); err != nil {
			return nil, fmt.Errorf("make the file of frames: %w", err)
		}
		f.rows = report.NewFrameTable(f.file)
		f.frames(f.rows.Row)
	}
	return f, nil
}

// frames has each frame whose fate is known told.
func (f *linkFiles) frames(take func(from, to string, r link.Row)) {
	f.watch = append(f.watch, func(e record.Event) {
		if seen, ok := e.Live.(link.FrameSeen); ok {
			take(seen.From, seen.To, seen.Row)
		}
	})
}

func (f *linkFiles) close() error {
	if f.file == nil {
		return nil
	}
	if err := f.rows.Close(); err != nil {
		return f.file.Drop(err)
	}
	_, err := f.file.Keep()
	return err
}

// do runs the test with its files.
func (c *linkTestCommand) do(ctx context.Context, ps *session.Ports, t *link.Test) (sum link.Summary, err error) {
	files, err := c.open()
	if err != nil {
		return sum, err
	}
	defer func() { err = errors.Join(err, files.close()) }()
	if c.save != "" {
		t.Checkpoint = func(p link.Checkpoint) error { return p.Write(c.save) }
	}
	switch {
	case c.walk:
		w := c.newWalker(t.Every)
		t.Walk, t.Stop = w.walk, w.stop
		files.watch = append(files.watch, progress(w.observe))
	case !c.keeps.quiet:
		files.watch = append(files.watch, progress(c.linkProgress(t)))
	}
	ends := []*bench.Station{t.A}
	if t.B != nil {
		ends = append(ends, t.B)
	}
	_, err = c.conduct(ctx, c.keeps, at("link test", linkName(ends), ps, ends...), all(files.watch), func(events *record.Stream) (verdict.Verdict, error) {
		t.Events = events
		sum, err = t.Do(ctx)
		return sum.Verdict, err
	})
	if files.points != nil && len(sum.Directions) > 0 {
		err = errors.Join(err, c.pictures(files.points, sum))
	}
	return sum, err
}

// all tells several watchers.
func all(watch []func(record.Event)) func(record.Event) {
	return func(e record.Event) {
		for _, f := range watch {
			f(e)
		}
	}
}

// progress watches how far a link test has come.
func progress(f func([]link.Progress)) func(record.Event) {
	return func(e record.Event) {
		if p, ok := e.Live.([]link.Progress); ok {
			f(p)
		}
	}
}

// linkName names a link by its ends.
func linkName(ends []*bench.Station) string {
	names := []string{"link"}
	for _, e := range ends {
		names = append(names, e.Name)
	}
	return strings.Join(names, "-")
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
		fmt.Fprintln(a.out)
		table(a.out, append([][]string{report.StretchHead}, report.StretchRows(sum.Stretches)...))
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
