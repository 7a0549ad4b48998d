package rehearse

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/procedure"
	"uparrot/core/rehearse"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// rehearseSettings rehearses that settings are applied to modules.
func (c *rehearseCommand) rehearseSettings(cmd *cobra.Command, names []string) error {
	if c.Units != "" || c.mend || len(c.Inputs.Set) > 0 || c.Inputs.File != "" || len(c.Where) > 0 {
		return shell.Usage(cmd, "--settings takes ports, and neither --units, --mend, --set nor --port")
	}
	least, err := c.plan(cmd)
	if err != nil {
		return err
	}
	if _, err := os.Stat(c.settings); err != nil {
		return shell.Usage(cmd, "--settings: %v", err)
	}
	mods, err := session.ReadSettings(c.settings)
	if err != nil {
		return err
	}
	wanted, err := session.WantedOf(mods, names)
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	ps, err := c.Ports.Read(cmd)
	if err != nil {
		return err
	}
	play, err := session.SettingsPlay(ps, names, wanted)
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	play.Seed = c.seed
	return c.rehearsed(cmd, "settings apply", &procedure.File{Title: "settings apply"}, play, nil, nil, least)
}

// rehearseUnits tells how long a table of units would take.
func (c *rehearseCommand) rehearseUnits(cmd *cobra.Command, p *session.Procedure, play *rehearse.Play) error {
	switch {
	case c.mend || c.OutFile != "" || c.least != "":
		return shell.Usage(cmd, "--units tells how long it takes: leave out --mend, --out and --min-caught")
	case c.hand < 0 || c.hands < 1 || c.hands > 1000:
		return shell.Usage(cmd, "--hand is not below zero, and --hands 1 to 1000")
	}
	table, err := session.ReadUnits(c.Units, play.File, c.Inputs, nil)
	if err != nil {
		return err
	}
	b := rehearse.Batch{Slots: 1, Hand: c.hand, Hands: c.hands}
	if p.Ports.Bench != nil {
		b.Shared = p.Ports.Bench.Shared
	}
	for _, st := range play.File.Steps {
		for _, name := range st.Uses {
			if b.Shared[name] == 0 {
				return shell.Usage(cmd, "the step %q uses %s, which the bench does not name: write %s = 1 in [shared]", st.Title, name, name)
			}
		}
	}
	if c.Slots != "" {
		chosen, err := c.ChosenSlots(p.Ports.Bench)
		if err != nil {
			return shell.WithExample(cmd, err)
		}
		b.Slots = len(chosen)
	}
	for _, row := range table.Rows {
		values := map[string]any{}
		for _, s := range p.File.Secrets {
			values[s.Name] = p.Values[s.Name]
		}
		for name, v := range row.Values {
			values[name] = v
		}
		b.Units = append(b.Units, values)
	}
	play.For = c.within
	s, err := play.Batch(cmd.Context(), b)
	if cut, is := errors.AsType[*rehearse.Cut](err); is {
		c.Err.Line("%s: how long it would take is not known", shell.Safe(cut.Error()))
		return shell.NotPassed(verdict.Undecided)
	}
	if err != nil {
		return err
	}
	if c.JSON {
		waits := []map[string]any{}
		for _, w := range s.Shares {
			waits = append(waits, map[string]any{"what": w.What, "waited_s": w.Waited.Seconds(), "used": w.Used})
		}
		err = c.PrintJSON(map[string]any{"units": s.Units, "slots": s.Slots, "failed": s.Failed, "total_s": s.Total.Seconds(), "unit_s": s.Unit.Seconds(), "waits": waits})
	} else {
		c.tellBatch(s)
	}
	if err == nil && s.Failed > 0 {
		err = shell.NotPassed(verdict.Failed)
	}
	return err
}

func (c *rehearseCommand) tellBatch(s rehearse.Spent) {
	w := c.Streams.Out
	fmt.Fprintf(w, "%s on %s: %s, one every %s; the procedure takes %s, and %v to put a module in\n\n",
		shell.Count(s.Units, "unit"), shell.Count(s.Slots, "slot"), shell.Took(s.Total), shell.Took(s.Total/time.Duration(max(1, s.Units))), shell.Took(s.Unit), c.hand)
	rows := [][]string{{"shared", "in use", "waited for, all slots together"}}
	for _, x := range s.Shares {
		rows = append(rows, []string{shell.OneLine(x.What), fmt.Sprintf("%.0f %%", 100*x.Used), shell.Took(x.Waited)})
	}
	shell.Table(w, rows)
	if s.Failed > 0 {
		fmt.Fprintf(w, "\n%s failed at good modules: rehearse the procedure first\n", shell.Count(s.Failed, "unit"))
	}
}
