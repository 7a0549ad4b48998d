package cli

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/ledger"
	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

func (a *app) resultsCompare() *cobra.Command {
	cmd := a.withLedger(&cobra.Command{
		Use:     "compare RUN RUN",
		Short:   "Two runs of one unit side by side: what has changed",
		Example: "uparrot results compare 6ac48088 last",
		Args:    args(2, 2, "two runs"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, _ ledger.Filter, args []string) error {
		x, err := readRun(cmd, l, args[0])
		if err != nil {
			return err
		}
		y, err := readRun(cmd, l, args[1])
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(map[string]any{"a": x, "b": y})
		}
		a.compareRuns(x, y)
		return nil
	})
	cmd.Flags().BoolVar(&a.json, "json", false, "print both runs as JSON")
	return cmd
}

func (a *app) compareRuns(x, y wholeRun) {
	s := newScreen(a.out)
	if x.Unit != y.Unit {
		a.err.line("these are runs of different units: %s and %s", named(x.Unit), named(y.Unit))
	}
	if x.Title != y.Title {
		a.err.line("these are runs of different procedures: %s and %s", oneLine(x.Title), oneLine(y.Title))
	}
	fmt.Fprintf(a.out, "%s\n\n", s.bold(runTitle(x.Run)))
	v := func(word string) string { return s.verdict(verdict.Verdict(oneLine(word)), 0) }
	rows := [][]string{{"", "A " + x.Run.Run[:8], "B " + y.Run.Run[:8], ""}, {"began", localMinute(x.Began), localMinute(y.Began), ""}, {"unit", named(x.Unit), named(y.Unit), ""}, {"verdict", v(x.Verdict), v(y.Verdict), ""}}
	table(a.out, rows)
	steps := func(r wholeRun) map[string]ledger.Step {
		m := map[string]ledger.Step{}
		for _, st := range r.Steps {
			m[st.Title] = st
		}
		return m
	}
	inX, inY := steps(x), steps(y)
	rows = [][]string{{"step", "A", "B", ""}}
	for _, title := range both(x.Steps, y.Steps, func(st ledger.Step) string { return st.Title }) {
		change := ""
		if inX[title].Verdict != inY[title].Verdict {
			change = "changed"
		}
		rows = append(rows, []string{oneLine(title), v(inX[title].Verdict), v(inY[title].Verdict), change})
	}
	if len(rows) > 1 {
		fmt.Fprintln(a.out)
		table(a.out, rows)
	}
	values := func(r wholeRun) map[string]record.Measurement {
		m := map[string]record.Measurement{}
		for _, one := range r.Measurements {
			m[one.What] = one // of several the last
		}
		return m
	}
	mx, my := values(x), values(y)
	rows = [][]string{{"measurement", "A", "B", "B less A"}}
	for _, what := range both(x.Measurements, y.Measurements, func(m record.Measurement) string { return m.What }) {
		p, inA := mx[what]
		q, inB := my[what]
		row := []string{oneLine(what), "", "", ""}
		if inA {
			row[1] = withUnit(plainNumber(p.Value), p.Unit)
		}
		if inB {
			row[2] = withUnit(plainNumber(q.Value), q.Unit)
		}
		if inA && inB {
			row[3] = withUnit(fmt.Sprintf("%+.6g", q.Value-p.Value), q.Unit)
		}
		rows = append(rows, row)
	}
	if len(rows) > 1 {
		fmt.Fprintln(a.out)
		table(a.out, rows)
	}
	rows = [][]string{{"link", "A lost", "B lost", "A 95 %", "B 95 %"}}
	for i, k := range x.Links {
		if i < len(y.Links) {
			m := y.Links[i]
			rows = append(rows, []string{oneLine(k.From + " to " + k.To), fmt.Sprintf("%d of %d", k.Lost, k.Sent), fmt.Sprintf("%d of %d", m.Lost, m.Sent), maybe(k.P95MS, "%.1f ms"), maybe(m.P95MS, "%.1f ms")})
		}
	}
	if len(rows) > 1 {
		fmt.Fprintln(a.out)
		table(a.out, rows)
		a.err.line("whether that is more than chance: uparrot link compare with both records")
	}
}

