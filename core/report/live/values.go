// Package live keeps what a watch has found by now: each value with its series and limits, marks, the latest
// findings. It shows them as rows that are printed, as rows of a file, and as a file of metrics.
package live

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strings"
	"sync"
	"time"

	"uparrot/core/record"
	"uparrot/core/report"
	"uparrot/core/series"
	"uparrot/core/text"
)

// secondly is how often a row of the table is printed.
const secondly = time.Second

// mostMarks and mostOutside are how many marks, and values outside their limits, a picture of
// a watch has at most.
const (
	mostMarks   = 100
	mostOutside = 200
)

// Watched is what a watch has found by now, for whoever shows it.
type Watched struct {
	Mu       sync.Mutex
	known    map[int]record.SeriesBegins
	of       map[int]*WatchedSeries
	Order    []*WatchedSeries
	Marks    []report.Marked
	Findings []ToldOf // the latest
}

// ToldOf is a finding that was told while it went on.
type ToldOf struct {
	At   time.Time
	Text string
}

// WatchedSeries is one value.
type WatchedSeries struct {
	record.SeriesBegins
	series.Series
	Rings   series.Rings
	value   float64
	text    *string
	Bad     bool // the latest is outside its limits
	outside []series.Sample
}

// NewWatched has found nothing yet.
func NewWatched() *Watched {
	return &Watched{known: map[int]record.SeriesBegins{}, of: map[int]*WatchedSeries{}}
}

// Take takes in what happens.
func (m *Watched) Take(e record.Event) {
	m.Mu.Lock()
	defer m.Mu.Unlock()
	switch e.Kind {
	case record.Series:
		if b, ok := e.Value.(record.SeriesBegins); ok {
			w := &WatchedSeries{SeriesBegins: b}
			m.of[b.Number] = w
			m.Order = append(m.Order, w)
		}
	case record.Sampled:
		if s, ok := e.Value.(record.Samples); ok && m.of[s.Series] != nil {
			m.of[s.Series].take(s)
		}
	case record.Note, record.Told:
		if mark, ok := e.Value.(record.Mark); ok && len(m.Marks) < mostMarks {
			m.Marks = append(m.Marks, report.Marked{At: e.Time, Word: mark.Word})
		}
		if m.Findings = append(m.Findings, ToldOf{e.Time, e.Text}); len(m.Findings) > 5 {
			m.Findings = m.Findings[1:]
		}
	}
}

func (w *WatchedSeries) take(s record.Samples) {
	for i, at := range s.At {
		w.Bad = len(s.Outside) > 0 && s.Outside[0] == i
		if w.Bad {
			s.Outside = s.Outside[1:]
		}
		if s.Texts != nil {
			w.text, w.value = &s.Texts[i], math.NaN()
			w.AddText(at, s.Texts[i])
			continue
		}
		v := s.Values[i]
		w.text, w.value = nil, v
		w.Add(at, v, w.Bad)
		if !series.Number(v).Finite() {
			continue
		}
		w.Rings.Add(at, v)
		if w.Bad && len(w.outside) < mostOutside {
			w.outside = append(w.outside, series.Sample{At: at, Value: v})
		}
	}
}

// Begins is how a series, by its number, has begun; false if none has.
func (m *Watched) Begins(number int) (record.SeriesBegins, bool) {
	m.Mu.Lock()
	defer m.Mu.Unlock()
	w := m.of[number]
	if w == nil {
		return record.SeriesBegins{}, false
	}
	return w.SeriesBegins, true
}

// Lines are the values as a picture shows them.
func (m *Watched) Lines() []report.Timeline {
	m.Mu.Lock()
	defer m.Mu.Unlock()
	var all []report.Timeline
	for _, w := range m.Order {
		all = append(all, report.Timeline{Name: w.What, Unit: w.Unit, Curve: w.Curve(), Low: w.Low, High: w.High, Outside: w.outside, Usual: report.Usual(w.Summary())})
	}
	return all
}

// Marked are the marks that were set.
func (m *Watched) Marked() []report.Marked {
	m.Mu.Lock()
	defer m.Mu.Unlock()
	return append([]report.Marked(nil), m.Marks...)
}

// Shown is the latest value as a person reads it.
func (w *WatchedSeries) Shown() string {
	switch {
	case w.N() == 0:
		return "-"
	case w.text != nil:
		return text.Line(text.Clip(*w.text, 60))
	}
	return series.Number(w.value).String()
}

