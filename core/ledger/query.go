package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"uparrot/core/record"
	"uparrot/core/series"
)

// Run is one run as it stands in a ledger.
type Run struct {
	Run       string    `json:"run"`
	Command   string    `json:"command"`
	Unit      string    `json:"unit"`
	Title     string    `json:"title"`
	Began     time.Time `json:"began"`
	TookMS    float64   `json:"took_ms"`
	Verdict   string    `json:"verdict"`
	Why       string    `json:"why,omitempty"`
	Operator  string    `json:"operator"`
	Machine   string    `json:"machine"`
	Tool      string    `json:"tool"`
	Bench     string    `json:"bench,omitempty"`
	Record    string    `json:"record,omitempty"`
	ByHand    int       `json:"tries_by_hand,omitempty"` // further tries that a person asked for
	RecordSum string    `json:"record_sum,omitempty"`    // of the closed record: the sum in its closing line
}

// Name is what the run was of: a procedure's title, or a command and what it was
// done to.
func (r Run) Name() string {
	title := cmp.Or(r.Title, "-")
	if r.Command == "run" {
		return title
	}
	return r.Command + ": " + title
}

// Step is one step of a run.
type Step struct {
	Number  int     `json:"number"` // in the order of ending
	Title   string  `json:"title"`
	Verdict string  `json:"verdict"`
	Tries   int     `json:"tries"`
	TookMS  float64 `json:"took_ms"`
	Why     string  `json:"why,omitempty"`
}

// Link is one direction of a link test.
type Link struct {
	From     string         `json:"from"`
	To       string         `json:"to"`
	Sent     int64          `json:"sent"`
	Lost     int64          `json:"lost"`
	Late     int64          `json:"late"`
	MedianMS *record.Number `json:"median_ms"` // +Inf if so many frames were lost
	P95MS    *record.Number `json:"p95_ms"`
	Strength *float64       `json:"strength_dbm,omitempty"` // mean
	Verdict  string         `json:"verdict"`
}

// File is a file that a run has used or kept.
type File struct {
	Role   string `json:"role"` // used or kept
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
}

// Filter chooses runs; what is empty chooses all.
type Filter struct {
	Unit    string // exactly
	Title   string // a part of it, in capitals or not
	Verdict string
	Since   time.Time
	Until   time.Time // before this moment
	Last    int       // only so many, the latest
	Results bool      // none that is filed as a conflict
}

// where is the filter as a condition on runs, called r.
func (f Filter) where() (string, []any) {
	conditions, values := []string{"1 = 1"}, []any{}
	add := func(condition string, v any) {
		conditions, values = append(conditions, condition), append(values, v)
	}
	if f.Unit != "" {
		add("r.unit = ?", f.Unit)
	}
	if f.Title != "" {
		part := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(strings.ToLower(f.Title))
		add(`LOWER(r.title) LIKE ? ESCAPE '\'`, "%"+part+"%")
	}
	if f.Verdict != "" {
		add("r.verdict = ?", f.Verdict)
	}
	if !f.Since.IsZero() {
		add("r.began >= ?", f.Since.UnixMicro())
	}
	if !f.Until.IsZero() {
		add("r.began < ?", f.Until.UnixMicro())
	}
	if f.Results {
		conditions = append(conditions, "r.run NOT IN (SELECT run FROM conflicts)")
	}
	return strings.Join(conditions, " AND "), values
}

const runColumns = "r.run, r.command, r.unit, r.title, r.began, r.took_ms, r.verdict, r.why, r.operator, r.machine, r.tool, r.bench, r.record, r.record_sum, r.by_hand"

func scanRun(rows *sql.Rows) (r Run, err error) {
	var began int64
	err = rows.Scan(&r.Run, &r.Command, &r.Unit, &r.Title, &began, &r.TookMS, &r.Verdict, &r.Why, &r.Operator, &r.Machine, &r.Tool, &r.Bench, &r.Record, &r.RecordSum, &r.ByHand)
	r.Began = time.UnixMicro(began).UTC()
	return r, err
}

// each reads rows one at a time.
func each[T any](ctx context.Context, l *Ledger, scan func(*sql.Rows) (T, error), f func(T) error, query string, values ...any) error {
	rows, err := l.db.QueryContext(ctx, l.bind(query), values...)
	if err != nil {
		return fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	defer rows.Close()
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return fmt.Errorf("read the ledger %s: %w", l.where, err)
		}
		if err := f(v); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	return nil
}

