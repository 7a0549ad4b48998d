package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"uparrot/core/link"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// linkAnswerCommand is the command link answer with its flags.
type linkAnswerCommand struct {
	*app
	ports portFlags
	keeps evidenceFlags
}

func (a *app) linkAnswer() *cobra.Command {
	c := &linkAnswerCommand{app: a}
	cmd := &cobra.Command{
		Use:   "answer PORT",
		Short: "The far end: repeats every test frame back with its own times",
		Long: `Repeats every test frame that comes at a port, until it is told to stop (Ctrl-C).
Its times of receiving and sending go back in the frame, so that "uparrot link test"
at the near end can take its share out.`,
		Example: "uparrot link answer " + port.Example + " --phrasebook dunlin.toml",
		Args:    args(1, 1, "one port"),
		RunE:    c.run,
	}
	c.ports.add(cmd)
	c.keeps.addRecord(cmd)
	return cmd
}

func (c *linkAnswerCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.ports.read(cmd)
	if err != nil {
		return err
	}
	stations, err := ps.Stations(args...)
	if err != nil {
		return err
	}
	st := stations[0]
	c.keeps.NoFiling = true // it is the far end's part of a test that is filed there
	far := &link.Answer{Station: st}
	_, err = c.conduct(cmd.Context(), c.keeps, at(link.AnswerName, st.Name, ps, st), nil, func(events *record.Stream) (verdict.Verdict, error) {
		far.Events = events
		fmt.Fprintf(c.out, "answering at %s (%s)\n", st.Address, st.Setup.Words())
		c.err.line("Ctrl-C ends it.")
		return verdict.Measured, far.Do(cmd.Context())
	})
	fmt.Fprintf(c.out, "%s repeated\n", count(int(far.Repeated.Load()), "frame"))
	return withVerdict(verdict.Measured, err)
}