func named(unit string) string {
	if unit == "" {
		return "(no unit named)"
	}
	return oneLine(unit)
}

// both are the names in two lists, in their order, each once.
func both[T any](x, y []T, name func(T) string) []string {
	var names []string
	for _, v := range append(append([]T{}, x...), y...) {
		if n := name(v); !contains(names, n) {
			names = append(names, n)
		}
	}
	return names
}

func (a *app) resultsTrend() *cobra.Command {
	var plot string
	cmd := a.withLedger(&cobra.Command{
		Use:   "trend MEASUREMENT",
		Short: "A measurement over units and time: mean, spread, capability against its limits",
		Long: `Tells how a measurement spreads over units and time, and how its limits stand to
that: Ppk by the spread of all values (ISO 22514-2), Cpk by that of neighbouring ones
(ISO 7870-2), each with its 95 % interval. Without a MEASUREMENT their names are listed.`,
		Example: `uparrot results trend "transmitted power" --plot power.png`,
		Args:    args(0, 1, "one measurement"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error {
		names, err := l.Names(cmd.Context())
		if err != nil {
			return err
		}
		if len(args) == 0 {
			for _, n := range names {
				fmt.Fprintln(a.out, oneLine(n))
			}
			return nil
		}
		if !contains(names, args[0]) {
			return &errUsage{what: fmt.Sprintf("the ledger has no measurement %q. %s", args[0], source.DidYouMean(args[0], names))}
		}
		t, err := l.Trend(cmd.Context(), args[0], f)
		if err != nil {
			return err
		}
		if t.N == 0 {
			return &errUsage{what: fmt.Sprintf("no run that was asked for has measured %q", args[0])}
		}
		if plot != "" {
			if err := trendPicture(plot, t); err != nil {
				return err
			}
		}
		if a.json {
			return a.printJSON(t)
		}
		a.showTrend(t)
		return nil
	})
	cmd.Flags().StringVar(&plot, "plot", "", "draw the values in order to this file, .png or .svg")
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	return cmd
}

func trendPicture(file string, t ledger.Trend) error {
	if !strings.HasSuffix(file, ".png") && !strings.HasSuffix(file, ".svg") {
		return &errUsage{what: fmt.Sprintf("--plot %s: wanted a file that ends in .png or .svg", file)}
	}
	points := make([]report.TrendPoint, len(t.Values))
	for i, v := range t.Values {
		points[i] = report.TrendPoint{Value: v.Value, Low: v.Low, High: v.High, Passed: v.Verdict == verdict.Passed}
	}
	return report.Trend(t.What, t.Unit, t.Mean, points, file)
}

// mostUnits is how many units are listed one by one.
const mostUnits = 40

func (a *app) showTrend(t ledger.Trend) {
	s := newScreen(a.out)
	fmt.Fprintf(a.out, "%s: %s at %s, %s to %s\n", s.bold(oneLine(t.What)), count(t.N, "value"), count(t.Units, "unit"), localMinute(t.Values[0].Run.Began), localMinute(t.Values[t.N-1].Run.Began))
	byUnit := map[string][]ledger.Value{}
	var units []string
	for _, v := range t.Values {
		if byUnit[v.Run.Unit] == nil {
			units = append(units, v.Run.Unit)
		}
		byUnit[v.Run.Unit] = append(byUnit[v.Run.Unit], v)
	}
	sort.Strings(units)
	rows := [][]string{{"unit", "values", "mean", "least", "greatest", "latest", ""}}
	for i, u := range units {
		if i == mostUnits {
			break
		}
		one := ledger.NewTrend(t.What, byUnit[u])
		last := byUnit[u][one.N-1]
		note := ""
		if one.Failed > 0 {
			note = fmt.Sprintf("%d outside", one.Failed)
		}
		rows = append(rows, []string{named(u), fmt.Sprint(one.N), plainNumber(one.Mean), plainNumber(one.Min), plainNumber(one.Max), plainNumber(last.Value), note})
	}
	fmt.Fprintln(a.out)
	table(a.out, rows)
	if len(units) > mostUnits {
		fmt.Fprintf(a.out, "and %d more units\n", len(units)-mostUnits)
	}
	rows = [][]string{{"mean", withUnit(plainNumber(t.Mean), t.Unit)}}
	if t.SD != nil {
		rows = append(rows, []string{"spread", fmt.Sprintf("standard deviation %s, %s to %s", withUnit(plainNumber(*t.SD), t.Unit), plainNumber(t.Min), withUnit(plainNumber(t.Max), t.Unit))})
	}
	rows = append(rows, []string{"outside", fmt.Sprintf("%d of %d outside their limits", t.Failed, t.N)})
	switch {
	case t.Moved:
		rows = append(rows, []string{"limits", "not the same for all values, so no capability is told"})
	case t.Low != nil || t.High != nil:
		rows = append(rows, []string{"limits", withUnit(record.Measurement{Low: t.Low, High: t.High}.Range(), t.Unit)})
	}
	index := func(name, of string, x *ledger.Index) {
		if x != nil {
			rows = append(rows, []string{name, fmt.Sprintf("%.2f, with 95 %% confidence %.2f to %.2f (%s)", x.Value, x.Low, x.High, of)})
		}
	}
	index("Ppk", "spread of all values", t.Ppk)
	index("Cpk", "spread of neighbouring values", t.Cpk)
	fmt.Fprintln(a.out)
	table(a.out, rows)
	if t.Ppk != nil && t.N < ledger.EnoughForIndex {
		fmt.Fprintf(a.out, "\n%s are few for a capability: %d or more make it worth telling.\n", count(t.N, "value"), ledger.EnoughForIndex)
	}
}

func (a *app) resultsYield() *cobra.Command {
	cmd := a.withLedger(&cobra.Command{
		Use:   "yield",
		Short: "How many units passed at first and in the end, and which steps they failed at",
		Long: `Tells for each procedure how many units passed in their first run and how many in
their last, with 95 % intervals (Wilson), and which steps failed. A run that never came
to its end has not passed. Runs that named no unit are counted apart.`,
		Example: "uparrot results yield --since 2026-11-02",
		Args:    args(0, 0, "no arguments"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, _ []string) error {
		yields, err := l.Yields(cmd.Context(), f)
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(yields)
		}
		s := newScreen(a.out)
		for i, y := range yields {
			if i > 0 {
				fmt.Fprintln(a.out)
			}
			title := oneLine(y.Title)
			if title == "" {
				title = "(ended before its beginning)"
			}
			fmt.Fprintln(a.out, s.bold(title))
			rows := [][]string{{"  units", fmt.Sprintf("%d in %s", y.Units, count(y.Runs, "run"))}}
			if y.Units > 0 {
				rows = append(rows, []string{"  first pass", passed(y.First, y.Units)}, []string{"  final", passed(y.Final, y.Units)})
			}
			if y.Unnamed > 0 {
				rows = append(rows, []string{"  unnamed", fmt.Sprintf("%s named no unit (--unit) and count for neither", count(y.Unnamed, "run"))})
			}
			for _, st := range y.Steps {
				rows = append(rows, []string{"  failed at", fmt.Sprintf("%s: %s at %s", oneLine(st.Title), count(st.Runs, "run"), count(st.Units, "unit"))})
			}
			table(a.out, rows)
		}
		return nil
	})
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	return cmd
}

// passed is how many of so many units passed, with the share that this points to.
func passed(s link.Share, units int) string {
	return fmt.Sprintf("%.0f of %d: %s", s.Ratio*float64(units), units, report.Share(s))
}

func (a *app) resultsExport() *cobra.Command {
	var form, tableName, out string
	cmd := a.withLedger(&cobra.Command{
		Use:     "export",
		Short:   "A table of the ledger as CSV or JSON",
		Long:    "Writes a table of the ledger: " + strings.Join(ledger.Tables(), ", ") + ".",
		Example: "uparrot results export --table measurements --as csv --out measurements.csv",
		Args:    args(0, 0, "no arguments"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, _ []string) error {
		if !contains(ledger.Tables(), tableName) {
			return usage(cmd, "--table: there is no table %q. %s", tableName, source.DidYouMean(tableName, ledger.Tables()))
		}
		export := map[string]func(io.Writer) exporter{"csv": newCSVExport, "json": newJSONExport}[form]
		if export == nil {
			return usage(cmd, "--as: there is no form %q. Wanted csv or json", form)
		}
		write := func(w io.Writer) error {
			e := export(w)
			return errors.Join(l.Export(cmd.Context(), tableName, f, e.row), e.end())
		}
		if out == "" {
			return write(a.out)
		}
		return writeWhole(out, write)
	})
	fl := cmd.Flags()
	fl.StringVar(&form, "as", "csv", "the form: csv or json")
	fl.StringVar(&tableName, "table", "runs", "the table: "+strings.Join(ledger.Tables(), ", "))
	fl.StringVar(&out, "out", "", "write to this file, for the owner alone; without it to stdout")
	return cmd
}

// exporter writes rows, of which the first holds the names of the columns.
type exporter interface {
	row([]any) error
	end() error
}

type csvExport struct {
	csv   *csv.Writer
	began int // the column that holds a time; -1 without one
	head  bool
}

func newCSVExport(w io.Writer) exporter { return &csvExport{csv: csv.NewWriter(w), began: -1} }

func (c *csvExport) row(values []any) error {
	cells := make([]string, len(values))
	for i, v := range values {
		if !c.head && v == "began" {
			c.began = i
		} else if c.head && i == c.began {
			v = exportTime(v)
		}
		switch v := v.(type) {
		case nil:
		case float64:
			cells[i] = strconv.FormatFloat(v, 'f', -1, 64)
		case int64:
			cells[i] = strconv.FormatInt(v, 10)
		case []byte:
			cells[i] = report.CSVText(string(v))
		default:
			cells[i] = report.CSVText(fmt.Sprint(v))
		}
	}
	c.head = true
	return c.csv.Write(cells)
}

func (c *csvExport) end() error {
	c.csv.Flush()
	return c.csv.Error()
}

// exportTime is a time of the ledger in the form of RFC 3339.
func exportTime(v any) any {
	if us, ok := v.(int64); ok {
		return time.UnixMicro(us).UTC().Format(time.RFC3339Nano)
	}
	return v
}

type jsonExport struct {
	w     io.Writer
	names []string
	rows  int
}

func newJSONExport(w io.Writer) exporter { return &jsonExport{w: w} }

func (j *jsonExport) row(values []any) error {
	if j.names == nil {
		for _, v := range values {
			j.names = append(j.names, fmt.Sprint(v))
		}
		_, err := io.WriteString(j.w, "[")
		return err
	}
	lead := ",\n "
	if j.rows == 0 {
		lead = "\n "
	}
	j.rows++
	var b strings.Builder
	b.WriteString(lead + "{")
	for i, v := range values {
		if i > 0 {
			b.WriteString(", ")
		}
		if j.names[i] == "began" {
			v = exportTime(v)
		}
		switch x := v.(type) {
		case []byte:
			v = string(x)
		case float64:
			if math.IsNaN(x) || math.IsInf(x, 0) {
				v = nil
			}
		}
		text, err := json.Marshal(v)
		if err != nil {
			return fmt.Errorf("write %s: %w", j.names[i], err)
		}
		fmt.Fprintf(&b, "%q: %s", j.names[i], text)
	}
	_, err := io.WriteString(j.w, b.String()+"}")
	return err
}

func (j *jsonExport) end() error {
	_, err := io.WriteString(j.w, "\n]\n")
	return err
}