// all reads rows into a list, which is never nil.
func all[T any](ctx context.Context, l *Ledger, scan func(*sql.Rows) (T, error), query string, values ...any) ([]T, error) {
	list := []T{}
	err := each(ctx, l, scan, func(v T) error { list = append(list, v); return nil }, query, values...)
	return list, err
}

// Runs hands out the runs that a filter chooses, one at a time, the earliest
// first.
func (l *Ledger) Runs(ctx context.Context, f Filter, take func(Run) error) error {
	where, values := f.where()
	query := "SELECT " + runColumns + " FROM runs r WHERE " + where + " ORDER BY r.began, r.run"
	if f.Last > 0 {
		query = "SELECT * FROM (SELECT " + runColumns + " FROM runs r WHERE " + where + " ORDER BY r.began DESC, r.run DESC LIMIT ?) AS r ORDER BY r.began, r.run"
		values = append(values, f.Last)
	}
	return each(ctx, l, scanRun, take, query, values...)
}

// Find finds a run by its name, by the beginning of it, or by the word last, among those that a filter chooses.
func (l *Ledger) Find(ctx context.Context, f Filter, word string) (Run, error) {
	if word != "last" && (word == "" || strings.Trim(strings.ToLower(word), "0123456789abcdef") != "") {
		return Run{}, fmt.Errorf("%q is no run: wanted the hexadecimal name of one, the beginning of it, or last", word)
	}
	where, values := f.where()
	most := 1
	if word != "last" {
		where, values, most = where+" AND r.run LIKE ?", append(values, strings.ToLower(word)+"%"), 2
	}
	runs, err := all(ctx, l, scanRun, "SELECT "+runColumns+" FROM runs r WHERE "+where+" ORDER BY r.began DESC, r.run DESC LIMIT ?", append(values, most)...)
	switch none := f == (Filter{}); {
	case err != nil:
		return Run{}, err
	case len(runs) == 0 && word == "last" && none:
		return Run{}, errors.New("the ledger holds no run yet")
	case len(runs) == 0 && word == "last":
		return Run{}, errors.New("the ledger holds no run that these flags choose")
	case len(runs) == 0 && !none:
		if _, err := l.Find(ctx, Filter{}, word); err == nil {
			return Run{}, fmt.Errorf("the run %s is none of those that these flags choose", word)
		}
		fallthrough
	case len(runs) == 0:
		return Run{}, fmt.Errorf("the ledger has no run %s", word)
	case len(runs) > 1:
		return Run{}, fmt.Errorf("several runs begin with %s: give more of the name", word)
	}
	return runs[0], nil
}

// Steps are the steps of a run.
func (l *Ledger) Steps(ctx context.Context, run string) ([]Step, error) {
	return all(ctx, l, func(r *sql.Rows) (s Step, err error) {
		return s, r.Scan(&s.Number, &s.Title, &s.Verdict, &s.Tries, &s.TookMS, &s.Why)
	}, "SELECT number, title, verdict, tries, took_ms, why FROM steps WHERE run = ? ORDER BY number", run)
}

// Measurements are the measurements of a run.
func (l *Ledger) Measurements(ctx context.Context, run string) ([]record.Measurement, error) {
	list, err := all(ctx, l, func(r *sql.Rows) (m record.Measurement, err error) {
		var at *int64
		var number *int
		err = r.Scan(&m.What, &m.Value, &m.Low, &m.High, &m.Unit, &m.Step, &m.Verdict, &m.Text, &at, &number)
		if number != nil {
			m.Series = &series.Summary{Number: *number}
		}
		if at != nil {
			m.At = time.UnixMicro(*at).UTC()
		}
		return m, err
	}, "SELECT what, value, low, high, unit, step, verdict, text, measured, series FROM measurements WHERE run = ? ORDER BY number", run)
	if err != nil {
		return nil, err
	}
	found, err := all(ctx, l, func(r *sql.Rows) (record.Measurement, error) { return scanSeries(r) }, "SELECT "+seriesColumns+" FROM series s WHERE s.run = ?", run)
	for i, m := range list {
		for _, s := range found {
			if m.Series != nil && s.Series.Number == m.Series.Number {
				list[i].Series = s.Series
			}
		}
	}
	return list, err
}

