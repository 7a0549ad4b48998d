package speak

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// writeFlags say how settings are written.
type writeFlags struct {
	yes, plan, noRestart bool
}

func (f *writeFlags) add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.BoolVar(&f.yes, "yes", false, "write without asking")
	fl.BoolVar(&f.plan, "plan", false, "print what is wanted, and open no port")
	fl.BoolVar(&f.noRestart, "no-restart", false, "do not have the modules start again to see that the settings survive")
}

func settingsApply(sh *shell.Streams) *cobra.Command {
	c := &settingsCommand{Streams: sh}
	var file string
	var set []string
	var how writeFlags
	cmd := &cobra.Command{
		Use:   "apply PORT [PORT...]",
		Short: "Write the settings that differ, and read them back",
		Long: `Reads the settings as found, says what will change and asks, writes only what differs, in
the order that the phrasebook needs, saves, has the modules start again where the
phrasebook says how, and reads all back. A value that did not take is a failure. A second
time nothing is changed. As found and as left are both in the record.

The file is one of settings read, or NAME = VALUE in lines; --set takes precedence.`,
		Example: `uparrot settings apply valley summit --bench larkfell.toml --set group=7 --set "name=tower 3"`,
		Args:    shell.Args(1, -1, "one port or more"),
	}
	cmd.RunE = func(cmd *cobra.Command, names []string) error {
		wanted, said := session.Wanted{}, map[string]bool{}
		var mods []*session.Module
		var err error
		if file != "" {
			if mods, err = session.ReadSettings(file); err != nil {
				return err
			}
			if wanted, err = session.WantedOf(mods, names); err != nil {
				return shell.WithExample(cmd, err)
			}
		}
		for _, text := range set {
			name, v, ok := strings.Cut(text, "=")
			if name = strings.TrimSpace(name); !ok || name == "" {
				return shell.Usage(cmd, "--set %s: wanted NAME=VALUE", text)
			}
			for _, of := range append([]string{""}, names...) {
				if wanted[of] == nil {
					wanted[of] = map[string]string{}
				}
				wanted[of][name] = v
			}
			said[name] = true
		}
		if len(wanted) == 0 {
			return shell.Usage(cmd, "nothing is wanted: give --set NAME=VALUE or --file FILE")
		}
		return c.apply(cmd, "settings apply", names, how, func(ctx context.Context, found []*session.Module) (session.Wanted, error) {
			if len(mods) == 0 {
				return wanted, nil
			}
			return c.ofFile(ctx, how, file, wanted, mods, found, said)
		}, wanted)
	}
	c.add(cmd)
	how.add(cmd)
	cmd.Flags().StringVar(&file, "file", "", "the values, in TOML: a file of settings read, or NAME = VALUE")
	cmd.Flags().StringArrayVar(&set, "set", nil, "a value for all: NAME=VALUE")
	return cmd
}

func settingsRestore(sh *shell.Streams) *cobra.Command {
	c := &settingsCommand{Streams: sh}
	var from string
	var factory, bare bool
	var how writeFlags
	cmd := &cobra.Command{
		Use:     "restore PORT [PORT...]",
		Short:   "Restore settings: from a record, or the factory defaults",
		Example: "uparrot settings restore valley --bench larkfell.toml --from-record before.record",
		Args:    shell.Args(1, -1, "one port or more"),
	}
	cmd.RunE = func(cmd *cobra.Command, names []string) error {
		if (from == "") == !factory {
			return shell.Usage(cmd, "say what to: --from-record FILE, or --factory")
		}
		var given session.Wanted
		var mods []*session.Module
		if from != "" {
			var err error
			if mods, err = modulesOfRecord(from, false, bare); err != nil {
				return err
			}
			if given, err = session.WantedOf(mods, names); err != nil {
				return shell.WithExample(cmd, err)
			}
		}
		return c.apply(cmd, "settings restore", names, how, func(ctx context.Context, found []*session.Module) (session.Wanted, error) {
			wanted := session.Restored(found, given)
			if len(mods) == 0 {
				return wanted, nil
			}
			return c.ofFile(ctx, how, from, wanted, mods, found, nil)
		}, nil)
	}
	c.add(cmd)
	how.add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&from, "from-record", "", "the record that tells how they were found")
	fl.BoolVar(&bare, "allow-unprotected", false, "take a record without checksums, too: nothing tells whether it was altered")
	fl.BoolVar(&factory, "factory", false, "to the values as delivered, as the phrasebook tells them")
	return cmd
}

