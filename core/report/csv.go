package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/text"
)

// CSVText is text as a cell of a CSV table (RFC 4180) that programs for tables take as
// text: what would begin a formula there gets an apostrophe before it, and bytes
// that are no text become escapes.
func CSVText(value string) string {
	cell := text.Line(value)
	if cell != "" && strings.ContainsAny(cell[:1], "=+-@|%") || strings.HasPrefix(cell, "\uff1d") || strings.HasPrefix(cell, "\uff0b") || strings.HasPrefix(cell, "\uff0d") || strings.HasPrefix(cell, "\uff20") {
		return "'" + cell
	}
	return cell
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

func limitNumber(v *float64) string {
	if v == nil {
		return ""
	}
	return number(*v)
}

// FrameTable writes one row a frame of a link test as CSV.
type FrameTable struct {
	csv   *csv.Writer
	start time.Time
}

// NewFrameTable writes the head of the table.
func NewFrameTable(w io.Writer) *FrameTable {
	f := &FrameTable{csv: csv.NewWriter(w)}
	// Errors of writing are kept and come back from Close.
	_ = f.csv.Write([]string{"from", "to", "number", "planned_ms", "sent_ms", "received_ms", "latency_ms", "state", "copies", "reordered", "strength_dbm", "snr_db", "came"})
	return f
}

// Row writes one frame. Times count from when the first was to be sent.
func (f *FrameTable) Row(from, to string, r link.Row) {
	if f.start.IsZero() {
		f.start = r.Planned
	}
	since := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return strconv.FormatFloat(float64(t.Sub(f.start).Microseconds())/1000, 'f', 3, 64)
	}
	latency := ""
	if !r.Arrived.IsZero() {
		latency = strconv.FormatFloat(float64(r.Latency().Microseconds())/1000, 'f', 3, 64)
	}
	told := func(v float64) string {
		if math.IsNaN(v) {
			return ""
		}
		return number(v)
	}
	_ = f.csv.Write([]string{CSVText(from), CSVText(to), strconv.Itoa(int(r.Number)), since(r.Planned), since(r.Sent), since(r.Arrived), latency,
		string(r.State), strconv.Itoa(r.Copies), strconv.FormatBool(r.Order), told(r.Strength), told(r.SNR), string(r.Harm)})
}

// Close writes what is left and returns the first error of writing.
func (f *FrameTable) Close() error {
	f.csv.Flush()
	if err := f.csv.Error(); err != nil {
		return fmt.Errorf("write the frames: %w", err)
	}
	return nil
}

// The tables that a record can be made into.
const (
	measurements = "measurements"
	frameRows    = "frames"
	stepRows     = "steps"
)

// Tables are the names of the tables, the default first.
var Tables = []string{measurements, frameRows, stepRows}

// asCSV writes one table of a record: without a name the measurements, or the
// frames where there is none of them.
func asCSV(w io.Writer, d *Digest, r io.ReadSeeker, table string) error {
	if table == "" {
		table = measurements
		if d.Limits == 0 && d.Frames > 0 {
			table = frameRows
		}
	}
	switch {
	case table == measurements && d.Limits == 0:
		return fmt.Errorf("this record holds no measurements (limit statements); it holds %s and %s: choose with --table", text.Count(d.Frames, "link frame"), text.Count(len(d.Steps), "step"))
	case table == frameRows && d.Frames == 0:
		return fmt.Errorf("this record holds no link frames; it holds %s and %s: choose with --table", text.Count(d.Limits, "measurement"), text.Count(len(d.Steps), "step"))
	case table == frameRows:
		t := NewFrameTable(w)
		if err := events(r, func(e record.Event) error {
			if e.Kind != record.Frame {
				return nil
			}
			from, to, row, err := link.RowOf(e)
			t.Row(from, to, row)
			return err
		}); err != nil {
			return err
		}
		return t.Close()
	}
	out := csv.NewWriter(w)
	if table == stepRows {
		_ = out.Write([]string{"number", "step", "verdict", "tries", "took_ms", "why", "tries_by_hand"})
		for i, s := range d.Steps {
			_ = out.Write([]string{strconv.Itoa(i + 1), CSVText(s.Title), string(s.Verdict), strconv.Itoa(s.Tries), number(s.TookMS), CSVText(s.Why), strconv.Itoa(s.ByHand)})
		}
	} else {
		_ = out.Write([]string{"time", "step", "try", "what", "value", "low", "high", "unit", "verdict"})
		if err := events(r, func(e record.Event) error {
			if !e.IsMeasurement() {
				return nil
			}
			m, err := measurement(e)
			if err != nil {
				return err
			}
			return out.Write([]string{e.Time.Format(time.RFC3339Nano), CSVText(m.Step), strconv.Itoa(e.Try), CSVText(m.What), CSVText(m.Bare()), limitNumber(m.Low), limitNumber(m.High), CSVText(m.Unit), string(m.Verdict)})
		}); err != nil {
			return err
		}
	}
	out.Flush()
	if err := out.Error(); err != nil {
		return fmt.Errorf("write the table: %w", err)
	}
	return nil
}
