package cli

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/core/ledger"
	"uparrot/core/report"
	"uparrot/core/source"
)

func (a *app) resultsExport() *cobra.Command {
	var form, tableName, out string
	files := &outputs{}
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
		if err := files.plan(cmd, "out", out); err != nil {
			return err
		}
		write := func(w io.Writer) error {
			e := export(w)
			return errors.Join(l.Export(cmd.Context(), tableName, f, e.row), e.end())
		}
		if out == "" {
			return write(a.out)
		}
		return a.save(files, out, write)
	})
	files.add(cmd)
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
