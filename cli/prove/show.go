package prove

import (
	"errors"
	"fmt"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

func resultsShow(sh *shell.Streams) *cobra.Command {
	cmd := withLedger(sh, &cobra.Command{
		Use:     "show RUN",
		Short:   "Show one run in full, and whether its record is intact",
		Example: "uparrot results show last",
		Args:    shell.Args(1, 1, "one run: its name, the beginning of it, or last"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, args []string) error {
		r, err := readRun(cmd, l, f, args[0])
		if err != nil {
			return err
		}
		if sh.JSON {
			return sh.PrintJSON(r)
		}
		showRun(sh, r)
		return nil
	})
	cmd.Flags().BoolVar(&sh.JSON, "json", false, "print the result as JSON")
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

func readRun(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, name string) (w wholeRun, err error) {
	ctx := cmd.Context()
	if w.Run, err = l.Find(ctx, f, name); err != nil {
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
		return fmt.Sprintf("intact, matches the ledger: %d lines", state.Events)
	}
	return state.Words()
}

func showRun(sh *shell.Streams, r wholeRun) {
	s := shell.NewScreen(sh.Out)
	fmt.Fprintf(sh.Out, "%s  %s\n\n", s.Bold(runTitle(r.Run)), s.Verdict(verdict.Verdict(shell.OneLine(r.Verdict)), 0))
	var rows [][]string
	add := func(name, v string) {
		if v != "" {
			rows = append(rows, []string{name, shell.OneLine(v)})
		}
	}
	add("unit", r.Unit)
	add("began", r.Began.Local().Format("2006-01-02 15:04:05 -07:00"))
	if r.Verdict != ledger.Unfinished {
		add("took", shell.Took(shell.FromMS(r.TookMS)))
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
		add("input "+shell.OneLine(in.Name), in.Value)
	}
	add("run", r.Run.Run)
	add("record", shell.FromHome(r.Record))
	add("", r.RecordState)
	shell.Table(sh.Out, rows)
	sh.Section(stepRows(s, r.Steps))
	for _, st := range r.Steps {
		if st.Why != "" && st.Verdict != string(verdict.Skipped) {
			fmt.Fprintf(sh.Out, "%s: %s\n", shell.OneLine(st.Title), shell.OneLine(st.Why))
		}
	}
	sh.Section(measurementRows(s, r.Measurements))
	sh.Section(linkRows(s, r.Links))
	rows = [][]string{{"file", "", "SHA-256"}}
	for _, f := range r.Files {
		rows = append(rows, []string{shell.OneLine(f.Path), f.Role, shell.OneLine(f.SHA256)})
	}
	sh.Section(rows)
}

func stepRows(s *shell.Screen, steps []ledger.Step) [][]string {
	rows := [][]string{{"step", "verdict", "tries", "time"}}
	for _, st := range steps {
		rows = append(rows, []string{fmt.Sprintf("%d  %s", st.Number, shell.OneLine(st.Title)), s.Verdict(verdict.Verdict(shell.OneLine(st.Verdict)), 0), strconv.Itoa(st.Tries), shell.Took(shell.FromMS(st.TookMS))})
	}
	return rows
}

func measurementRows(s *shell.Screen, list []record.Measurement) [][]string {
	rows := [][]string{{"measurement", "value", "limits", "verdict"}}
	for _, m := range list {
		rows = append(rows, []string{shell.OneLine(m.What), shownValue(m), shell.OneLine(m.Wanted()), s.Verdict(verdict.Verdict(shell.OneLine(string(m.Verdict))), 0)})
	}
	return rows
}

// shownValue is a measured value on one line.
func shownValue(m record.Measurement) string {
	if m.Text != nil || m.Series != nil {
		return account.ShownMeasured(m)
	}
	return shell.WithUnit(shell.PlainNumber(float64(m.Value)), m.Unit)
}

func linkRows(s *shell.Screen, links []ledger.Link) [][]string {
	rows := [][]string{{"link", "sent", "lost", "late", "median", "95 %", "strength", "verdict"}}
	for _, k := range links {
		rows = append(rows, []string{shell.OneLine(k.From + " to " + k.To), fmt.Sprint(k.Sent), fmt.Sprint(k.Lost), fmt.Sprint(k.Late), latency(k.MedianMS), latency(k.P95MS), maybe(k.Strength, "%.1f dBm"), s.Verdict(verdict.Verdict(shell.OneLine(k.Verdict)), 0)})
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
