package report

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/series"
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
	sampleRows   = "samples"
)

// Tables are the names of the tables, the default first.
var Tables = []string{measurements, frameRows, stepRows, sampleRows}

// seriesCells are the columns of a measurement that tell of a series, empty for one value.
func seriesCells(s *series.Summary) []string {
	cells := make([]string, 9)
	if s == nil {
		return cells
	}
	copy(cells, []string{strconv.Itoa(s.N), finite(s.Least), finite(s.Greatest), "", number(s.Rate), number(s.Silence), strconv.Itoa(s.Outside)})
	if s.Spread != nil {
		cells[3] = finite(*s.Spread)
	}
	if s.Worst != nil {
		cells[7], cells[8] = s.Worst.Value.String(), s.Worst.At.Format(time.RFC3339Nano)
	}
	return cells
}

// finite is a number, or nothing.
func finite(n series.Number) string {
	if !n.Finite() {
		return ""
	}
	return n.String()
}

// SampleTable writes values of series as CSV, one row each.
type SampleTable struct {
	csv  *csv.Writer
	lead int // cells before those of the value
}

// NewSampleTable writes the head of the table, behind columns of its owner.
func NewSampleTable(w io.Writer, lead ...string) *SampleTable {
	t := &SampleTable{csv.NewWriter(w), len(lead)}
	t.csv.UseCRLF = true                                                      // as RFC 4180 has it
	_ = t.csv.Write(append(lead, "time", "what", "value", "unit", "outside")) // its error comes back from Close
	return t
}

// Row writes one value, or a text.
func (t *SampleTable) Row(lead []string, at time.Time, what string, v float64, text *string, unit string, outside bool) error {
	value := series.Number(v).String()
	if text != nil {
		value = *text
	}
	out := ""
	if outside {
		out = "1"
	}
	return t.csv.Write(append(lead[:len(lead):len(lead)], at.Format("2006-01-02T15:04:05.000000Z07:00"), CSVText(what), CSVText(value), CSVText(unit), out))
}

// Flush writes what waits.
func (t *SampleTable) Flush() error {
	if t.csv.Flush(); t.csv.Error() != nil {
		return fmt.Errorf("write the values: %w", t.csv.Error())
	}
	return nil
}

// asSamples writes all values of all series.
func asSamples(w io.Writer, r io.ReadSeeker) error {
	t := NewSampleTable(w)
	known := map[int]record.SeriesBegins{}
	n := 0
	err := events(r, func(e record.Event) error {
		return EachSample(e, known, func(b record.SeriesBegins, at time.Time, v float64, text *string, outside bool) error {
			n++
			return t.Row(nil, at, b.What, v, text, b.Unit, outside)
		})
	})
	if err == nil && n == 0 {
		return errors.New("this record holds no values over time: what is measured once is in the table measurements")
	}
	return errors.Join(err, t.Flush())
}

// EachSample hands out the values of a Samples event. Known are the series so far, which it
// adds to.
func EachSample(e record.Event, known map[int]record.SeriesBegins, each func(b record.SeriesBegins, at time.Time, v float64, text *string, outside bool) error) error {
	switch e.Kind {
	case record.Series:
		b, err := record.Decode[record.SeriesBegins](e)
		known[b.Number] = b
		return err
	case record.Sampled:
		s, err := record.SamplesOf(e)
		if err != nil {
			return err
		}
		b, ok := known[s.Series]
		if !ok {
			return fmt.Errorf("the record holds values of series %d, which it does not tell of", s.Series)
		}
		for i, at := range s.At {
			v, text := math.NaN(), (*string)(nil)
			if s.Texts != nil {
				text = &s.Texts[i]
			} else {
				v = s.Values[i]
			}
			out := len(s.Outside) > 0 && s.Outside[0] == i
			if out {
				s.Outside = s.Outside[1:]
			}
			if err := each(b, at, v, text, out); err != nil {
				return err
			}
		}
	}
	return nil
}

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
	if table == sampleRows {
		return asSamples(w, r)
	}
	out := csv.NewWriter(w)
	if table == stepRows {
		_ = out.Write([]string{"number", "step", "verdict", "tries", "took_ms", "why", "tries_by_hand"})
		for i, s := range d.Steps {
			_ = out.Write([]string{strconv.Itoa(i + 1), CSVText(s.Title), string(s.Verdict), strconv.Itoa(s.Tries), number(s.TookMS), CSVText(s.Why), strconv.Itoa(s.ByHand)})
		}
	} else {
		_ = out.Write([]string{"time", "step", "try", "what", "value", "low", "high", "unit", "verdict", "n", "least", "greatest", "spread", "rate_hz", "longest_silence_s", "outside", "first_outside", "first_outside_at"})
		if err := events(r, func(e record.Event) error {
			if !e.IsMeasurement() {
				return nil
			}
			m, err := measurement(e)
			if err != nil {
				return err
			}
			return out.Write(append([]string{e.Time.Format(time.RFC3339Nano), CSVText(m.Step), strconv.Itoa(e.Try), CSVText(m.What), CSVText(m.Bare()), limitNumber(m.Low), limitNumber(m.High), CSVText(m.Unit), string(m.Verdict)}, seriesCells(m.Series)...))
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
