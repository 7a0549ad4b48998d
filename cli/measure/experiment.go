package measure

import (
	"errors"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/record"
	"uparrot/core/report/chart"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// experiment is what every experiment with links has: ports, evidence, and a picture of what came of it.
type experiment struct {
	*shell.Streams
	ports shell.PortFlags
	keeps shell.EvidenceFlags
	files shell.Outputs
	plot  string
}

// add lays the flags on; the picture shows what drawn says.
func (e *experiment) add(cmd *cobra.Command, drawn string) {
	e.ports.Add(cmd)
	e.keeps.Add(cmd)
	e.files.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&e.plot, "plot", "", "draw "+drawn+" to this file, .png or .svg")
	fl.BoolVar(&e.keeps.Quiet, "quiet", false, "no progress while it runs")
	e.AddJSON(cmd, "the result")
}

// read reads the ports, and looks whether the picture may be drawn.
func (e *experiment) read(cmd *cobra.Command) (*session.Ports, error) {
	ps, err := e.ports.Read(cmd)
	if err != nil {
		return nil, err
	}
	e.files.Inputs = ps.Files()
	return ps, e.files.PlanPicture(cmd, "plot", e.plot)
}

// conduct makes an experiment, draws what came of it, and prints it: as data, or by show.
func conduct[T any](e *experiment, cmd *cobra.Command, about session.About, watch func(record.Event), do func(*record.Stream) (T, verdict.Verdict, error), picture func(T) chart.Chart, show func(*shell.Streams, T)) error {
	var res T
	if e.keeps.Quiet {
		watch = nil
	}
	v, err := e.Conduct(cmd.Context(), e.keeps, about, watch, func(events *record.Stream) (v verdict.Verdict, err error) {
		res, v, err = do(events)
		return v, err
	})
	if err != nil && !errors.Is(err, session.ErrEvidence) {
		return err
	}
	err = errors.Join(err, e.Draw(&e.files, e.plot, picture(res)))
	if e.JSON {
		err = errors.Join(err, e.PrintJSON(res))
	} else {
		show(e.Streams, res)
	}
	return shell.WithVerdict(v, err)
}
