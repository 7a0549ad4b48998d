package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"uparrot/core/record"
	"uparrot/core/series"
	"uparrot/core/verdict"
)

// chunk is how many samples stand in one row of the table samples.
const chunk = 512

// filedSeries is a series of the run on its way into the ledger.
type filedSeries struct {
	record.SeriesBegins
	series.Series
	step  string
	part  int
	at    []time.Time // of the part that is being filled
	value []float64
	texts []string // in place of values
	dirty bool     // some of it is not filed yet
}

// samplesWait is how long samples wait at most until they are filed.
const samplesWait = 500 * time.Millisecond

// seriesBegins files a series from its beginning.
func (f *Filing) seriesBegins(e record.Event) {
	var b record.SeriesBegins
	if !f.decode(e, &b) {
		return
	}
	f.series[b.Number] = &filedSeries{SeriesBegins: b, step: e.Step}
}

// samples takes samples in. They are filed when a row of them is full, or soon.
func (f *Filing) samples(e record.Event) {
	s, err := record.SamplesOf(e)
	of := f.series[s.Series]
	if err == nil && of == nil {
		err = errors.New("nothing tells what they are of")
	}
	if err != nil {
		f.bad = errors.Join(f.bad, fmt.Errorf("the record holds values of series %d that cannot be read: %w", s.Series, err))
		return
	}
	for i, at := range s.At {
		if len(of.at) >= chunk || len(of.at) > 0 && (of.texts != nil) != (s.Texts != nil) {
			f.fileSamples(of)
			of.part++
			of.at, of.value, of.texts = of.at[:0], of.value[:0], nil
		}
		of.at = append(of.at, at)
		if s.Texts != nil {
			of.texts = append(of.texts, s.Texts[i])
			of.AddText(at, s.Texts[i])
			continue
		}
		of.value = append(of.value, s.Values[i])
		outside := len(s.Outside) > 0 && s.Outside[0] == i
		if outside {
			s.Outside = s.Outside[1:]
		}
		of.Add(at, s.Values[i], outside)
	}
	if of.dirty = true; f.soon == nil {
		f.soon = time.AfterFunc(samplesWait, func() {
			f.mu.Lock()
			defer f.mu.Unlock()
			if !f.ending {
				f.fileSeries()
				f.change.Broadcast()
			}
		})
	}
}

