package run

import (
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/session"
)

// standinCommand is the command standin with its flags.
type standinCommand struct {
	*shell.Streams
	dir, truth, order, again string

	files shell.Outputs
}

// Standin is the command standin.
func Standin(sh *shell.Streams) *cobra.Command {
	c := &standinCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "standin [BENCH|PHRASEBOOK]",
		Short: "Start a simulated bench and keep it running",
		Long: `Brings the stand-ins of a bench to life on pseudo-terminals, says where each is,
and keeps them running until it is told to stop (Ctrl-C). It leaves nothing behind.
A phrasebook alone makes one too: a module that answers as the phrasebook says, so
that a procedure can be tried before the module has come. So does a record with
--from-record: each of its modules answers again as it did then, with its times.

With --tell it gives an order to the bench that is running already:
  power NAME on|off|cycle   gives a module power or takes it away
  wire NAME crossed         joined as it should be, TX to RX both ways
  wire NAME straight        TX to TX: neither hears the other
  wire NAME open            no wire at all
  wire NAME looped          the host's own TX and RX joined
  wire NAME level           another logic level: both hear noise
  swap NAME [SETTING=VALUE] another module of its family in its place
  hand NAME WHAT            what a hand does: a Plover's jumper on, a Brambling's lever`,
		Example: "uparrot standin larkfell.toml --truth truth.json",
		Args:    shell.Args(0, 1, "one bench or phrasebook"),
		RunE:    c.run,
	}
	cmd.Flags().StringVar(&c.dir, "dir", "", "folder for the links to the ports (default: beside the bench, BENCH.ports)")
	cmd.Flags().StringVar(&c.order, "tell", "", "give an order to the stand-ins that are running, such as \"power valley off\"")
	cmd.Flags().StringVar(&c.again, "from-record", "", "answer again as the modules in this record did")
	c.files.Add(cmd)
	cmd.Flags().StringVar(&c.truth, "truth", "", "keep what the air really did in this file, as JSON")
	return cmd
}

// bench is the bench that the arguments name: a file, a phrasebook or a record.
func (c *standinCommand) bench(cmd *cobra.Command, args []string) (*bench.Bench, error) {
	switch {
	case (c.again == "") == (len(args) == 0):
		return nil, shell.Usage(cmd, "give a bench or a phrasebook, or a record with --from-record")
	case c.again != "":
		b, err := bench.OfRecord(c.again)
		if err != nil {
			return nil, &session.Misuse{What: err.Error()}
		}
		return b, nil
	}
	read := shell.ReadBench
	if shell.IsPhrasebook(args[0]) {
		read = bench.OfPhrasebook
	}
	b, err := read(args[0])
	if err != nil {
		return nil, shell.AsUsage(err)
	}
	if len(b.Standins()) == 0 {
		return nil, shell.Usage(cmd, "the bench %s has no stand-ins: give a port a table such as [port.valley.standin] with family = \"dunlin\"", args[0])
	}
	return b, nil
}

func (c *standinCommand) run(cmd *cobra.Command, args []string) error {
	b, err := c.bench(cmd, args)
	if err != nil {
		return err
	}
	if c.dir == "" {
		c.dir = b.LinkDir()
	}
	c.files.Inputs = []string{b.File, c.again}
	if err := c.files.PlanFile(cmd, "truth", c.truth); err != nil {
		return err
	}
	c.truth = c.files.Free(c.truth)
	if c.order != "" {
		return withTellExample(session.Tell(c.dir, c.order))
	}
	live, err := session.Wake(b, c.dir, func(module, said string) {
		c.Err.Line("%s was told what is not in the record: %s", shell.Safe(module), shell.OneLine(said))
	})
	if err != nil {
		return err
	}
	for _, p := range b.Standins() {
		fmt.Fprintf(c.Out, "%s is at %s (%s, %s)\n", p.Name, live.At(p), familyWords(p), p.Setup.Line())
	}
	fmt.Fprintf(c.Out, "for other commands: --bench %s\n", filepath.Join(c.dir, session.BenchCopy))
	c.Err.Line("Running. Ctrl-C ends it.")
	kept := make(chan error, 1)
	if c.truth != "" {
		go func() { kept <- live.KeepTruth(c.truth) }()
	}
	select {
	case <-cmd.Context().Done():
		err = nil
	case err = <-kept:
		kept <- err
	}
	err = errors.Join(err, live.End())
	if c.truth != "" {
		err = errors.Join(err, <-kept)
	}
	return err
}

// familyWords is what a stand-in is made of.
func familyWords(p *bench.Entry) string {
	switch {
	case p.Standin.Again != nil:
		return "again as in the record, " + shell.Count(len(p.Standin.Again.Turns), "turn")
	case p.Standin.Family == "":
		return p.Phrasebook.Family + " by its phrasebook"
	}
	return p.Standin.Family
}

// withTellExample adds an order that is right to an error of a wrong one.
func withTellExample(err error) error {
	if wrong, ok := errors.AsType[*session.Misuse](err); ok {
		wrong.Example = `uparrot standin larkfell.toml --tell "power valley cycle"`
	}
	return err
}