// Input is what a run was given by a name.
type Input struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Inputs are what a run was given.
func (l *Ledger) Inputs(ctx context.Context, run string) ([]Input, error) {
	return all(ctx, l, func(r *sql.Rows) (in Input, err error) { return in, r.Scan(&in.Name, &in.Value) },
		"SELECT name, value FROM inputs WHERE run = ? ORDER BY number", run)
}

// Links are the directions of the link tests of a run.
func (l *Ledger) Links(ctx context.Context, run string) ([]Link, error) {
	return all(ctx, l, func(r *sql.Rows) (k Link, err error) {
		return k, r.Scan(&k.From, &k.To, &k.Sent, &k.Lost, &k.Late, &k.MedianMS, &k.P95MS, &k.Strength, &k.Verdict)
	}, "SELECT sender, receiver, sent, lost, late, median_ms, p95_ms, strength, verdict FROM links WHERE run = ? ORDER BY number", run)
}

// Files are the files of a run.
func (l *Ledger) Files(ctx context.Context, run string) ([]File, error) {
	return all(ctx, l, func(r *sql.Rows) (f File, err error) {
		return f, r.Scan(&f.Role, &f.Path, &f.SHA256)
	}, "SELECT role, path, sha256 FROM files WHERE run = ? ORDER BY number", run)
}

// Value is one measurement of a trend, with the run that made it.
type Value struct {
	Run Run
	record.Measurement
	OfSeries bool // it is the mean of values over time
}

// Names are the names of all measurements.
func (l *Ledger) Names(ctx context.Context) ([]string, error) {
	return all(ctx, l, func(r *sql.Rows) (name string, err error) { return name, r.Scan(&name) },
		"SELECT DISTINCT what FROM measurements WHERE text IS NULL ORDER BY what")
}

// Values hands out all measurements of a name in the runs that a filter chooses,
// the earliest first.
func (l *Ledger) Values(ctx context.Context, what string, f Filter, take func(Value) error) error {
	where, conditions := f.where()
	values := append([]any{what}, conditions...)
	query := "SELECT r.run, r.unit, r.title, r.began, r.verdict, m.value, m.low, m.high, m.unit, m.step, m.verdict, m.measured, m.series IS NOT NULL FROM measurements m JOIN runs r ON r.run = m.run WHERE m.what = ? AND m.text IS NULL AND " + where + " ORDER BY r.began, r.run, m.number"
	return each(ctx, l, func(rows *sql.Rows) (v Value, err error) {
		var began int64
		var at *int64
		err = rows.Scan(&v.Run.Run, &v.Run.Unit, &v.Run.Title, &began, &v.Run.Verdict, &v.Value, &v.Low, &v.High, &v.Unit, &v.Step, &v.Verdict, &at, &v.OfSeries)
		if at != nil {
			v.At = time.UnixMicro(*at).UTC()
		}
		v.Run.Began, v.What = time.UnixMicro(began).UTC(), what
		return v, err
	}, take, query, values...)
}

// Tables are the names of the tables that Export hands out.
func Tables() []string { return tables }

// Export hands out the rows of a table that belong to the runs a filter chooses,
// one at a time. The names of the columns come first, as the first row.
func (l *Ledger) Export(ctx context.Context, table string, f Filter, take func([]any) error) error {
	if table == "samples" {
		return l.exportSamples(ctx, f, take)
	}
	order := "x.run, x.number"
	join := " x JOIN runs r ON r.run = x.run"
	if table == "runs" {
		join, order = " r", "r.began, r.run"
	}
	columns := "x.*"
	if table == "runs" {
		columns = "r.*"
	}
	if table == "measurements" { // a text has no value
		columns = "x.run, x.number, x.what, CASE WHEN x.text IS NULL THEN x.value END AS value, x.low, x.high, x.unit, x.step, x.verdict, x.text, x.measured, x.series"
	}
	where, values := f.where()
	rows, err := l.db.QueryContext(ctx, l.bind("SELECT "+columns+" FROM "+table+join+" WHERE "+where+" ORDER BY "+order), values...)
	if err != nil {
		return fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return fmt.Errorf("read the ledger %s: %w", l.where, err)
	}
	head := make([]any, len(names))
	for i, n := range names {
		head[i] = n
	}
	if err := take(head); err != nil {
		return err
	}
	row, into := make([]any, len(names)), make([]any, len(names))
	for i := range row {
		into[i] = &row[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return fmt.Errorf("read the ledger %s: %w", l.where, err)
		}
		if err := take(row); err != nil {
			return err
		}
	}
	return rows.Err()
}
