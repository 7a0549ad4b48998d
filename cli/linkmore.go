package cli

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/report"
)

// compared is one comparison with the run it is about.
type compared struct {
	Runs        []string          `json:"runs"`
	Comparisons []link.Comparison `json:"comparisons"`
}

func (a *app) linkCompare() *cobra.Command {
	var show, plot string
	cmd := &cobra.Command{
		Use:   "compare RUN RUN...",
		Short: "Whether the links of several runs are really different",
		Long: `Holds the first run against each of the others: the difference of loss with its
95 % interval, and of latency by a rank test. A run is the summary that
"link test --json" prints, or a record with a link test in it.`,
		Example: "uparrot link compare old-antenna.json new-antenna.json",
		Args:    args(2, -1, "two or more runs"),
		RunE: func(cmd *cobra.Command, files []string) error {
			size, err := bench.ParseShare(show)
			if err != nil || size == 0 {
				return usage(cmd, "--show %s: wanted a share above zero, such as 1%%", show)
			}
			var runs []link.Summary
			for _, f := range files {
				sum, err := link.ReadRun(f)
				if err != nil {
					return &errUsage{what: err.Error()}
				}
				runs = append(runs, sum)
			}
			if plot != "" {
				if err := plotRuns(plot, files, runs); err != nil {
					return err
				}
			}
			all := []compared{}
			for i := 1; i < len(files); i++ {
				cs, err := link.Compare(files[0], runs[0], files[i], runs[i], size)
				if err != nil {
					return &errUsage{what: err.Error()}
				}
				all = append(all, compared{[]string{files[0], files[i]}, cs})
			}
			if a.json {
				return a.printJSON(all)
			}
			for i, c := range all {
				if i > 0 {
					fmt.Fprintln(a.out)
				}
				a.comparison(c, size)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&show, "show", "1%", "difference of loss for which to tell how many frames would show it")
	cmd.Flags().StringVar(&plot, "plot", "", "draw the distributions of latency to this file, .png or .svg")
	cmd.Flags().BoolVar(&a.json, "json", false, "print the comparison as JSON")
	return cmd
}

// comparison prints one run beside another, and what that says.
func (a *app) comparison(c compared, size float64) {
	s := newScreen(a.out)
	for i, d := range c.Comparisons {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintln(a.out, s.bold(d.Direction))
		rows := [][]string{{"  run", "sent", "lost", "loss, 95 % interval", "median", "95th percentile"}}
		for _, side := range []link.Side{d.A, d.B} {
			row := []string{"  " + side.Name, fmt.Sprint(side.Sent), fmt.Sprint(side.Lost), report.Share(side.Loss), "", ""}
			if l := side.Latency; l != nil {
				row[4], row[5] = fmt.Sprintf("%.1f ms", l.Median), fmt.Sprintf("%.1f ms", l.P95)
			}
			rows = append(rows, row)
		}
		table(a.out, rows)
		first, second := filepath.Base(d.A.Name), filepath.Base(d.B.Name)
		interval := fmt.Sprintf("%+.2f percentage points, with 95 %% confidence %+.2f to %+.2f", 100*d.Loss.Value, 100*d.Loss.Low, 100*d.Loss.High)
		switch {
		case d.LossShown && d.Loss.Value > 0:
			fmt.Fprintf(a.out, "  loss: %s lost more: %s\n", first, interval)
		case d.LossShown:
			fmt.Fprintf(a.out, "  loss: %s lost more: %s\n", second, interval)
		default:
			fmt.Fprintf(a.out, "  loss: no difference shown (%s); %d frames in each run would show one of %.3g percentage points in four cases of five\n", interval, d.MoreToSay, 100*size)
		}
		how := fmt.Sprintf("a frame of %s takes longer than one of %s in %.0f %% of pairs, medians %+.1f ms apart (rank test, p %s)", first, second, 100*d.Ranks.Effect, d.Ranks.Shift, pValue(d.Ranks.P))
		switch {
		case d.A.Latency == nil || d.B.Latency == nil:
			fmt.Fprintln(a.out, "  latency: nothing arrived in one of the runs")
		case !d.Slower:
			fmt.Fprintf(a.out, "  latency: no difference shown; %s\n", how)
		case d.Ranks.Effect > 0.5:
			fmt.Fprintf(a.out, "  latency: %s is slower: %s\n", first, how)
		default:
			fmt.Fprintf(a.out, "  latency: %s is slower: %s\n", second, how)
		}
	}
}

func pValue(p float64) string {
	if p < 0.0001 {
		return "below 0.0001"
	}
	return fmt.Sprintf("%.4f", p)
}

// plotRuns draws the latencies of all runs on shared axes.
func plotRuns(file string, names []string, runs []link.Summary) error {
	var curves []report.Curve
	for i, r := range runs {
		for j := range r.Directions {
			d := &r.Directions[j]
			bins, err := d.Latencies()
			if err != nil {
				return &errUsage{what: names[i] + ": " + err.Error()}
			}
			if len(bins) == 0 {
				continue
			}
			c := report.Curve{Name: filepath.Base(names[i]) + ": " + d.From + " to " + d.To}
			for _, b := range bins {
				c.Add(b.MS, b.Count)
			}
			curves = append(curves, c)
		}
	}
	if err := report.Distribution("How long frames took", curves, file); err != nil {
		return &errUsage{what: err.Error()}
	}
	return nil
}

func (a *app) linkBudget() *cobra.Command {
	var f struct {
		ports                                     portFlags
		payload, command, answer, arrival, extras int
		air                                       float64
		preamble, every                           time.Duration
	}
	cmd := &cobra.Command{
		Use:   "budget",
		Short: "What the wire and the air must cost, before measuring",
		Long: `Works out how long one frame takes on the wires and in the air, and the shortest
interval at which nothing falls behind. With a phrasebook the bytes that its
carrier adds are counted from it.`,
		Example: "uparrot link budget --speed 9600 --payload 24 --phrasebook dunlin.toml --air-rate 2400 --preamble 40ms",
		Args:    args(0, 0, "no arguments"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			ps, err := f.ports.read(cmd)
			if err != nil {
				return err
			}
			setup := ps.over
			if ps.book != nil {
				setup = setup.Or(ps.book.Setup())
			}
			b := link.Budget{Line: setup.Line(), Payload: f.payload, Command: f.command, Answer: f.answer, Arrival: f.arrival, AirRate: f.air, AirExtra: f.extras, Preamble: f.preamble}
			if ps.book != nil && ps.book.Carrier != nil {
				c := ps.book.Carrier
				given := cmd.Flags().Changed
				if !given("command") {
					text, _ := c.SendSaid.Fill(func(name string) (string, error) { return carried(name, f.payload), nil }) // never fails
					b.Command = len(text) - f.payload + len(setup.EndingBytes())
				}
				if !given("arrival") {
					b.Arrival = len(c.ArrivesPattern.Example(map[string]string{"payload": strings.Repeat("x", f.payload), "strength": "-100", "snr": "10.0", "from": "100"})) - f.payload + len("\r\n")
				}
				if !given("answer") && setup.Dialect == "at" {
					b.Answer = len("\r\nOK\r\n")
				}
			}
			costs, err := b.Costs()
			if err != nil {
				return usage(cmd, "%v", err)
			}
			if a.json {
				return a.printJSON(budgetJSON(b, costs))
			}
			a.budget(b, costs, f.every)
			return nil
		},
	}
	fl := cmd.Flags()
	fl.IntVar(&f.ports.speed, "speed", 0, "speed of both lines in baud (115200)")
	fl.StringVar(&f.ports.frame, "frame", "", "frame of both lines (8N1)")
	fl.StringVar(&f.ports.phrasebook, "phrasebook", "", "phrasebook whose carrier is used")
	fl.IntVar(&f.payload, "payload", 24, "bytes of payload in a frame")
	fl.IntVar(&f.command, "command", 0, "bytes that the carrier adds where a frame is sent, line ending included")
	fl.IntVar(&f.answer, "answer", 0, "bytes that the sending module answers before it takes the next frame")
	fl.IntVar(&f.arrival, "arrival", 0, "bytes that the carrier adds where a frame arrives, line ends included")
	fl.Float64Var(&f.air, "air-rate", 0, "bits a second in the air; 0 leaves the air out")
	fl.IntVar(&f.extras, "air-extra", 0, "bytes that the air adds to the payload")
	fl.DurationVar(&f.preamble, "preamble", 0, "preamble before each frame in the air")
	fl.DurationVar(&f.every, "every", 0, "an interval to hold against the budget")
	fl.BoolVar(&a.json, "json", false, "print the budget as JSON")
	return cmd
}

// carried is what stands for a name in a carrier's command, as long as it mostly
// is.
func carried(name string, payload int) string {
	switch name {
	case "payload":
		return strings.Repeat("x", payload)
	case "length":
		return fmt.Sprint(payload)
	}
	return "100"
}

func msOf(d time.Duration) float64 { return float64(d.Round(time.Microsecond).Microseconds()) / 1000 }

func budgetJSON(b link.Budget, c link.Costs) map[string]any {
	return map[string]any{
		"line": b.Line.String(), "payload": b.Payload, "command": b.Command, "answer": b.Answer, "arrival": b.Arrival, "air_rate": b.AirRate,
		"send_wire_ms": msOf(c.SendWire), "answer_wire_ms": msOf(c.AnswerWire), "air_ms": msOf(c.Air), "arrive_wire_ms": msOf(c.ArriveWire),
		"latency_ms": msOf(c.Latency), "every_ms": msOf(c.Every), "frames_per_second": c.Rate, "payload_bits_per_second": c.Throughput, "bottleneck": c.Bottleneck,
	}
}

func (a *app) budget(b link.Budget, c link.Costs, every time.Duration) {
	bits := b.Line.Time(1).Seconds() * float64(b.Line.Speed)
	wire := func(n int) string { return fmt.Sprintf("%d bytes of %.3g bits at %d baud", n, bits, b.Line.Speed) }
	rows := [][]string{
		{"share", "time", "made of"},
		{"sender's wire", took1(c.SendWire), wire(b.Payload + b.Command)},
	}
	if b.Answer > 0 {
		rows = append(rows, []string{"its answer", took1(c.AnswerWire), wire(b.Answer)})
	}
	if b.AirRate > 0 {
		rows = append(rows, []string{"air", took1(c.Air), fmt.Sprintf("preamble %v and %d bytes at %g bit/s", b.Preamble, b.Payload+b.AirExtra, b.AirRate)})
	}
	rows = append(rows,
		[]string{"receiver's wire", took1(c.ArriveWire), wire(b.Payload + b.Arrival)},
		[]string{"least latency", took1(c.Latency), "the sender's wire, the air and the receiver's wire"},
		[]string{"shortest interval", took1(c.Every), fmt.Sprintf("set by %s", c.Bottleneck)},
		[]string{"at that interval", fmt.Sprintf("%.3g frames/s", c.Rate), fmt.Sprintf("%.0f bits of payload a second", c.Throughput)})
	table(a.out, rows)
	if every > 0 && every < c.Every {
		fmt.Fprintf(a.out, "\nAn interval of %v cannot be kept: %s needs %s for each frame, so frames pile up.\n", every, c.Bottleneck, took1(c.Every))
	} else if every > 0 {
		fmt.Fprintf(a.out, "\nAn interval of %v leaves %s for each frame.\n", every, took1(every-c.Every))
	}
}

// took1 is a time in milliseconds with enough digits to add up.
func took1(d time.Duration) string { return fmt.Sprintf("%.3f ms", msOf(d)) }
