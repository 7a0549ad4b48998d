package speak

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// settingsCommand is what the commands of settings share.
type settingsCommand struct {
	*shell.Streams
	ports shell.PortFlags
	signs shell.SignFlags
	keeps shell.EvidenceFlags
	files shell.Outputs
}

func (c *settingsCommand) add(cmd *cobra.Command) {
	c.ports.Add(cmd)
	c.signs.Add(cmd)
	c.keeps.Add(cmd)
	c.files.Add(cmd)
	c.AddJSON(cmd, "the result")
}

// Settings is the command settings with its subcommands.
func Settings(sh *shell.Streams) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "settings",
		Short: "Read, apply, compare and restore settings of modules",
		Long: `Reads and writes the settings that the phrasebooks of the modules tell of, of several
modules at once.`,
		Example: "uparrot settings read valley summit --bench larkfell.toml",
		Args:    shell.Subcommands,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(settingsRead(sh), settingsApply(sh), settingsCompare(sh), settingsRestore(sh))
	return cmd
}

func settingsRead(sh *shell.Streams) *cobra.Command {
	c := &settingsCommand{Streams: sh}
	var out string
	cmd := &cobra.Command{
		Use:   "read PORT [PORT...]",
		Short: "Read all settings of modules, side by side",
		Long: `Reads what the modules say that they are, and all their settings, and shows them side by
side. What differs is marked; what must be equal or different on modules of one system is
judged as the phrasebook says, and a broken rule is a failure. --out keeps them in a file
for settings apply and compare.`,
		Example: "uparrot settings read valley summit --bench larkfell.toml --out settings.toml",
		Args:    shell.Args(1, -1, "one port or more"),
	}
	cmd.RunE = func(cmd *cobra.Command, names []string) error {
		if err := c.files.PlanFile(cmd, "out", out); err != nil {
			return err
		}
		var mods []*session.Module
		v, err := c.conductModules(cmd, "settings read", names, nil, func(ctx context.Context, m *session.Modules) (verdict.Verdict, error) {
			var err error
			if mods, err = m.Read(ctx, record.AsFound); err != nil {
				return "", err
			}
			return session.JudgeRead(mods), nil
		})
		if mods == nil {
			return shell.WithVerdict(v, err)
		}
		if c.JSON {
			err = errors.Join(err, c.PrintJSON(modulesJSON(mods)))
		} else {
			c.showModules(mods)
		}
		if out != "" {
			err = errors.Join(err, c.Save(&c.files, out, func(w io.Writer) error { return session.WriteSettings(w, mods) }))
		}
		return shell.WithVerdict(v, err)
	}
	c.add(cmd)
	cmd.Flags().StringVar(&out, "out", "", "keep the settings in this file (TOML)")
	return cmd
}

// conductModules does something with modules in a session. What is wanted of them is checked
// before a port is opened.
func (c *settingsCommand) conductModules(cmd *cobra.Command, what string, names []string, wanted session.Wanted, do func(context.Context, *session.Modules) (verdict.Verdict, error)) (verdict.Verdict, error) {
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return "", err
	}
	if err := c.signs.Into(cmd, &ps.Over); err != nil {
		return "", err
	}
	m := &session.Modules{}
	if m.Stations, err = ps.Stations(names...); err != nil {
		return "", shell.WithExample(cmd, err)
	}
	if err := errors.Join(m.Known(), m.Check(wanted)); err != nil {
		return "", shell.WithExample(cmd, err)
	}
	c.keeps.Quiet = c.JSON
	s, err := session.Begin(cmd.Context(), c.Keep(c.keeps), shell.About(what, what, ps, m.Stations...), c.progress())
	if err != nil {
		return "", err
	}
	m.Session = s
	v, err := s.Do(func() (verdict.Verdict, error) {
		defer c.Err.End()
		return do(cmd.Context(), m)
	})
	c.Told(c.keeps, s.Record)
	return v, err
}

// progress draws which setting is being read or written.
func (c *settingsCommand) progress() func(record.Event) {
	return func(e record.Event) {
		if e.Kind == record.Step && e.Verdict == "" {
			c.Err.Draw("   %s", shell.OneLine(e.Step))
		}
	}
}

func modulesJSON(mods []*session.Module) map[string]any {
	list := []record.Settings{}
	for _, m := range mods {
		list = append(list, m.Settings)
	}
	return map[string]any{"modules": list, "broken": session.Pairs(mods)}
}

// showModules prints modules side by side, those of one family in a table.
func (c *settingsCommand) showModules(mods []*session.Module) {
	s := shell.NewScreen(c.Out)
	pairs := session.Pairs(mods)
	for _, family := range session.FamiliesOf(mods) {
		var own []*session.Module
		for _, m := range mods {
			if m.Family == family {
				own = append(own, m)
			}
		}
		fmt.Fprintf(c.Out, "\n%s\n\n", s.Bold(shell.OneLine(family)))
		shell.Table(c.Out, settingRows(own, pairs))
	}
	account.TellPairs(c.Out, s, pairs)
}

// settingRows are the settings of modules of one family, one column each.
func settingRows(mods []*session.Module, pairs []record.PairFault) [][]string {
	head := []string{"setting", "unit", "as delivered"}
	for _, m := range mods {
		name := m.Name
		if m.Book == nil { // of another time
			name = strings.TrimSpace(m.Name + " " + m.When)
		}
		head = append(head, shell.OneLine(name))
	}
	rows := [][]string{append(head, "")}
	row := func(name, unit, factory string) {
		cells := []string{shell.OneLine(name), shell.OneLine(unit), shell.OneLine(factory)}
		seen := map[string]bool{}
		for _, m := range mods {
			v, ok := m.Setting(name)
			if !ok {
				cells = append(cells, "-")
				continue
			}
			seen[v.Shown()] = true
			cells = append(cells, shell.OneLine(shell.Clip(v.Shown())))
		}
		note := ""
		if len(seen) > 1 {
			note = "differs"
			if session.RuleOf(mods, name) == "different" {
				note = "differs, as it must"
			}
		}
		for _, p := range pairs {
			if p.Name == name {
				note = "must be " + p.Rule
			}
		}
		rows = append(rows, append(cells, note))
	}
	for _, name := range session.NamesOf(mods) {
		s := phrasebook.Setting{}
		for _, m := range mods {
			if m.Book != nil && s.Name == "" {
				s, _ = m.Book.Setting(name)
			}
		}
		row(name, s.Unit, s.Default)
	}
	return rows
}

// confirmed asks whether changes are to be made.
func (c *settingsCommand) confirmed(ctx context.Context, yes bool, n int, breaks bool) (bool, error) {
	if yes {
		return true, nil
	}
	if !shell.IsTerminal(c.In) {
		return false, &session.Misuse{What: "cannot ask without a terminal; use --yes"}
	}
	question := "Write " + shell.Count(n, "setting") + "?"
	if breaks {
		question = "Write " + shell.Count(n, "setting") + ", although that breaks a rule of the phrasebook?"
	}
	return (&account.Person{App: c.Streams}).Confirm(ctx, question)
}
