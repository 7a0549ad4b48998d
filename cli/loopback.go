package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"uparrot/core/bringup/loopback"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

func (a *app) loopback() *cobra.Command {
	var (
		flags     portFlags
		speeds    []string
		noAsk     bool
		recording string
		t         loopback.Test
	)
	cmd := &cobra.Command{
		Use:   "loopback PORT",
		Short: "Proves your own side with TX and RX joined",
		Long: `First with nothing joined, when nothing must come back; then, when you have joined
TX and RX, text, all 256 values and a pseudo-random stretch at several speeds.
With a plug that stays in, --no-ask leaves the questions and the first part out.`,
		Example: "uparrot loopback /dev/ttyUSB0",
		Args:    args(1, 1, "one port"),
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, s := range speeds {
				n, err := strconv.Atoi(s)
				if err != nil || n < uart.MinSpeed || n > uart.MaxSpeed {
					return usage(cmd, "--speeds: %q is no speed from %d to %d baud", s, uart.MinSpeed, uart.MaxSpeed)
				}
				t.Speeds = append(t.Speeds, n)
			}
			ps, err := flags.read(cmd)
			if err != nil {
				return err
			}
			st, err := ps.station(args[0], phrasebook.Setup{}, nil)
			if err != nil {
				return err
			}
			dev, err := port.Open(st.Address, port.DefaultLine)
			if err != nil {
				return err
			}
			e, err := a.evidence(onlyRecord(recording), "loopback", "loopback", ps, nil)
			if err != nil {
				return errors.Join(err, dev.Close())
			}
			t.Port = recorded(dev, e.w, args[0])
			if !noAsk {
				in := bufio.NewReader(a.in)
				t.Ask = func(what string) error { return a.askEnter(cmd.Context(), in, what) }
			}
			s := newScreen(a.out)
			if !a.json {
				t.Observe = func(st loopback.Stage) {
					why := ""
					if st.Why != "" {
						why = ": " + safe(st.Why)
					}
					fmt.Fprintf(a.out, "%s  %s%s\n", s.verdict(st.Verdict, 8), st.What, why)
				}
			}
			res, err := t.Do(cmd.Context())
			err = errors.Join(err, dev.Close())
			if a.json {
				err = errors.Join(err, a.printJSON(res))
			} else {
				for _, p := range res.Proven {
					fmt.Fprintf(a.out, "proven: %s\n", p)
				}
				for _, p := range res.Points {
					fmt.Fprintf(a.out, "look at: %s\n", p)
				}
			}
			if err == nil && res.Verdict != verdict.Untested { // what the port cannot do is said, and no failure
				err = verdictError(res.Verdict)
			}
			return e.end(err)
		},
	}
	cmd.Flags().StringVar(&flags.bench, "bench", "", "bench file that names the port")
	cmd.Flags().BoolVar(&noAsk, "no-ask", false, "TX and RX are joined and stay so: ask nothing")
	cmd.Flags().BoolVar(&t.Signals, "signals", false, "also RTS to CTS and DTR to DSR")
	cmd.Flags().StringSliceVar(&speeds, "speeds", nil, "speeds to try, such as 9600,115200")
	cmd.Flags().StringVar(&recording, "record", "", recordHelp)
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	return cmd
}

// askEnter has a person do something and press Enter.
func (a *app) askEnter(ctx context.Context, in *bufio.Reader, what string) error {
	a.err.line("%s, then press Enter.", what)
	done := make(chan error, 1)
	go func() {
		_, err := in.ReadString('\n')
		if err == io.EOF {
			err = &errUsage{what: "nobody is there to press Enter: with a plug that stays in, use --no-ask", example: "uparrot loopback /dev/ttyUSB0 --no-ask"}
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
