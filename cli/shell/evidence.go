package shell

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// Conduct does something at some ports in a session: the record, the ledger and
// watch, which may be nil, are told of all that happens; then the verdict is sealed.
func (a *Streams) Conduct(ctx context.Context, f EvidenceFlags, about session.About, watch func(record.Event), do func(*record.Stream) (verdict.Verdict, error)) (verdict.Verdict, error) {
	s, err := session.Begin(ctx, a.Keep(f), about, watch)
	if err != nil {
		return "", err
	}
	v, err := s.Do(func() (verdict.Verdict, error) {
		defer a.Err.End()
		return do(s.Events)
	})
	a.Told(f, s.Record)
	if f.Also != nil && f.Also.Copy != "" {
		err = errors.Join(err, a.copyRecord(f.Also, s.Record))
	}
	return v, err
}

// copyRecord keeps a record under another name too.
func (a *Streams) copyRecord(to *Outputs, path string) error {
	err := func() error {
		in, err := source.Open(path)
		if err != nil {
			return err
		}
		defer in.Close()
		return a.Save(to, to.Copy, func(w io.Writer) error {
			_, err := io.Copy(w, in)
			return err
		})
	}()
	if err != nil {
		return fmt.Errorf("keep the record as %s too: %w", to.Copy, err)
	}
	return nil
}

// OnPort is conduct of something that takes one port for itself, without a
// conversation.
func (a *Streams) OnPort(ctx context.Context, f EvidenceFlags, about session.About, watch func(record.Event), do func(port.Port, *record.Stream) (verdict.Verdict, error)) (verdict.Verdict, error) {
	return a.Conduct(ctx, f, about, watch, func(events *record.Stream) (verdict.Verdict, error) {
		dev, err := about.Stations[0].Port(ctx, events)
		if err != nil {
			return "", err
		}
		v, err := do(dev, events)
		return v, errors.Join(err, dev.Close())
	})
}

// About is what is done at ports of these flags.
func About(command, name string, ps *session.Ports, stations ...*bench.Station) session.About {
	return session.About{Command: command, Name: name, Ports: ps, Stations: stations}
}

// AddJSON is the flag of a command whose result is data.
func (a *Streams) AddJSON(cmd *cobra.Command, what string) {
	cmd.Flags().BoolVar(&a.JSON, "json", false, "print "+what+" as JSON")
}
