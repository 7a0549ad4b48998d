package prove

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/ledger"
	"uparrot/core/report"
	"uparrot/core/source"
)

func resultsExport(sh *shell.Streams) *cobra.Command {
	var form, tableName, out string
	files := &shell.Outputs{}
	cmd := withLedger(sh, &cobra.Command{
		Use:     "export",
		Short:   "Export a table of the ledger as CSV, JSON or JSON Lines",
		Long:    "Writes a table of the ledger:\n  " + strings.Join(ledger.Tables(), ", ") + "\nThe samples are the values of series, one a row: run, unit, time, what, value. CSV is as\nRFC 4180 has it, times as RFC 3339 has them; jsonl is one JSON object a line.",
		Example: "uparrot results export --table measurements --as csv --out measurements.csv",
		Args:    shell.Args(0, 0, "no arguments"),
	}, func(cmd *cobra.Command, l *ledger.Ledger, f ledger.Filter, _ []string) error {
		if !slices.Contains(ledger.Tables(), tableName) {
			return shell.Usage(cmd, "--table: there is no table %q. %s", tableName, source.DidYouMean(tableName, ledger.Tables()))
		}
		export := map[string]func(io.Writer) exporter{"csv": newCSVExport, "json": newJSONExport, "jsonl": newJSONLinesExport}[form]
		if export == nil {
			return shell.Usage(cmd, "--as: there is no form %q. Wanted csv, json or jsonl", form)
		}
		if err := files.PlanFile(cmd, "out", out); err != nil {
			return err
		}
		write := func(w io.Writer) error {
			e := export(w)
			return errors.Join(l.Export(cmd.Context(), tableName, f, e.row), e.end())
		}
		if out == "" {
			return write(sh.Out)
		}
		return sh.Save(files, out, write)
	})
	files.Add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&form, "as", "csv", "the form: csv, json or jsonl")
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
	names []string // of the columns
}

func newCSVExport(w io.Writer) exporter {
	c := &csvExport{csv: csv.NewWriter(w)}
	c.csv.UseCRLF = true // as RFC 4180 has it
	return c
}

// times are the columns that hold one.
var times = []string{"began", "ended", "measured", "first_outside_at", "time"}

func (c *csvExport) row(values []any) error {
	cells := make([]string, len(values))
	for i, v := range values {
		if c.names != nil && slices.Contains(times, c.names[i]) {
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
	if c.names == nil {
		c.names = slices.Clone(cells)
	}
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
	lines bool // an object a line, and no list
	names []string
	rows  int
}

func newJSONExport(w io.Writer) exporter { return &jsonExport{w: w} }

func newJSONLinesExport(w io.Writer) exporter { return &jsonExport{w: w, lines: true} }

func (j *jsonExport) row(values []any) error {
	if j.names == nil {
		for _, v := range values {
			j.names = append(j.names, fmt.Sprint(v))
		}
		if j.lines {
			return nil
		}
		_, err := io.WriteString(j.w, "[")
		return err
	}
	lead, end := ",\n ", ""
	switch {
	case j.lines:
		lead, end = "", "\n"
	case j.rows == 0:
		lead = "\n "
	}
	j.rows++
	var b strings.Builder
	b.WriteString(lead + "{")
	for i, v := range values {
		if i > 0 {
			b.WriteString(", ")
		}
		if slices.Contains(times, j.names[i]) {
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
	_, err := io.WriteString(j.w, b.String()+"}"+end)
	return err
}

func (j *jsonExport) end() error {
	if j.lines {
		return nil
	}
	_, err := io.WriteString(j.w, "\n]\n")
	return err
}
