package find

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/bringup/loopback"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// loopbackCommand is the command loopback with its flags.
type loopbackCommand struct {
	*shell.Streams
	ports  shell.PortFlags
	keeps  shell.EvidenceFlags
	speeds []string
	noAsk  bool
	test   loopback.Test
}

// Loopback is the command loopback.
func Loopback(sh *shell.Streams) *cobra.Command {
	c := &loopbackCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "loopback PORT",
		Short: "Test your own side with TX and RX joined",
		Long: `First with nothing joined, when nothing must come back; then, when you have joined
TX and RX, text, all 256 values and a pseudo-random stretch at several speeds.
With a plug that stays in, --no-ask leaves the questions and the first part out.`,
		Example: "uparrot loopback " + port.Example,
		Args:    shell.Args(1, 1, "one port"),
		RunE:    c.run,
	}
	c.ports.AddBench(cmd)
	c.keeps.Add(cmd)
	fl := cmd.Flags()
	fl.BoolVar(&c.noAsk, "no-ask", false, "TX and RX are joined and stay so: ask nothing")
	fl.BoolVar(&c.test.Signals, "signals", false, "also RTS to CTS and DTR to DSR")
	fl.StringSliceVar(&c.speeds, "speeds", nil, "speeds to try, such as 9600,115200")
	sh.AddJSON(cmd, "the result")
	return cmd
}

func (c *loopbackCommand) run(cmd *cobra.Command, args []string) (err error) {
	if c.test.Speeds, err = readSpeeds(cmd, c.speeds); err != nil {
		return err
	}
	ps, st, err := c.ports.One(cmd, args[0])
	if err != nil {
		return err
	}
	if !c.noAsk {
		in := bufio.NewReader(c.In)
		c.test.Ask = func(what string) error { return askEnter(c.Streams, cmd.Context(), in, what) }
	}
	var res loopback.Result
	v, err := c.OnPort(cmd.Context(), c.keeps, shell.About(loopback.Name, args[0], ps, st), c.watch(), func(dev port.Port, events *record.Stream) (_ verdict.Verdict, err error) {
		c.test.Port, c.test.Events = dev, events
		res, err = c.test.Do(cmd.Context())
		return res.Verdict, err
	})
	switch {
	case c.JSON && res.Port != "":
		err = errors.Join(err, c.PrintJSON(res))
	case !c.JSON:
		for _, p := range res.Proven {
			fmt.Fprintf(c.Out, "proven: %s\n", p)
		}
		for _, p := range res.Points {
			fmt.Fprintf(c.Out, "look at: %s\n", p)
		}
	}
	if v == verdict.Untested { // what the port cannot do is said, and no failure
		v = verdict.Passed
	}
	return shell.WithVerdict(v, err)
}

// watch prints each stage as it ends.
func (c *loopbackCommand) watch() func(record.Event) {
	if c.JSON {
		return nil
	}
	s := shell.NewScreen(c.Out)
	return func(e record.Event) {
		if st, ok := e.Live.(loopback.Stage); ok {
			why := ""
			if st.Why != "" {
				why = ": " + shell.Safe(st.Why)
			}
			fmt.Fprintf(c.Out, "%s  %s%s\n", s.Verdict(st.Verdict, 8), st.What, why)
		}
	}
}

// readSpeeds reads the speeds that --speeds gives; nil if it gives none.
func readSpeeds(cmd *cobra.Command, given []string) (speeds []int, err error) {
	for _, s := range given {
		n, err := strconv.Atoi(s)
		if err != nil || n < uart.MinSpeed || n > uart.MaxSpeed {
			return nil, shell.Usage(cmd, "--speeds: %q is no speed from %d to %d baud", s, uart.MinSpeed, uart.MaxSpeed)
		}
		speeds = append(speeds, n)
	}
	return speeds, nil
}

// askEnter has a person do something and press Enter.
func askEnter(sh *shell.Streams, ctx context.Context, in *bufio.Reader, what string) error {
	sh.Err.Line("%s, then press Enter.", what)
	done := make(chan error, 1)
	go func() {
		_, err := in.ReadString('\n')
		if err == io.EOF {
			err = &session.Misuse{What: "nobody is there to press Enter: with a plug that stays in, use --no-ask", Example: "uparrot loopback " + port.Example + " --no-ask"}
		}
		done <- err
	}()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}