// Head is the name of a value with its unit.
func (w *WatchedSeries) Head() string {
	if w.Unit == "" {
		return text.Line(w.What)
	}
	return text.Line(w.What + " (" + w.Unit + ")")
}

// ValueTable prints the latest values, a row a second, and findings as they come.
type ValueTable struct {
	*Watched
	Line  func(string)
	last  time.Time
	heads int
	wide  []int
}

// Event prints a row for each series once a second.
func (t *ValueTable) Event(e record.Event) {
	switch e.Kind {
	case record.Note, record.Told:
		t.Line(e.Time.Format("15:04:05") + "  " + text.Line(e.Text))
	case record.Sampled:
		if e.Time.Sub(t.last) >= secondly {
			t.last = e.Time
			t.row(e.Time)
		}
	}
}

func (t *ValueTable) row(at time.Time) {
	t.Mu.Lock()
	defer t.Mu.Unlock()
	if len(t.Order) > t.heads {
		t.heads = len(t.Order)
		head := "time    "
		t.wide = t.wide[:0]
		for _, w := range t.Order {
			h := w.Head()
			t.wide = append(t.wide, max(8, len([]rune(h))))
			head += "  " + fmt.Sprintf("%-*s", t.wide[len(t.wide)-1], h)
		}
		t.Line(strings.TrimRight(head, " "))
	}
	row := at.Format("15:04:05")
	for i, w := range t.Order {
		text := w.Shown()
		switch age := at.Sub(w.Ended()); {
		case w.Bad:
			text += " !"
		case w.N() > 0 && age > 2*secondly:
			text = "(" + text + ")" // an old one
		}
		row += "  " + fmt.Sprintf("%-*s", t.wide[i], text)
	}
	t.Line(strings.TrimRight(row, " "))
}

// ValueRows prints every value.
type ValueRows struct {
	*Watched
	table  *report.SampleTable // of CSV; nil for JSON Lines
	json   *json.Encoder
	failed func(error)
	Err    error
}

// NewValueRows writes each value as a row in a form, csv or jsonl; failed is told what keeps it from that.
func NewValueRows(w io.Writer, form string, m *Watched, failed func(error)) *ValueRows {
	r := &ValueRows{Watched: m, failed: failed}
	if form == "jsonl" {
		r.json = json.NewEncoder(w)
		r.json.SetEscapeHTML(false)
	} else {
		r.table = report.NewSampleTable(w)
	}
	return r
}

// valueLine is a value as JSON Lines has it.
type valueLine struct {
	Time    time.Time      `json:"time"`
	What    string         `json:"what"`
	Value   *series.Number `json:"value,omitempty"`
	Text    *string        `json:"text,omitempty"`
	Unit    string         `json:"unit,omitempty"`
	Outside bool           `json:"outside,omitempty"`
}

// noteLine is what else is worth knowing, such as that a value has stopped, as JSON Lines has it.
type noteLine struct {
	Time time.Time `json:"time"`
	Note string    `json:"note"`
}

// Event writes the values that have come.
func (r *ValueRows) Event(e record.Event) {
	if e.Kind == record.Note && r.json != nil && r.Err == nil {
		if r.Err = r.json.Encode(noteLine{e.Time, e.Text}); r.Err != nil {
			r.failed(r.Err)
		}
		return
	}
	s, ok := e.Value.(record.Samples)
	if e.Kind != record.Sampled || !ok || r.Err != nil {
		return
	}
	r.Mu.Lock()
	b := r.of[s.Series].SeriesBegins
	r.Mu.Unlock()
	for i, at := range s.At {
		outside := len(s.Outside) > 0 && s.Outside[0] == i
		if outside {
			s.Outside = s.Outside[1:]
		}
		v, text := math.NaN(), (*string)(nil)
		if s.Texts != nil {
			text = &s.Texts[i]
		} else {
			v = s.Values[i]
		}
		if r.table != nil {
			r.Err = r.table.Row(nil, at, b.What, v, text, b.Unit, outside)
		} else {
			l := valueLine{Time: at, What: b.What, Text: text, Unit: b.Unit, Outside: outside}
			if text == nil {
				n := series.Number(v)
				l.Value = &n
			}
			r.Err = r.json.Encode(l)
		}
		if r.Err != nil {
			break
		}
	}
	if r.table != nil && r.Err == nil {
		r.Err = r.table.Flush()
	}
	if r.Err != nil {
		r.failed(r.Err)
	}
}
