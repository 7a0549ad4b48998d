package prove

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

func resultsCompare(sh *shell.Streams) *cobra.Command {
	cmd := withLedger(sh, &cobra.Command{
		Use:     "compare RUN RUN",
		Short:   "Compare two runs of one unit",
		Example: "uparrot results compare 6ac48088 last",
		Args:    shell.Args(2, 2, "two runs"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error {
		x, err := readRun(cmd, l, f, args[0])
		if err != nil {
			return err
		}
		y, err := readRun(cmd, l, f, args[1])
		if err != nil {
			return err
		}
		if sh.JSON {
			return sh.PrintJSON(map[string]any{"a": x, "b": y})
		}
		compareRuns(sh, x, y)
		return nil
	})
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print both runs as JSON")
	return cmd
}

func compareRuns(sh *shell.Streams, x, y wholeRun) {
	s := shell.NewScreen(sh.Out)
	if x.Unit != y.Unit {
		sh.Err.Line("these are runs of different units: %s and %s", named(x.Unit), named(y.Unit))
	}
	if x.Title != y.Title {
		sh.Err.Line("these are runs of different procedures: %s and %s", shell.OneLine(x.Title), shell.OneLine(y.Title))
	}
	fmt.Fprintf(sh.Out, "%s\n\n", s.Bold(runTitle(x.Run)))
	v := func(word string) string { return s.Verdict(verdict.Verdict(shell.OneLine(word)), 0) }
	rows := [][]string{{"", "A " + x.Run.Run[:8], "B " + y.Run.Run[:8], ""}, {"began", localMinute(x.Began), localMinute(y.Began), ""}, {"unit", named(x.Unit), named(y.Unit), ""}, {"verdict", v(x.Verdict), v(y.Verdict), ""}}
	shell.Table(sh.Out, rows)
	sh.Section(comparedInputs(x, y))
	sh.Section(comparedSteps(s, x, y))
	sh.Section(comparedValues(x, y))
	rows = [][]string{{"link", "A lost", "B lost", "A 95 %", "B 95 %"}}
	for i, k := range x.Links {
		if i < len(y.Links) {
			m := y.Links[i]
			rows = append(rows, []string{shell.OneLine(k.From + " to " + k.To), fmt.Sprintf("%d of %d", k.Lost, k.Sent), fmt.Sprintf("%d of %d", m.Lost, m.Sent), latency(k.P95MS), latency(m.P95MS)})
		}
	}
	if len(rows) > 1 {
		fmt.Fprintln(sh.Out)
		shell.Table(sh.Out, rows)
		sh.Err.Line("whether that is more than chance: uparrot link compare with both records")
	}
}

// comparedInputs are the inputs in which two runs differ.
func comparedInputs(x, y wholeRun) [][]string {
	given := func(r wholeRun) map[string]string {
		m := map[string]string{}
		for _, in := range r.Inputs {
			m[in.Name] = in.Value
		}
		return m
	}
	inX, inY := given(x), given(y)
	rows := [][]string{{"input", "A", "B"}}
	for _, name := range both(x.Inputs, y.Inputs, func(in ledger.Input) string { return in.Name }) {
		if inX[name] != inY[name] {
			rows = append(rows, []string{shell.OneLine(name), shell.OneLine(inX[name]), shell.OneLine(inY[name])})
		}
	}
	return rows
}

func comparedSteps(s *shell.Screen, x, y wholeRun) [][]string {
	steps := func(r wholeRun) map[string]ledger.Step {
		m := map[string]ledger.Step{}
		for _, st := range r.Steps {
			m[st.Title] = st
		}
		return m
	}
	v := func(word string) string { return s.Verdict(verdict.Verdict(shell.OneLine(word)), 0) }
	inX, inY := steps(x), steps(y)
	rows := [][]string{{"step", "A", "B", ""}}
	for _, title := range both(x.Steps, y.Steps, func(st ledger.Step) string { return st.Title }) {
		change := ""
		if inX[title].Verdict != inY[title].Verdict {
			change = "changed"
		}
		rows = append(rows, []string{shell.OneLine(title), v(inX[title].Verdict), v(inY[title].Verdict), change})
	}
	return rows
}

func comparedValues(x, y wholeRun) [][]string {
	values := func(r wholeRun) map[string]record.Measurement {
		m := map[string]record.Measurement{}
		for _, one := range r.Measurements {
			m[one.What] = one // of several the last
		}
		return m
	}
	mx, my := values(x), values(y)
	rows := [][]string{{"measurement", "A", "B", "B less A"}}
	for _, what := range both(x.Measurements, y.Measurements, func(m record.Measurement) string { return m.What }) {
		p, inA := mx[what]
		q, inB := my[what]
		row := []string{shell.OneLine(what), "", "", ""}
		if inA {
			row[1] = shownValue(p)
		}
		if inB {
			row[2] = shownValue(q)
		}
		switch {
		case !inA || !inB:
		case p.Text == nil && q.Text == nil:
			row[3] = shell.WithUnit(fmt.Sprintf("%+.6g", q.Value-p.Value), q.Unit)
		case p.Bare() != q.Bare():
			row[3] = "another"
		}
		rows = append(rows, row)
	}
	return rows
}

func named(unit string) string {
	if unit == "" {
		return "(no unit named)"
	}
	return shell.OneLine(unit)
}

// both are the names in two lists, in their order, each once.
func both[T any](x, y []T, name func(T) string) []string {
	var names []string
	for _, v := range append(append([]T{}, x...), y...) {
		if n := name(v); !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	return names
}
