package measure

import (
	"fmt"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/link"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// linkAnswerCommand is the command link answer with its flags.
type linkAnswerCommand struct {
	*shell.Streams
	ports shell.PortFlags
	keeps shell.EvidenceFlags
}

func linkAnswer(sh *shell.Streams) *cobra.Command {
	c := &linkAnswerCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "answer PORT",
		Short: "Answer test frames at the far end, with its own times",
		Long: `Repeats every test frame that comes at a port, until it is told to stop (Ctrl-C).
Its times of receiving and sending go back in the frame, so that "uparrot link test"
at the near end can take its share out.`,
		Example: "uparrot link answer " + port.Example + " --phrasebook dunlin.toml",
		Args:    shell.Args(1, 1, "one port"),
		RunE:    c.run,
	}
	c.ports.Add(cmd)
	c.keeps.AddRecord(cmd)
	return cmd
}

func (c *linkAnswerCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.ports.Read(cmd)
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
	_, err = c.Conduct(cmd.Context(), c.keeps, shell.About(link.AnswerName, st.Name, ps, st), nil, func(events *record.Stream) (verdict.Verdict, error) {
		far.Events = events
		fmt.Fprintf(c.Out, "answering at %s (%s)\n", st.Address, st.Setup.Words())
		c.Err.Line("Ctrl-C ends it.")
		return verdict.Measured, far.Do(cmd.Context())
	})
	fmt.Fprintf(c.Out, "%s repeated\n", shell.Count(int(far.Repeated.Load()), "frame"))
	return shell.WithVerdict(verdict.Measured, err)
}
