package find

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/port"
	"uparrot/core/port/portlist"
)

// Ports is the command ports.
func Ports(sh *shell.Streams) *cobra.Command {
	var follow bool
	cmd := &cobra.Command{
		Use:   "ports",
		Short: "List serial ports: adapter, serial number, socket, who holds them",
		Long: `Lists the serial ports of this machine with what is known of each. --follow goes on
and tells of each port that appears or goes, as it happens: unplug, look, plug in.

A port can be addressed so that the address survives new numbers: serial:NUMBER,
socket:PATH or product:WORDS, on a bench or on the command line.`,
		Example: "uparrot ports --follow",
		Args:    shell.Args(0, 0, "no arguments"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := portlist.List()
			if err != nil {
				return fmt.Errorf("list the ports: %w", err)
			}
			if all == nil {
				all = []portlist.Entry{}
			}
			switch {
			case sh.JSON && !follow:
				return sh.PrintJSON(all)
			case !sh.JSON:
				portTable(sh, all)
			}
			if !follow {
				return nil
			}
			sh.Err.Line("Following. Ctrl-C ends it.")
			enc := json.NewEncoder(sh.Out)
			err = portlist.Follow(cmd.Context(), func(c portlist.Change) {
				if sh.JSON {
					_ = enc.Encode(c) // nobody listening is no reason to stop
					return
				}
				what := "gone    "
				if c.Appeared {
					what = "appeared"
				}
				fmt.Fprintf(sh.Out, "%s  %s\n", what, portWords(c.Port))
			})
			if errors.Is(err, shell.ErrInterrupted) {
				return nil // that is how following ends
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&follow, "follow", false, "watch for ports being plugged or unplugged")
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print the ports as JSON; with --follow, a line for each change")
	return cmd
}

// portWords is a port on one line.
func portWords(p portlist.Entry) string {
	parts := []string{p.Path}
	for _, s := range []struct{ head, text string }{{"", strings.TrimSpace(p.Make + " " + p.Product)}, {"serial ", p.Serial}, {"socket ", p.Socket}, {"", p.Hint}} {
		if s.text != "" {
			parts = append(parts, s.head+shell.OneLine(s.text))
		}
	}
	return strings.Join(parts, ", ")
}

func portTable(sh *shell.Streams, all []portlist.Entry) {
	if len(all) == 0 {
		fmt.Fprintln(sh.Out, "There is no serial port on this machine now. Plug an adapter in; --follow tells when it appears.")
		return
	}
	rows := [][]string{{"port", "adapter", "serial number", "socket", "driver", "state"}}
	var notes []string
	for _, p := range all {
		state := "free"
		if !p.Free {
			state = shell.OneLine(p.Hint)
		}
		rows = append(rows, []string{p.Path, shell.OneLine(strings.TrimSpace(p.Make + " " + p.Product)), shell.OneLine(p.Serial), p.Socket, p.Driver, state})
		if p.HoldBack != nil && *p.HoldBack > 2 {
			notes = append(notes, fmt.Sprintf("%s holds bytes back for up to %d ms, which spoils latency tests: %s", p.Path, *p.HoldBack, port.FasterHint(p.Path)))
		}
	}
	shell.Table(sh.Out, rows)
	for _, n := range notes {
		fmt.Fprintln(sh.Out, n)
	}
}
