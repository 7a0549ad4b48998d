package live

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/output"
	"uparrot/core/record"
	"uparrot/core/series"
)

// Metrics keeps a file up to date with the present values, in the OpenMetrics text format,
// version 1.0.0: whoever collects them reads it whole.
type Metrics struct {
	*Watched
	path   string
	last   time.Time
	failed bool
	tell   func(string)
}

// NewMetrics keeps a file of the present values of a watch up to date; tell is told what keeps it from that.
func NewMetrics(m *Watched, path string, tell func(string)) *Metrics {
	return &Metrics{Watched: m, path: path, tell: tell}
}

// metricsEvery is how often the file is written at most.
const metricsEvery = time.Second

// Event notes that values may have changed.
func (f *Metrics) Event(e record.Event) {
	if e.Kind != record.Sampled && e.Kind != record.Verdict || e.Kind == record.Sampled && e.Time.Sub(f.last) < metricsEvery {
		return
	}
	f.last = e.Time
	if err := output.Again(f.path, f.text()); err != nil && !f.failed {
		f.failed = true
		f.tell(fmt.Sprintf("uparrot: the present values cannot be written: %v. The watch goes on", err))
	} else if err == nil {
		f.failed = false
	}
}

// text is the file.
func (f *Metrics) text() []byte {
	f.Mu.Lock()
	defer f.Mu.Unlock()
	var b strings.Builder
	family := func(name, kind, help string, of func(w *WatchedSeries) (string, bool)) {
		fmt.Fprintf(&b, "# TYPE %s %s\n# HELP %s %s\n", name, kind, name, help)
		suffix := ""
		if kind == "counter" {
			suffix = "_total"
		}
		for _, w := range f.Order {
			if v, ok := of(w); ok {
				fmt.Fprintf(&b, "%s%s{what=%s,port=%s,unit=%s} %s\n", name, suffix, label(w.What), label(w.Port), label(w.Unit), v)
			}
		}
	}
	family("uparrot_value", "gauge", "The latest value.", func(w *WatchedSeries) (string, bool) {
		if w.N() == 0 || w.text != nil {
			return "", false
		}
		return strconv.FormatFloat(w.value, 'g', -1, 64) + " " + stamp(w.Ended()), true
	})
	family("uparrot_readings", "counter", "How many values came.", func(w *WatchedSeries) (string, bool) { return strconv.Itoa(w.N()), true })
	family("uparrot_outside", "counter", "How many were not within their limits.", func(w *WatchedSeries) (string, bool) {
		return strconv.Itoa(w.Summary().Outside), w.Judged
	})
	bound := func(of func(w *WatchedSeries) *float64) func(w *WatchedSeries) (string, bool) {
		return func(w *WatchedSeries) (string, bool) {
			v := of(w)
			if v == nil {
				return "", false
			}
			return series.Number(*v).String(), true
		}
	}
	family("uparrot_limit_low", "gauge", "The lower limit.", bound(func(w *WatchedSeries) *float64 { return w.Low }))
	family("uparrot_limit_high", "gauge", "The upper limit.", bound(func(w *WatchedSeries) *float64 { return w.High }))
	b.WriteString("# EOF\n")
	return []byte(b.String())
}

// stamp is a time in seconds.
func stamp(t time.Time) string { return strconv.FormatFloat(float64(t.UnixMilli())/1000, 'f', 3, 64) }

// label is text in quotes as the format has it.
func label(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(text) + `"`
}