// fileSeries files what is not filed yet of all series. The mutex is held.
func (f *Filing) fileSeries() {
	if f.soon != nil {
		f.soon.Stop()
		f.soon = nil
	}
	var numbers []int
	for n, of := range f.series {
		if of.dirty {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	for _, n := range numbers {
		f.fileSamples(f.series[n])
	}
}

// fileSamples files the part of a series that is being filled, and what all came to.
func (f *Filing) fileSamples(of *filedSeries) {
	of.dirty = false
	packed := []byte(nil)
	if of.texts != nil {
		packed = series.PackTexts(of.at, of.texts)
	} else {
		samples := make([]series.Sample, len(of.at))
		for i, at := range of.at {
			samples[i] = series.Sample{At: at, Value: of.value[i]}
		}
		packed = series.Pack(samples)
	}
	sum := of.Summary()
	f.seriesRow(of, sum)
	f.pending = append(f.pending, row{`INSERT INTO samples (run, number, part, n, packed) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (run, number, part) DO UPDATE SET n = excluded.n, packed = excluded.packed`, []any{f.run.Run, of.Number, of.part, len(of.at), packed}})
}

// seriesRow files what a series has come to.
func (f *Filing) seriesRow(of *filedSeries, s series.Summary) {
	var worst *record.Number
	var worstAt *int64
	if s.Worst != nil {
		at := s.Worst.At.UnixMicro()
		worst, worstAt = &s.Worst.Value, &at
	}
	moved := 0
	if s.Moved {
		moved = 1
	}
	var last *string
	if s.Texts > 0 {
		last = &s.LastText
	}
	f.pending = append(f.pending, row{`INSERT INTO series (run, number, what, unit, low, high, step, n, none, least, mean, greatest, spread, latest, rate_hz, silence_s, outside, first_outside, first_outside_at, began, ended, moved, texts, last_text)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (run, number) DO UPDATE SET n = excluded.n, none = excluded.none, least = excluded.least, mean = excluded.mean, greatest = excluded.greatest, spread = excluded.spread, latest = excluded.latest,
		rate_hz = excluded.rate_hz, silence_s = excluded.silence_s, outside = excluded.outside, first_outside = excluded.first_outside, first_outside_at = excluded.first_outside_at,
		began = excluded.began, ended = excluded.ended, moved = excluded.moved, texts = excluded.texts, last_text = excluded.last_text`,
		[]any{f.run.Run, of.Number, of.What, of.Unit, of.Low, of.High, of.step, s.N, s.None, finite(s.Least), finite(s.Mean), finite(s.Greatest), spread(s), finite(s.Last), s.Rate, s.Silence, s.Outside, worst, worstAt,
			s.Began.UnixMicro(), s.Ended.UnixMicro(), moved, s.Texts, last}})
}

// finite is a number for a database; nil if it is none.
func finite(n series.Number) *float64 {
	if !n.Finite() {
		return nil
	}
	v := float64(n)
	return &v
}

func spread(s series.Summary) *float64 {
	if s.Spread == nil {
		return nil
	}
	return finite(*s.Spread)
}

// Series is one series of a run.
type Series struct {
	Run Run
	record.Measurement
}

const seriesColumns = "s.number, s.what, s.unit, s.low, s.high, s.step, s.n, s.none, s.least, s.mean, s.greatest, s.spread, s.latest, s.rate_hz, s.silence_s, s.outside, s.first_outside, s.first_outside_at, s.began, s.ended, s.moved, s.texts, s.last_text"

// scanSeries reads a series behind other columns.
func scanSeries(rows *sql.Rows, lead ...any) (m record.Measurement, err error) {
	var s series.Summary
	var least, mean, greatest, sd, latest *float64
	var worst *record.Number
	var worstAt *int64
	var began, ended int64
	var last *string
	moved := 0
	into := append(lead, &s.Number, &m.What, &m.Unit, &m.Low, &m.High, &m.Step, &s.N, &s.None, &least, &mean, &greatest, &sd, &latest, &s.Rate, &s.Silence, &s.Outside, &worst, &worstAt, &began, &ended, &moved, &s.Texts, &last)
	if err := rows.Scan(into...); err != nil {
		return m, err
	}
	number := func(v *float64) series.Number {
		if v == nil {
			return series.Number(math.NaN())
		}
		return series.Number(*v)
	}
	s.Least, s.Mean, s.Greatest, s.Last = number(least), number(mean), number(greatest), number(latest)
	if sd != nil {
		v := series.Number(*sd)
		s.Spread = &v
	}
	if worst != nil && worstAt != nil {
		s.Worst = &series.Outside{Value: *worst, At: time.UnixMicro(*worstAt).UTC()}
	}
	if last != nil {
		s.LastText = *last
	}
	s.Began, s.Ended, s.Moved = time.UnixMicro(began).UTC(), time.UnixMicro(ended).UTC(), moved != 0
	if s.Moved {
		m.Low, m.High = nil, nil
	}
	m.Value, m.Series, m.At, m.Verdict = s.Mean, &s, s.Ended, verdict.Measured
	switch {
	case s.Outside > 0:
		m.Verdict = verdict.Failed
	case m.Low != nil || m.High != nil || s.Moved:
		m.Verdict = verdict.Passed
	}
	return m, nil
}

// SeriesNamed hands out the series of a name in the runs that a filter chooses, the earliest
// first; without a name all.
func (l *Ledger) SeriesNamed(ctx context.Context, what string, f Filter, take func(Series) error) error {
	where, values := f.where()
	if what != "" {
		where, values = "s.what = ? AND "+where, append([]any{what}, values...)
	}
	return each(ctx, l, func(rows *sql.Rows) (s Series, err error) {
		var began int64
		s.Measurement, err = scanSeries(rows, &s.Run.Run, &s.Run.Unit, &s.Run.Title, &began, &s.Run.Verdict)
		s.Run.Began = time.UnixMicro(began).UTC()
		return s, err
	}, take, "SELECT r.run, r.unit, r.title, r.began, r.verdict, "+seriesColumns+" FROM series s JOIN runs r ON r.run = s.run WHERE "+where+" ORDER BY r.began, r.run, s.number", values...)
}

// Samples hands out the values of a series of a run in the order of time: of a text with a
// value that is not a number.
func (l *Ledger) Samples(ctx context.Context, run string, number int, take func(series.Sample, *string) error) error {
	return each(ctx, l, func(rows *sql.Rows) (b []byte, err error) { return b, rows.Scan(&b) }, func(b []byte) error {
		if err := series.Unpack(b, take); err != nil {
			return fmt.Errorf("values of run %s: %w", run, err)
		}
		return nil
	}, "SELECT packed FROM samples WHERE run = ? AND number = ? ORDER BY part", run, number)
}

// sampleColumns are those of the samples as they are exported.
var sampleColumns = []any{"run", "unit", "time", "what", "value", "value_unit", "outside"}

// exportSamples hands out each value as a row.
func (l *Ledger) exportSamples(ctx context.Context, f Filter, take func([]any) error) error {
	if err := take(sampleColumns); err != nil {
		return err
	}
	return l.SeriesNamed(ctx, "", f, func(s Series) error {
		return l.Samples(ctx, s.Run.Run, s.Series.Number, func(one series.Sample, text *string) error {
			row := []any{s.Run.Run, s.Run.Unit, one.At.UnixMicro(), s.What, nil, s.Unit, nil}
			switch {
			case text != nil:
				row[4] = *text
			case series.Number(one.Value).Finite():
				row[4] = one.Value
			default:
				row[4] = series.Number(one.Value).String()
			}
			if text == nil && s.Verdict != verdict.Measured && !s.Series.Moved {
				row[6] = int64(0)
				if !series.Number(one.Value).Finite() || s.Low != nil && one.Value < *s.Low || s.High != nil && one.Value > *s.High {
					row[6] = int64(1)
				}
			}
			return take(row)
		})
	})
}
