package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

func (a *app) resultsShow() *cobra.Command {
	cmd := a.withLedger(&cobra.Command{
		Use:     "show RUN",
		Short:   "All that the ledger has of one run, and whether its record is as it was filed",
		Example: "uparrot results show last",
		Args:    args(1, 1, "one run: its name, the beginning of it, or last"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, _ ledger.Filter, args []string) error {
		r, err := readRun(cmd, l, args[0])
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(r)
		}
		a.showRun(r)
		return nil
	})
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	return cmd
}

// wholeRun is all that the ledger knows of a run.
type wholeRun struct {
	ledger.Run
	Conflict     bool                 `json:"conflict,omitempty"` // it ended when its claim was no longer the latest
	RecordState  string               `json:"record_state"`
	Steps        []ledger.Step        `json:"steps"`
	Measurements []record.Measurement `json:"measurements"`
	Links        []ledger.Link        `json:"links"`
	Files        []ledger.File        `json:"files"`
	Inputs       []ledger.Input       `json:"inputs"`
}

func readRun(cmd *cobra.Command, l *ledger.Ledger, name string) (w wholeRun, err error) {
	ctx := cmd.Context()
	if w.Run, err = l.Find(ctx, name); err != nil {
		return w, &session.Misuse{What: err.Error(), Example: "uparrot results"}
	}
	var errs [6]error
	w.Conflict, errs[5] = l.InConflict(ctx, w.Run.Run)
	w.Steps, errs[0] = l.Steps(ctx, w.Run.Run)
	w.Measurements, errs[1] = l.Measurements(ctx, w.Run.Run)
	w.Links, errs[2] = l.Links(ctx, w.Run.Run)
	w.Files, errs[3] = l.Files(ctx, w.Run.Run)
	w.Inputs, errs[4] = l.Inputs(ctx, w.Run.Run)
	w.RecordState = recordState(w.Run)
	return w, errors.Join(errs[:]...)
}

// aConflict is what a run is that ended when its claim was no longer the latest.
const aConflict = "its unit was released before it ended, so that it is no result"

// recordState holds the record of a run against what was filed of it.
func recordState(r ledger.Run) string {
	if r.Record == "" {
		return "no record was kept"
	}
	f, err := os.Open(r.Record)
	if err != nil {
		return "it is not there any more: " + err.Error()
	}
	defer f.Close()
	sum := ""
	state, err := record.Read(f, func(e record.Event) error {
		if e.Kind == record.End {
			sum = e.Sum
		}
		return nil
	})
	switch {
	case err != nil:
		return err.Error()
	case state.Origin.Run != r.Run:
		return "another record lies there now: that of run " + state.Origin.Run
	case state.Whole() && r.RecordSum != "" && sum != r.RecordSum:
		return "altered: it is whole in itself, but its checksum is not the one that was filed"
	case state.Whole() && r.RecordSum != "":
		return fmt.Sprintf("whole, and the same that was filed: %d lines", state.Events)
	}
	return state.Words()
}

func (a *app) showRun(r wholeRun) {
	s := newScreen(a.out)
	fmt.Fprintf(a.out, "%s  %s\n\n", s.bold(runTitle(r.Run)), s.verdict(verdict.Verdict(oneLine(r.Verdict)), 0))
	var rows [][]string
	add := func(name, v string) {
		if v != "" {
			rows = append(rows, []string{name, oneLine(v)})
		}
	}
	add("unit", r.Unit)
	add("began", r.Began.Local().Format("2006-01-02 15:04:05 -07:00"))
	if r.Verdict != ledger.Unfinished {
		add("took", took(fromMS(r.TookMS)))
	}
	add("why", r.Why)
	if r.Conflict {
		add("conflict", aConflict)
	}
	add("operator", r.Operator)
	add("machine", r.Machine)
	add("tool", r.Tool)
	add("bench", r.Bench)
	for _, in := range r.Inputs {
		add("input "+oneLine(in.Name), in.Value)
	}
	add("run", r.Run.Run)
	add("record", fromHome(r.Record))
	add("", r.RecordState)
	table(a.out, rows)
	a.section(stepRows(s, r.Steps))
	for _, st := range r.Steps {
		if st.Why != "" && st.Verdict != string(verdict.Skipped) {
			fmt.Fprintf(a.out, "%s: %s\n", oneLine(st.Title), oneLine(st.Why))
		}
	}
	a.section(measurementRows(s, r.Measurements))
	a.section(linkRows(s, r.Links))
	rows = [][]string{{"file", "", "SHA-256"}}
	for _, f := range r.Files {
		rows = append(rows, []string{oneLine(f.Path), f.Role, oneLine(f.SHA256)})
	}
	a.section(rows)
}

// section prints a table below an empty line, unless it has nothing but its head.
func (a *app) section(rows [][]string) {
	if len(rows) > 1 {
		fmt.Fprintln(a.out)
		table(a.out, rows)
	}
}

func stepRows(s *screen, steps []ledger.Step) [][]string {
	rows := [][]string{{"step", "verdict", "tries", "time"}}
	for _, st := range steps {
		rows = append(rows, []string{fmt.Sprintf("%d  %s", st.Number, oneLine(st.Title)), s.verdict(verdict.Verdict(oneLine(st.Verdict)), 0), strconv.Itoa(st.Tries), took(fromMS(st.TookMS))})
	}
	return rows
}

func measurementRows(s *screen, list []record.Measurement) [][]string {
	rows := [][]string{{"measurement", "value", "limits", "verdict"}}
	for _, m := range list {
		rows = append(rows, []string{oneLine(m.What), shownValue(m), oneLine(m.Wanted()), s.verdict(verdict.Verdict(oneLine(string(m.Verdict))), 0)})
	}
	return rows
}

// shownValue is a measured value on one line.
func shownValue(m record.Measurement) string {
	if m.Text != nil || m.Series != nil {
		return shownMeasured(m)
	}
	return withUnit(plainNumber(float64(m.Value)), m.Unit)
}

func linkRows(s *screen, links []ledger.Link) [][]string {
	rows := [][]string{{"link", "sent", "lost", "late", "median", "95 %", "strength", "verdict"}}
	for _, k := range links {
		rows = append(rows, []string{oneLine(k.From + " to " + k.To), fmt.Sprint(k.Sent), fmt.Sprint(k.Lost), fmt.Sprint(k.Late), latency(k.MedianMS), latency(k.P95MS), maybe(k.Strength, "%.1f dBm"), s.verdict(verdict.Verdict(oneLine(k.Verdict)), 0)})
	}
	return rows
}

func maybe[T ~float64](v *T, format string) string {
	if v == nil {
		return ""
	}
	return fmt.Sprintf(format, *v)
}

// latency is one that may be missing.
func latency(v *record.Number) string {
	if v == nil {
		return ""
	}
	return report.MS(*v)
}

func plainNumber(v float64) string { return record.Short(v) }

func withUnit(text, unit string) string { return record.WithUnit(text, oneLine(unit)) }
