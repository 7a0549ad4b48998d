package measure

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

	"uparrot/cli/account"
	"uparrot/cli/shell"
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

// LinkTestCommand is the command link test with its flags.
type LinkTestCommand struct {
	*shell.Streams
	ports        shell.PortFlags
	Keeps        shell.EvidenceFlags
	plan         link.Plan
	maxLoss      string
	maxP95       time.Duration
	minStrength  float64
	Frames       string
	Plot, load   string
	size         string
	save, resume string
	walk         bool
	bits         string
	bitTime      time.Duration
	maxBER       float64
	maxCount     int
	Files        shell.Outputs
}

func linkTest(sh *shell.Streams) *cobra.Command {
	c := &LinkTestCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "test A [B]",
		Short: "Test loss, latency, order and damage between two ports, or there and back",
		Long: `Sends numbered frames from A to B, with --both also from B to A at the same time,
and counts what arrives. With one port it is a round trip: "uparrot link answer"
repeats the frames at the far end, or a plug joins TX and RX. A and B are names on
the bench or addresses such as ` + port.Example + `. Where a phrasebook tells how a payload
travels through the module, frames go that way; else in binary as they are, and as
text where the line does not take all bytes.

With limits, exit status 4 means that too few frames were sent to tell.`,
		Example: "uparrot link test valley summit --bench larkfell.toml --count 200 --every 50ms --max-loss 8%",
		Args:    shell.Args(1, 2, "one or two ports"),
		RunE:    c.run,
	}
	c.flags(cmd)
	return cmd
}

func (c *LinkTestCommand) flags(cmd *cobra.Command) {
	c.ports.Add(cmd)
	c.Keeps.Add(cmd)
	c.Files.Add(cmd)
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
	fl.StringVar(&c.Plot, "plot", "", "draw pictures beside this file, .png or .svg: NAME-time, NAME-distribution, NAME-strength")
	fl.StringVar(&c.Frames, "frames", "", "write one row a frame to this CSV file")
	c.AddJSON(cmd, "the summary")
	fl.BoolVar(&c.Keeps.Quiet, "quiet", false, "no progress while it runs")
}

func (c *LinkTestCommand) run(cmd *cobra.Command, args []string) error {
	if len(args) == 2 && args[0] == args[1] {
		return shell.Usage(cmd, "both ends are %s: a link has two", args[0])
	}
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return err
	}
	c.Files.Inputs = ps.Files()
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
		c.Err.Line("warning: %s", shell.Safe(w))
	}
	sum, err := c.Do(cmd.Context(), ps, t)
	if err != nil && !errors.Is(err, session.ErrEvidence) && !c.JSON && (len(sum.Directions) == 0 || sum.Directions[0].Sent == 0) {
		return err // there is nothing to sum up
	}
	if perr := summary(c.Streams, sum); perr != nil {
		err = errors.Join(err, perr)
	}
	if again := c.toDecide(cmd, args, sum); again != "" {
		c.Err.Line("to decide it: %s", shell.Safe(again))
	}
	return shell.WithVerdict(sum.Verdict, err)
}

// test is the test that the flags describe, as yet without its ends.
func (c *LinkTestCommand) test(cmd *cobra.Command) (*link.Test, error) {
	changed := cmd.Flags().Changed
	if (c.plan.Sure || c.walk) && !changed("count") {
		c.plan.Count = c.maxCount
	} else if changed("max-count") {
		return nil, shell.Usage(cmd, "--max-count goes with --until-sure and --walk; else --count says how many")
	}
	var err error
	if c.plan.Size, c.plan.Sizes, err = readSizes(c.size); err != nil {
		return nil, shell.Usage(cmd, "--size %s: %v", c.size, err)
	}
	t := &link.Test{Plan: c.plan}
	if err := c.limits(cmd, t); err != nil {
		return nil, err
	}
	switch {
	case c.load != "" && changed("every"):
		return nil, shell.Usage(cmd, "--load says how often frames go, and so does --every: give one of them")
	case c.load != "":
		if t.Load, err = stats.ParseShare(c.load); err != nil || t.Load == 0 {
			return nil, shell.Usage(cmd, "--load %s: wanted a share of the wire above zero, such as 50%%", c.load)
		}
	case c.plan.Window > 0 && !changed("every"):
		t.Every = 0 // as soon as there is room
	}
	return t, nil
}

