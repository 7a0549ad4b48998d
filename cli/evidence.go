package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// conduct does something at some ports in a session: the record, the ledger and
// watch, which may be nil, are told of all that happens; then the verdict is sealed.
func (a *app) conduct(ctx context.Context, f evidenceFlags, about session.About, watch func(record.Event), do func(*record.Stream) (verdict.Verdict, error)) (verdict.Verdict, error) {
	s, err := session.Begin(ctx, a.keep(f), about, watch)
	if err != nil {
		return "", err
	}
	v, err := s.Do(func() (verdict.Verdict, error) {
		defer a.err.end()
		return do(s.Events)
	})
	a.told(f, s.Record)
	if f.also != nil && f.also.copy != "" {
		err = errors.Join(err, a.copyRecord(f.also, s.Record))
	}
	return v, err
}

// copyRecord keeps a record under another name too.
func (a *app) copyRecord(to *outputs, path string) error {
	err := func() error {
		in, err := os.Open(path)
		if err != nil {
			return err
		}
		defer in.Close()
		return a.save(to, to.copy, func(w io.Writer) error {
			_, err := io.Copy(w, in)
			return err
		})
	}()
	if err != nil {
		return fmt.Errorf("keep the record as %s too: %w", to.copy, err)
	}
	return nil
}

// onPort is conduct of something that takes one port for itself, without a
// conversation.
func (a *app) onPort(ctx context.Context, f evidenceFlags, about session.About, watch func(record.Event), do func(port.Port, *record.Stream) (verdict.Verdict, error)) (verdict.Verdict, error) {
	return a.conduct(ctx, f, about, watch, func(events *record.Stream) (verdict.Verdict, error) {
		dev, err := about.Stations[0].Port(ctx, events)
		if err != nil {
			return "", err
		}
		v, err := do(dev, events)
		return v, errors.Join(err, dev.Close())
	})
}

// at is what is done at ports of these flags.
func at(command, name string, ps *session.Ports, stations ...*bench.Station) session.About {
	return session.About{Command: command, Name: name, Ports: ps, Stations: stations}
}

// addJSON is the flag of a command whose result is data.
func (a *app) addJSON(cmd *cobra.Command, what string) {
	cmd.Flags().BoolVar(&a.json, "json", false, "print "+what+" as JSON")
}
