package cli

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
)

// mostMarks and mostOutside are how many marks, and values outside their limits, a picture of
// a watch has at most.
const (
	mostMarks   = 100
	mostOutside = 200
)

// watched is what a watch has found by now, for whoever shows it.
type watched struct {
	mu       sync.Mutex
	known    map[int]record.SeriesBegins
	of       map[int]*watchedSeries
	order    []*watchedSeries
	marks    []report.Marked
	findings []toldOf // the latest
}

// toldOf is a finding that was told while it went on.
type toldOf struct {
	at   time.Time
	text string
}

// watchedSeries is one value.
type watchedSeries struct {
	record.SeriesBegins
	series.Series
	rings   series.Rings
	value   float64
	text    *string
	bad     bool // the latest is outside its limits
	outside []series.Sample
}

func newWatched() *watched {
	return &watched{known: map[int]record.SeriesBegins{}, of: map[int]*watchedSeries{}}
}

// take takes in what happens.
func (m *watched) take(e record.Event) {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch e.Kind {
	case record.Series:
		if b, ok := e.Value.(record.SeriesBegins); ok {
			w := &watchedSeries{SeriesBegins: b}
			m.of[b.Number] = w
			m.order = append(m.order, w)
		}
	case record.Sampled:
		if s, ok := e.Value.(record.Samples); ok && m.of[s.Series] != nil {
			m.of[s.Series].take(s)
		}
	case record.Note, record.Told:
		if mark, ok := e.Value.(record.Mark); ok && len(m.marks) < mostMarks {
			m.marks = append(m.marks, report.Marked{At: e.Time, Word: mark.Word})
		}
		if m.findings = append(m.findings, toldOf{e.Time, e.Text}); len(m.findings) > 5 {
			m.findings = m.findings[1:]
		}
	}
}

func (w *watchedSeries) take(s record.Samples) {
	for i, at := range s.At {
		w.bad = len(s.Outside) > 0 && s.Outside[0] == i
		if w.bad {
			s.Outside = s.Outside[1:]
		}
		if s.Texts != nil {
			w.text, w.value = &s.Texts[i], math.NaN()
			w.AddText(at, s.Texts[i])
			continue
		}
		v := s.Values[i]
		w.text, w.value = nil, v
		w.Add(at, v, w.bad)
		if !series.Number(v).Finite() {
			continue
		}
		w.rings.Add(at, v)
		if w.bad && len(w.outside) < mostOutside {
			w.outside = append(w.outside, series.Sample{At: at, Value: v})
		}
	}
}

// lines are the values as a picture shows them.
func (m *watched) lines() []report.Timeline {
	m.mu.Lock()
	defer m.mu.Unlock()
	var all []report.Timeline
	for _, w := range m.order {
		all = append(all, report.Timeline{Name: w.What, Unit: w.Unit, Curve: w.Curve(), Low: w.Low, High: w.High, Outside: w.outside, Usual: report.Usual(w.Summary())})
	}
	return all
}

func (m *watched) marked() []report.Marked {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]report.Marked(nil), m.marks...)
}

// shown is the latest value as a person reads it.
func (w *watchedSeries) shown() string {
	switch {
	case w.N() == 0:
		return "-"
	case w.text != nil:
		return oneLine(clip(*w.text))
	}
	return series.Number(w.value).String()
}

// head is the name of a value with its unit.
func (w *watchedSeries) head() string {
	if w.Unit == "" {
		return oneLine(w.What)
	}
	return oneLine(w.What + " (" + w.Unit + ")")
}

// valueTable prints the latest values, a row a second, and findings as they come.
type valueTable struct {
	*watched
	line  func(string)
	last  time.Time
	heads int
	wide  []int
}

func (t *valueTable) event(e record.Event) {
	switch e.Kind {
	case record.Note, record.Told:
		t.line(e.Time.Format("15:04:05") + "  " + oneLine(e.Text))
	case record.Sampled:
		if e.Time.Sub(t.last) >= secondly {
			t.last = e.Time
			t.row(e.Time)
		}
	}
}

func (t *valueTable) row(at time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.order) > t.heads {
		t.heads = len(t.order)
		head := "time    "
		t.wide = t.wide[:0]
		for _, w := range t.order {
			h := w.head()
			t.wide = append(t.wide, max(8, len([]rune(h))))
			head += "  " + pad(h, t.wide[len(t.wide)-1])
		}
		t.line(strings.TrimRight(head, " "))
	}
	row := at.Format("15:04:05")
	for i, w := range t.order {
		text := w.shown()
		switch age := at.Sub(w.Ended()); {
		case w.bad:
			text += " !"
		case w.N() > 0 && age > 2*secondly:
			text = "(" + text + ")" // an old one
		}
		row += "  " + fmt.Sprintf("%-*s", t.wide[i], text)
	}
	t.line(strings.TrimRight(row, " "))
}

// valueRows prints every value.
type valueRows struct {
	*watched
	table  *report.SampleTable // of CSV; nil for JSON Lines
	json   *json.Encoder
	failed func(error)
	err    error
}

func newValueRows(w io.Writer, form string, m *watched, failed func(error)) *valueRows {
	r := &valueRows{watched: m, failed: failed}
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

func (r *valueRows) event(e record.Event) {
	s, ok := e.Value.(record.Samples)
	if e.Kind != record.Sampled || !ok || r.err != nil {
		return
	}
	r.mu.Lock()
	b := r.of[s.Series].SeriesBegins
	r.mu.Unlock()
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
			r.err = r.table.Row(nil, at, b.What, v, text, b.Unit, outside)
		} else {
			l := valueLine{Time: at, What: b.What, Text: text, Unit: b.Unit, Outside: outside}
			if text == nil {
				n := series.Number(v)
				l.Value = &n
			}
			r.err = r.json.Encode(l)
		}
		if r.err != nil {
			break
		}
	}
	if r.table != nil && r.err == nil {
		r.err = r.table.Flush()
	}
	if r.err != nil {
		r.failed(r.err)
	}
}
