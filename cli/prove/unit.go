package prove

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

func resultsUnit(sh *shell.Streams) *cobra.Command {
	cmd := withLedger(sh, &cobra.Command{
		Use:   "unit NAME",
		Short: "Show everything done to a unit: runs, settings, values, records",
		Long: `Lists the runs of a unit, its settings as the first run that tells of each found it and as
the latest left it, its values, and whether its records are as they were filed.`,
		Example: "uparrot results unit LK-0017",
		Args:    shell.Args(1, 1, "the name of one unit"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error {
		f.Unit = args[0]
		u, err := readUnit(cmd, l, f)
		if err != nil {
			return err
		}
		if len(u.Runs) == 0 {
			return &session.Misuse{What: fmt.Sprintf("no run that was asked for is of a unit %q", args[0]), Example: "uparrot results"}
		}
		if sh.JSON {
			return sh.PrintJSON(u)
		}
		showUnit(sh, u)
		return nil
	})
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print the result as JSON")
	return cmd
}

// wholeUnit is all that the ledger knows of a unit.
type wholeUnit struct {
	Unit    string                   `json:"unit"`
	Runs    []wholeRun               `json:"runs"`
	Modules []*ledger.ModuleSettings `json:"modules"`
}

func readUnit(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter) (u wholeUnit, err error) {
	u = wholeUnit{Unit: f.Unit, Runs: []wholeRun{}}
	var names []string
	if err := l.Runs(cmd.Context(), f, func(r ledger.Run) error { names = append(names, r.Run); return nil }); err != nil {
		return u, err
	}
	for _, name := range names {
		r, err := readRun(cmd, l, ledger.Filter{}, name)
		if err != nil {
			return u, err
		}
		u.Runs = append(u.Runs, r)
	}
	f.Last = 0
	u.Modules, _, err = l.ModuleSettings(cmd.Context(), f)
	return u, err
}

func showUnit(sh *shell.Streams, u wholeUnit) {
	s := shell.NewScreen(sh.Out)
	fmt.Fprintf(sh.Out, "%s  %s\n\n", s.Bold(shell.OneLine(u.Unit)), shell.Count(len(u.Runs), "run"))
	rows := [][]string{{"began", "what", "verdict", "time", "run", "record"}}
	for _, r := range u.Runs {
		t := ""
		if r.Verdict != ledger.Unfinished {
			t = shell.Took(shell.FromMS(r.TookMS))
		}
		rows = append(rows, []string{localMinute(r.Began), runTitle(r.Run), s.Verdict(verdict.Verdict(shell.OneLine(r.Verdict)), 0), t, short(r.Run.Run), shell.OneLine(r.RecordState)})
	}
	shell.Table(sh.Out, rows)
	for _, r := range u.Runs {
		if r.Conflict {
			fmt.Fprintf(sh.Out, "%s: a conflict: %s\n", short(r.Run.Run), aConflict)
		}
		if r.Why != "" {
			fmt.Fprintf(sh.Out, "%s: %s\n", short(r.Run.Run), shell.OneLine(r.Why))
		}
		for _, st := range r.Steps {
			if st.Why != "" && st.Verdict != string(verdict.Skipped) {
				fmt.Fprintf(sh.Out, "%s: %s: %s\n", short(r.Run.Run), shell.OneLine(st.Title), shell.OneLine(st.Why))
			}
		}
	}
	for _, m := range u.Modules {
		sh.Section(asFoundAndLeft(m))
	}
	tellUnsure(sh.Out, u.Modules)
	sh.Section(unitValues(s, u.Runs))
}

// short is the beginning of a run's name, by which it can be asked for.
func short(run string) string { return run[:min(8, len(run))] }

// asFoundAndLeft are the settings of a module, what was found first beside what was left at last.
func asFoundAndLeft(m *ledger.ModuleSettings) [][]string {
	name := "setting"
	if m.Family != "" {
		name = "setting of " + m.Family
	}
	rows := [][]string{{shell.OneLine(name), record.AsFound, record.AsLeft, ""}}
	for _, v := range slices.Concat(m.Identity, m.Settings.Settings) {
		found, left, note := "", v.Shown(), ""
		if was, ok := m.Found.Setting(v.Name); ok {
			if found = was.Shown(); found != left {
				note = "changed"
			}
		}
		rows = append(rows, []string{shell.OneLine(v.Name), shell.OneLine(shell.Clip(found)), shell.OneLine(shell.Clip(left)), note})
	}
	return rows
}

// unitValues are the values of a unit by their names, the latest beside those before.
func unitValues(s *shell.Screen, runs []wholeRun) [][]string {
	rows := [][]string{{"value", "latest", "limits", "verdict", "measured", "before"}}
	at := map[string]int{}
	for _, r := range runs {
		for _, m := range r.Measurements {
			key := m.What + "\x00" + m.Unit
			when := r.Began
			if !m.At.IsZero() {
				when = m.At
			}
			row := []string{shell.OneLine(m.What), shownValue(m), shell.OneLine(m.Wanted()), s.Verdict(verdict.Verdict(shell.OneLine(string(m.Verdict))), 0), localMinute(when), ""}
			if i, ok := at[key]; ok {
				row[5] = strings.TrimSuffix(rows[i][1]+", "+rows[i][5], ", ")
				rows[i] = row
				continue
			}
			at[key] = len(rows)
			rows = append(rows, row)
		}
	}
	for _, row := range rows[1:] {
		row[5] = shell.Clip(row[5])
	}
	return rows
}

func resultsSettings(sh *shell.Streams) *cobra.Command {
	differ := false
	cmd := withLedger(sh, &cobra.Command{
		Use:   "settings",
		Short: "Show the settings as modules were left, and which break a rule",
		Long: `Lists the modules that the ledger knows settings of, as the latest run that tells of each
left it: by unit, or by serial number where no unit was named. What must be equal on all
modules of a family, or different, is judged over all that are chosen. With --differ those
alone are listed that break such a rule, and one that does is a failure; where a value is not
known that a rule is about, nothing passes (status 4).`,
		Example: "uparrot results settings --differ --since 2026-11-02",
		Args:    shell.Args(0, 0, "no arguments"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, _ []string) error {
		f.Last = 0
		mods, unknown, err := l.ModuleSettings(cmd.Context(), f)
		if err != nil {
			return err
		}
		faults := record.PairFaults(settingsOf(mods))
		v := verdict.Passed
		if len(faults) > 0 && differ {
			v = verdict.Failed
		}
		unsure := slices.ContainsFunc(mods, func(m *ledger.ModuleSettings) bool { return m.Unsure != "" })
		notJudged := record.NotJudged(settingsOf(mods))
		if v == verdict.Passed && differ && (unsure || len(notJudged) > 0) {
			v = verdict.Untested // one may be broken
		}
		if sh.JSON {
			return shell.WithVerdict(v, sh.PrintJSON(map[string]any{"modules": shownModules(mods, faults, differ), "broken": faults, "not_judged": notJudged, "runs_of_modules_unknown": unknown}))
		}
		showField(sh, mods, faults, differ)
		if len(notJudged) > 0 {
			fmt.Fprintf(sh.Out, "not judged, for no value is known: %s\n", shell.OneLine(some(notJudged)))
		}
		if unknown > 0 {
			sh.Err.Line("%s of modules that named neither a unit (--unit) nor a serial number are not among them", shell.Count(unknown, "run"))
		}
		return shell.WithVerdict(v, nil)
	})
	fl := cmd.Flags()
	fl.BoolVar(&differ, "differ", false, "those alone that break a rule")
	fl.BoolVar(&sh.JSON, "json", false, "print the result as JSON")
	return cmd
}

// shownModules are the modules that are listed: all, or those that break a rule.
func shownModules(mods []*ledger.ModuleSettings, faults []record.PairFault, differ bool) []*ledger.ModuleSettings {
	shown := []*ledger.ModuleSettings{}
	for _, m := range mods {
		if !differ || slices.ContainsFunc(faults, func(f record.PairFault) bool { return slices.Contains(f.Modules, &m.Settings) }) {
			shown = append(shown, m)
		}
	}
	return shown
}

func showField(sh *shell.Streams, mods []*ledger.ModuleSettings, faults []record.PairFault, differ bool) {
	s := shell.NewScreen(sh.Out)
	if len(mods) == 0 {
		fmt.Fprintln(sh.Out, "no run that was asked for tells of settings")
		return
	}
	byFamily := map[string][]*ledger.ModuleSettings{}
	var families []string
	for _, m := range shownModules(mods, faults, differ) {
		if byFamily[m.Family] == nil {
			families = append(families, m.Family)
		}
		byFamily[m.Family] = append(byFamily[m.Family], m)
	}
	for i, family := range families {
		if i > 0 {
			fmt.Fprintln(sh.Out)
		}
		fmt.Fprintf(sh.Out, "%s\n\n", s.Bold(shell.OneLine(family)))
		shell.Table(sh.Out, fieldRows(byFamily[family]))
	}
	tellUnsure(sh.Out, mods)
	account.TellPairs(sh.Out, s, faults)
	if len(faults) == 0 {
		fmt.Fprintf(sh.Out, "\n%s, no rule broken by what is known\n", shell.Count(len(mods), "module"))
	}
}

// some are the first of many words, and how many more there are.
func some(words []string) string {
	const most = 8
	if len(words) <= most {
		return strings.Join(words, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(words[:most], ", "), len(words)-most)
}

// tellUnsure tells which modules may have been left otherwise than is known.
func tellUnsure(w io.Writer, mods []*ledger.ModuleSettings) {
	for _, m := range mods {
		if m.Unsure != "" {
			fmt.Fprintf(w, "\n%s: the run %s never came to its end: what it left is not known\n", shell.OneLine(m.Name), short(m.Unsure))
		}
	}
}

func settingsOf(mods []*ledger.ModuleSettings) (all []*record.Settings) {
	for _, m := range mods {
		all = append(all, &m.Settings)
	}
	return all
}

// fieldRows are modules of one family, a line each.
func fieldRows(mods []*ledger.ModuleSettings) [][]string {
	head := []string{"unit", "serial number", "read"}
	var names []string
	for _, m := range mods {
		for _, v := range slices.Concat(m.Identity, m.Settings.Settings) {
			if !slices.Contains(names, v.Name) && !record.IsSerial(v.Name) {
				names = append(names, v.Name)
			}
		}
	}
	rows := [][]string{append(head, oneLines(names)...)}
	for _, m := range mods {
		row := []string{shell.OneLine(m.Unit), shell.OneLine(m.Serial), localMinute(m.Read)}
		for _, name := range names {
			cell := "-"
			if v, ok := m.Setting(name); ok {
				cell = shell.OneLine(shell.Clip(v.Shown()))
			}
			row = append(row, cell)
		}
		rows = append(rows, row)
	}
	return rows
}

func oneLines(texts []string) (all []string) {
	for _, t := range texts {
		all = append(all, shell.OneLine(t))
	}
	return all
}