// apply makes settings so. What is wanted may depend on what was found.
func (c *settingsCommand) apply(cmd *cobra.Command, what string, names []string, how writeFlags, wantedOf func(context.Context, []*session.Module) (session.Wanted, error), known session.Wanted) error {
	if how.plan {
		return c.printWanted(cmd, names, known)
	}
	var changes []session.Change
	var left []*session.Module
	began := false
	v, err := c.conductModules(cmd, what, names, known, func(ctx context.Context, m *session.Modules) (verdict.Verdict, error) {
		found, err := m.Read(ctx, record.AsFound)
		if err != nil {
			return "", err
		}
		wanted, err := wantedOf(ctx, found)
		if err != nil {
			return "", err
		}
		changes, began, left = m.Changes(found, wanted), true, found
		if len(changes) == 0 {
			return session.JudgeChanges(changes, left), nil
		}
		if !c.JSON {
			c.showChanges(changes, false)
		}
		faults := session.Pairs(session.Planned(found, changes))
		for _, f := range faults {
			c.Err.Line("warning: %s", account.PairWords(f, "would be"))
		}
		if ok, err := c.confirmed(ctx, how.yes, len(changes), len(faults) > 0); err != nil || !ok {
			if err == nil {
				c.Err.Line("nothing was written")
			}
			return verdict.Skipped, err
		}
		if left, err = m.Write(ctx, changes, !how.noRestart); err != nil {
			return "", err
		}
		return session.JudgeChanges(changes, left), nil
	})
	switch {
	case !began || v == verdict.Skipped || v == "":
	case c.JSON:
		if changes == nil {
			changes = []session.Change{}
		}
		err = errors.Join(err, c.PrintJSON(map[string]any{"verdict": v, "changes": changes, "broken": session.Pairs(left)}))
	case len(changes) == 0:
		fmt.Fprintln(c.Out, "nothing to change: all settings are as they are wanted")
		account.TellPairs(c.Out, shell.NewScreen(c.Out), session.Pairs(left))
	default:
		fmt.Fprintln(c.Out)
		c.showChanges(changes, true)
		account.TellPairs(c.Out, shell.NewScreen(c.Out), session.Pairs(left))
		fmt.Fprintf(c.Out, "\n%s\n", shell.NewScreen(c.Out).Verdict(v, 0))
	}
	return shell.WithVerdict(v, err)
}

// printWanted tells what is wanted, without a port.
func (c *settingsCommand) printWanted(cmd *cobra.Command, names []string, w session.Wanted) error {
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return err
	}
	m := &session.Modules{}
	if m.Stations, err = ps.Stations(names...); err != nil {
		return shell.WithExample(cmd, err)
	}
	if err := errors.Join(m.Known(), m.Check(w)); err != nil {
		return shell.WithExample(cmd, err)
	}
	rows := [][]string{{"module", "setting", "wanted"}}
	for _, st := range m.Stations {
		for _, s := range st.Phrasebook.Settings {
			if v, ok := w.Of(st.Name)[s.Name]; ok {
				if s.Secret {
					v = "[secret]"
				}
				rows = append(rows, []string{shell.OneLine(st.Name), shell.OneLine(s.Name), shell.OneLine(shell.WithUnit(v, s.Unit))})
			}
		}
	}
	shell.Table(c.Out, rows)
	fmt.Fprintln(c.Out, "\nEach is read first, and written only where it differs. No port was opened.")
	return nil
}

// showChanges prints changes, and with after what came of them.
func (c *settingsCommand) showChanges(changes []session.Change, after bool) {
	w := io.Writer(c.Out)
	s := shell.NewScreen(w)
	head := []string{"module", "setting", "from", "to"}
	if after {
		head = append(head, "now", "")
	}
	rows := [][]string{head}
	for _, ch := range changes {
		row := []string{shell.OneLine(ch.Module), shell.OneLine(ch.Name), shell.OneLine(shell.Clip(ch.From)), shell.OneLine(shell.Clip(ch.To))}
		if after {
			note := s.Verdict(verdict.Passed, 0)
			if !ch.Took {
				note = s.Verdict(verdict.Failed, 0) + "  " + shell.OneLine(ch.WhyNot)
			} else if ch.Now == "" {
				note = "written, and cannot be read back"
			}
			row = append(row, shell.OneLine(shell.Clip(ch.Now)), note)
		}
		rows = append(rows, row)
	}
	shell.Table(w, rows)
}

// modulesOfRecord are the settings that a record tells of.
func modulesOfRecord(path string, left, bare bool) (mods []*session.Module, err error) {
	f, err := source.Open(path)
	if err != nil {
		return nil, &session.Misuse{What: fmt.Sprintf("read the record: %v", err)}
	}
	defer f.Close()
	state, err := record.Read(f, func(e record.Event) (err error) {
		mods, err = session.ModulesIn(e, mods, left)
		return err
	})
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s: %w", path, err)
	case state.Altered != "":
		return nil, &session.Misuse{What: fmt.Sprintf("%s is altered: %s", path, state.Altered)}
	case state.Sums == 0 && !bare:
		return nil, &session.Misuse{What: path + " has no checksums, so nothing tells whether it was altered: --allow-unprotected takes it all the same"}
	case len(mods) == 0:
		return nil, &session.Misuse{What: path + " tells of no settings: it is of no settings read, apply or restore"}
	}
	return mods, nil
}