// join gives the test its ends, and checks the plan with them.
func (c *LinkTestCommand) join(cmd *cobra.Command, t *link.Test, ends []*bench.Station) error {
	t.A = ends[0]
	if len(ends) > 1 {
		t.B = ends[1]
	}
	if err := t.Check(); err != nil {
		return shell.Usage(cmd, "%v", err)
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
func (c *LinkTestCommand) goOn(cmd *cobra.Command, t *link.Test) (err error) {
	if t.Resume, err = link.ReadCheckpoint(c.resume); err != nil {
		return &session.Misuse{What: err.Error()}
	}
	if err := t.Resume.Fits(t); err != nil {
		return shell.Usage(cmd, "--resume %s: %v: give the same plan", c.resume, err)
	}
	if c.Frames != "" {
		return shell.Usage(cmd, "--resume goes on with the counts alone: --frames would begin in the midst")
	}
	return nil
}

func (c *LinkTestCommand) limits(cmd *cobra.Command, t *link.Test) error {
	if c.maxLoss != "" {
		v, err := stats.ParseShare(c.maxLoss)
		if err != nil {
			return shell.Usage(cmd, "--max-loss: %v", err)
		}
		t.Limits.MaxLoss = &v
	}
	if c.maxP95 < 0 {
		return shell.Usage(cmd, "--max-p95: %v is below zero", c.maxP95)
	}
	if c.maxP95 > 0 {
		v := float64(c.maxP95.Microseconds()) / 1000
		t.Limits.MaxP95MS = &v
	}
	if cmd.Flags().Changed("min-strength") {
		t.Limits.MinDBm = &c.minStrength
	}
	if c.plan.Deadline <= 0 {
		return shell.Usage(cmd, "--deadline: %v is no time to wait", c.plan.Deadline)
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
func (c *LinkTestCommand) picture(kind string) string {
	ext := filepath.Ext(c.Plot)
	return strings.TrimSuffix(c.Plot, ext) + "-" + kind + ext
}

// planFiles looks whether all files may be written that the flags name.
func (c *LinkTestCommand) planFiles(cmd *cobra.Command) error {
	err := c.Files.PlanFile(cmd, "frames", c.Frames)
	if err == nil && c.save != c.resume { // who goes on from a checkpoint may go on keeping it
		err = c.Files.PlanFile(cmd, "checkpoint", c.save)
		c.save = c.Files.Free(c.save)
	}
	if c.Plot == "" {
		return err
	}
	for _, kind := range report.PictureKinds {
		if err == nil {
			err = c.Files.PlanPicture(cmd, "plot", c.picture(kind))
		}
	}
	return err
}

// pictures draws the test.
func (c *LinkTestCommand) pictures(points *report.Frames, sum link.Summary) error {
	charts, err := report.Pictures(points, sum)
	for _, kind := range report.PictureKinds {
		if err == nil && charts[kind] != nil {
			err = c.Draw(&c.Files, c.picture(kind), charts[kind])
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
func (c *LinkTestCommand) open() (*linkFiles, error) {
	f := &linkFiles{}
	if c.Plot != "" {
		f.points = report.NewFrames()
		f.frames(f.points.Row)
	}
	if c.Frames != "" {
		var err error
		if f.file, err = c.Files.Create(c.Frames); err != nil {
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

// Do runs the test with its files.
func (c *LinkTestCommand) Do(ctx context.Context, ps *session.Ports, t *link.Test) (sum link.Summary, err error) {
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
		w := newWalker(c.Streams, t.Every)
		t.Walk, t.Stop = w.walk, w.stop
		files.watch = append(files.watch, account.Progress(w.observe))
	case !c.Keeps.Quiet:
		files.watch = append(files.watch, account.Progress(account.LinkProgress(c.Streams, t)))
	}
	ends := []*bench.Station{t.A}
	if t.B != nil {
		ends = append(ends, t.B)
	}
	_, err = c.Conduct(ctx, c.Keeps, shell.About("link test", linkName(ends), ps, ends...), all(files.watch), func(events *record.Stream) (verdict.Verdict, error) {
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

// linkName names a link by its ends.
func linkName(ends []*bench.Station) string {
	names := []string{"link"}
	for _, e := range ends {
		names = append(names, e.Name)
	}
	return strings.Join(names, "-")
}

// summary prints what a link test found.
func summary(sh *shell.Streams, sum link.Summary) error {
	if sh.JSON {
		sh.Err.Line("%s", sum.Verdict)
		return sh.PrintJSON(sum)
	}
	PrintSummary(sh.Out, sum)
	if len(sum.Stretches) > 0 {
		fmt.Fprintln(sh.Out)
		shell.Table(sh.Out, append([][]string{report.StretchHead}, report.StretchRows(sum.Stretches)...))
	}
	return nil
}

// PrintSummary prints what a link test came to, each direction by itself.
func PrintSummary(w io.Writer, sum link.Summary) {
	s := shell.NewScreen(w)
	for i, d := range sum.Directions {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s  %s\n", s.Bold(d.From+" to "+d.To), s.Verdict(d.Verdict, 0))
		var rows [][]string
		for _, r := range report.LinkRows(sum, d) {
			rows = append(rows, []string{"  " + r[0], r[1]})
		}
		shell.Table(w, rows)
	}
}
