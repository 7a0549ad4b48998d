package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/bringup/probe"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/uart"
)

func (a *app) probe() *cobra.Command {
	var (
		flags                  portFlags
		wake, speeds           []string
		write, name, recording string
		plan                   bool
	)
	cmd := &cobra.Command{
		Use:   "probe PORT",
		Short: "Finds speed, frame and line ending, and says what it heard",
		Long: `Listens, then asks over speeds, frames and line endings, and judges what comes
back by how readable it is. It sends only what --wake allows: Enter alone and AT
unless you say otherwise. --plan tells what would be sent.`,
		Example: "uparrot probe /dev/ttyUSB0 --write larkfell.toml --name valley",
		Args:    args(1, 1, "one port"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ps, err := flags.read(cmd)
			if err != nil {
				return err
			}
			p := &probe.Probe{Wake: wake}
			for _, s := range speeds {
				n, err := strconv.Atoi(s)
				if err != nil || n < uart.MinSpeed || n > uart.MaxSpeed {
					return usage(cmd, "--speeds: %q is no speed from %d to %d baud", s, uart.MinSpeed, uart.MaxSpeed)
				}
				p.Speeds = append(p.Speeds, n)
			}
			if p.Speeds == nil {
				p.Speeds = probe.Speeds
			}
			if plan {
				a.probePlan(p)
				return nil
			}
			st, err := ps.station(args[0], phrasebook.Setup{}, nil)
			if err != nil {
				return err
			}
			if name == "" {
				name = benchName(args[0])
			}
			if write != "" {
				if err := canWrite(write, name); err != nil {
					return err
				}
			}
			dev, err := port.Open(st.Address, uart.Line{Speed: p.Speeds[0]})
			if err != nil {
				return err
			}
			e, err := a.evidence(onlyRecord(recording), "probe", "probe", ps, nil)
			if err != nil {
				return errors.Join(err, dev.Close())
			}
			p.Port = recorded(dev, e.w, args[0])
			p.Observe = func(h probe.Heard) {
				if h.Text != "" {
					a.err.draw("%d baud: heard %s", h.Speed, oneLine(h.Text))
				}
			}
			res, err := p.Run(cmd.Context())
			a.err.end()
			err = errors.Join(err, dev.Close())
			if err = e.end(err); err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(res)
			} else {
				a.probeResult(res)
			}
			if err == nil && res.Kind == probe.Found && write != "" {
				if err = writeEntry(write, name, st.Address, res); err == nil {
					a.err.line("written to %s as port %s", write, name)
				}
			}
			if err == nil && res.Kind != probe.Found {
				err = errQuiet{exitFailed}
			}
			return err
		},
	}
	cmd.Flags().StringVar(&flags.bench, "bench", "", "bench file that names the port")
	cmd.Flags().StringArrayVar(&wake, "wake", nil, `a text that may be sent, in place of Enter and AT; "" is Enter alone`)
	cmd.Flags().StringSliceVar(&speeds, "speeds", nil, "speeds to try, in this order, such as 9600,74880")
	cmd.Flags().StringVar(&write, "write", "", "write what was found into this bench file")
	cmd.Flags().StringVar(&name, "name", "", "the port's name there (default: made from the address)")
	cmd.Flags().StringVar(&recording, "record", "", recordHelp)
	cmd.Flags().BoolVar(&plan, "plan", false, "tell what would be sent, and touch nothing")
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	return cmd
}

func (a *app) probePlan(p *probe.Probe) {
	wake := p.Wake
	if wake == nil {
		wake = probe.Wake
	}
	var say []string
	for _, w := range wake {
		if w == "" {
			w = "Enter alone"
		}
		say = append(say, w)
	}
	var list []string
	for _, s := range p.Speeds {
		list = append(list, strconv.Itoa(s))
	}
	fmt.Fprintf(a.out, "At each of these speeds, until there is a readable answer: %s baud.\n", strings.Join(list, ", "))
	fmt.Fprintf(a.out, "It would listen, then send: %s; each with CR LF at the end.\n", strings.Join(say, ", then "))
	fmt.Fprintln(a.out, "Where an answer is readable, the same again with CR, with LF and with the frame that was found. Nothing else.")
}

func (a *app) probeResult(r probe.Result) {
	s := newScreen(a.out)
	if r.Kind == probe.Found {
		how := "sure"
		if !r.Sure {
			how = "likely, not sure"
		}
		fmt.Fprintf(a.out, "%s  %s, ending %s, dialect %s (%s, in %s)\n", s.bold(r.Port), r.Line(), r.Ending, r.Dialect, how, took(fromMS(r.TookMS)))
	} else {
		fmt.Fprintf(a.out, "%s  no setting was found (in %s)\n", s.bold(r.Port), took(fromMS(r.TookMS)))
		for i, h := range r.Heard {
			if h.Text != "" && i < 8 {
				fmt.Fprintf(a.out, "  heard at %d: %s\n", h.Speed, oneLine(h.Text[:min(60, len(h.Text))]))
			}
		}
	}
	for _, w := range r.Why {
		fmt.Fprintf(a.out, "  %s\n", safe(w))
	}
	for _, p := range r.Points {
		fmt.Fprintf(a.out, "  look at: %s\n", p)
	}
}

// benchName makes a port's name out of its address.
func benchName(address string) string {
	name := strings.ToLower(filepath.Base(address))
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
			return r
		}
		return '_'
	}, name)
}

// canWrite reports whether a bench can take a new entry, before the port is
// touched.
func canWrite(file, name string) error {
	if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	b, err := bench.Read(file)
	if err != nil {
		return asUsage(err)
	}
	if _, ok := b.Port(name); ok {
		return &errUsage{what: fmt.Sprintf("the bench %s has a port %s already: choose another name with --name", file, name)}
	}
	return nil
}

// writeEntry adds a port to a bench file and leaves the rest as it is.
func writeEntry(file, name, address string, r probe.Result) error {
	if abs, err := filepath.Abs(address); err == nil && strings.Contains(address, "/") && !strings.Contains(address, "://") {
		address = abs
	}
	entry := fmt.Sprintf("[port.%s]\nat = %q\ndialect = %q\nspeed = %d\nframe = %q\nending = %q\n", name, address, r.Dialect, r.Speed, r.Frame.String(), r.Ending)
	if !r.Sure {
		entry = "# likely, not sure\n" + entry
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return fmt.Errorf("write the bench: %w", err)
	}
	if info, serr := f.Stat(); serr == nil && info.Size() > 0 {
		entry = "\n" + entry
	}
	_, err = f.WriteString(entry)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("write the bench: %w", err)
	}
	return nil
}