func settingsCompare(sh *shell.Streams) *cobra.Command {
	c := &settingsCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "compare A B [...]",
		Short: "Compare settings of modules, files, records and units side by side",
		Long: `Compares settings: of ports, which are read; of files of settings read; of records, as the
modules were left; and of units, unit:NAME, as the latest runs in the ledger left
them. A difference, or a broken rule of the phrasebook, is a failure.`,
		Example: "uparrot settings compare valley unit:LK-0017 --bench larkfell.toml",
		Args:    shell.Args(1, -1, "two or more: ports, files, records, unit:NAME"),
	}
	cmd.RunE = func(cmd *cobra.Command, names []string) error {
		var ports []string
		var mods []*session.Module
		for _, name := range names {
			got, is, err := c.kept(cmd.Context(), name)
			if err != nil {
				return err
			}
			if mods = append(mods, got...); !is {
				ports = append(ports, name)
			}
		}
		v := verdict.Passed
		var err error
		if len(ports) > 0 {
			v, err = c.conductModules(cmd, "settings compare", ports, nil, func(ctx context.Context, m *session.Modules) (verdict.Verdict, error) {
				read, err := m.Read(ctx, record.AsFound)
				mods = append(read, mods...)
				return session.JudgeSame(mods), err
			})
		} else {
			v = session.JudgeSame(mods)
		}
		if err != nil && v == "" {
			return err
		}
		if len(mods) < 2 {
			return shell.Usage(cmd, "there is one module alone: nothing to compare it with")
		}
		for _, m := range mods { // a file of bare values is of whatever family the others are
			if m.Family == "" {
				m.Family = mods[0].Family
			}
		}
		if c.JSON {
			out := modulesJSON(mods)
			out["verdict"] = v
			err = errors.Join(err, c.PrintJSON(out))
		} else {
			c.showModules(mods)
			fmt.Fprintf(c.Out, "\n%s\n", session.Likeness(mods, v))
		}
		return shell.WithVerdict(v, err)
	}
	c.add(cmd)
	return cmd
}

// kept are the settings of a file, a record or a unit; false if the name is that of a port.
func (c *settingsCommand) kept(ctx context.Context, name string) ([]*session.Module, bool, error) {
	if unit, ok := strings.CutPrefix(name, "unit:"); ok {
		mods, err := c.ofUnit(ctx, unit)
		return mods, true, err
	}
	info, err := os.Stat(name)
	if err != nil || !info.Mode().IsRegular() {
		return nil, false, nil
	}
	head := make([]byte, 200)
	f, err := source.Open(name)
	if err != nil {
		return nil, true, &session.Misuse{What: err.Error()}
	}
	n, _ := f.Read(head) // an empty file is no record
	f.Close()
	if record.IsRecord(head[:n]) {
		mods, err := modulesOfRecord(name, true, true)
		return mods, true, err
	}
	mods, err := session.ReadSettings(name)
	return mods, true, err
}

// ofUnit are the settings of a unit as the latest runs that tell of each have left them.
func (c *settingsCommand) ofUnit(ctx context.Context, unit string) ([]*session.Module, error) {
	l, err := shell.OpenLedger(ctx, c.keeps.Ledger)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	known, _, err := l.ModuleSettings(ctx, ledger.Filter{Unit: unit})
	if err != nil {
		return nil, err
	}
	if len(known) == 0 {
		return nil, &session.Misuse{What: fmt.Sprintf("the ledger has no run that tells settings of unit %s", unit)}
	}
	var mods []*session.Module
	for _, m := range known {
		mods = append(mods, &session.Module{Settings: m.Settings})
	}
	return mods, nil
}

// ofFile is what is wanted of a file or a record for the modules that were found. What must differ is left out,
// and told, where it is of another module; where it does not say whose it is, a person is asked.
func (c *settingsCommand) ofFile(ctx context.Context, how writeFlags, path string, wanted session.Wanted, mods, found []*session.Module, said map[string]bool) (session.Wanted, error) {
	own, left, unsure := wanted.ForModules(mods, found, said)
	if len(left) > 0 {
		c.Err.Line("left out, since %s is of another module, and they must differ: %s", shell.Safe(path), shell.OneLine(strings.Join(left, ", ")))
	}
	if len(unsure) == 0 || how.yes {
		return own, nil
	}
	if !shell.IsTerminal(c.In) {
		return nil, &session.Misuse{What: fmt.Sprintf("%s does not say whose it is, and these must differ from module to module: %s. --yes takes them; --set says others", path, strings.Join(unsure, ", "))}
	}
	ok, err := (&account.Person{App: c.Streams}).Confirm(ctx, fmt.Sprintf("%s does not say whose it is. Write what must differ too: %s?", shell.Safe(path), shell.OneLine(strings.Join(unsure, ", "))))
	if err == nil && !ok {
		err = &session.Misuse{What: "nothing was written: leave out of the file what must differ, or give it with --set"}
	}
	return own, err
}
