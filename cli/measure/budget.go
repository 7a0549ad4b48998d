package measure

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/link/budget"
	"uparrot/core/link/frame"
	"uparrot/core/session"
)

// linkBudgetCommand is the command link budget with its flags.
type linkBudgetCommand struct {
	*shell.Streams
	ports           shell.PortFlags
	b               budget.Budget
	command, answer int
	arrival         int
	to              string
	every           time.Duration
}

func linkBudget(sh *shell.Streams) *cobra.Command {
	c := &linkBudgetCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "budget",
		Short: "Work out what the wire and the air cost, before measuring",
		Long: `Works out how long one frame takes on the wires and in the air, and the shortest
interval at which nothing falls behind. With a phrasebook the bytes that its
carrier adds are counted from it, for an address as long as --to.`,
		Example: "uparrot link budget --speed 9600 --size 24 --phrasebook dunlin.toml --air-rate 2400 --preamble 40ms",
		Args:    shell.Args(0, 0, "no arguments"),
		RunE:    c.run,
	}
	fl := cmd.Flags()
	fl.IntVar(&c.ports.Speed, "speed", 0, "speed of both lines in baud (115200)")
	fl.StringVar(&c.ports.Frame, "frame", "", "frame of both lines (8N1)")
	fl.StringVar(&c.ports.Phrasebook, "phrasebook", "", "phrasebook whose carrier is used")
	fl.IntVar(&c.b.Payload, "size", 24, "bytes of payload in a frame")
	fl.StringVar(&c.to, "to", "1", "with a phrasebook: the far end's address, whose length counts")
	fl.IntVar(&c.command, "command", 0, "bytes that the carrier adds where a frame is sent, line ending included")
	fl.IntVar(&c.answer, "answer", 0, "bytes that the sending module answers before it takes the next frame")
	fl.IntVar(&c.arrival, "arrival", 0, "bytes that the carrier adds where a frame arrives, line ends included")
	fl.Float64Var(&c.b.AirRate, "air-rate", 0, "bits a second in the air; 0 leaves the air out")
	fl.IntVar(&c.b.AirExtra, "air-extra", 0, "bytes that the air adds to the payload")
	fl.DurationVar(&c.b.Preamble, "preamble", 0, "preamble before each frame in the air")
	fl.DurationVar(&c.every, "every", 0, "an interval to hold against the budget")
	sh.AddJSON(cmd, "the budget")
	return cmd
}

func (c *linkBudgetCommand) run(cmd *cobra.Command, _ []string) error {
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return err
	}
	c.fill(ps, cmd.Flags().Changed)
	costs, err := c.b.Costs()
	if err != nil {
		return shell.Usage(cmd, "%v", err)
	}
	if c.JSON {
		return c.PrintJSON(budgetJSON(c.b, costs))
	}
	printBudget(c.Streams, c.b, costs, c.every)
	return nil
}

// fill takes what is not given from the phrasebook's carrier.
func (c *linkBudgetCommand) fill(ps *session.Ports, given func(string) bool) {
	setup := ps.Over
	if ps.Book != nil {
		setup = setup.Or(ps.Book.Setup())
	}
	c.b.Line, c.b.Command, c.b.Answer, c.b.Arrival = setup.Line(), c.command, c.answer, c.arrival
	if ps.Book == nil || ps.Book.Carrier == nil || c.b.Payload < 1 {
		return
	}
	way := frame.Through(setup, ps.Book)
	if !given("command") {
		c.b.Command = way.Sent(c.b.Payload, c.to) - c.b.Payload
	}
	if !given("arrival") {
		c.b.Arrival = way.Arrived(c.b.Payload, c.to) - c.b.Payload
	}
	if !given("answer") {
		c.b.Answer = way.Answered()
	}
}

func msOf(d time.Duration) float64 { return float64(d.Round(time.Microsecond).Microseconds()) / 1000 }

func budgetJSON(b budget.Budget, c budget.Costs) map[string]any {
	return map[string]any{
		"line": b.Line.String(), "payload": b.Payload, "command": b.Command, "answer": b.Answer, "arrival": b.Arrival, "air_rate": b.AirRate,
		"send_wire_ms": msOf(c.SendWire), "answer_wire_ms": msOf(c.AnswerWire), "air_ms": msOf(c.Air), "arrive_wire_ms": msOf(c.ArriveWire),
		"latency_ms": msOf(c.Latency), "every_ms": msOf(c.Every), "frames_per_second": c.Rate, "payload_bits_per_second": c.Throughput, "bottleneck": c.Bottleneck,
	}
}

func printBudget(sh *shell.Streams, b budget.Budget, c budget.Costs, every time.Duration) {
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
	shell.Table(sh.Out, rows)
	if every > 0 && every < c.Every {
		fmt.Fprintf(sh.Out, "\nAn interval of %v cannot be kept: %s needs %s for each frame, so frames pile up.\n", every, c.Bottleneck, took1(c.Every))
	} else if every > 0 {
		fmt.Fprintf(sh.Out, "\nAn interval of %v leaves %s for each frame.\n", every, took1(every-c.Every))
	}
}

// took1 is a time in milliseconds with enough digits to add up.
func took1(d time.Duration) string { return fmt.Sprintf("%.3f ms", msOf(d)) }
