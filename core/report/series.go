package report

import (
	"slices"
	"time"

	"uparrot/core/record"
	"uparrot/core/series"
)

// seriesSeen is a series of a record as it is read.
type seriesSeen struct {
	record.SeriesBegins
	series.Series
	outside []series.Sample // the first ones
	hours   hours
}

// seriesReader gathers the series of a record, by their numbers.
type seriesReader struct {
	known map[int]record.SeriesBegins
	seen  map[int]*seriesSeen
}

// take takes in what tells of series.
func (r *seriesReader) take(e record.Event) error {
	return EachSample(e, r.known, func(b record.SeriesBegins, at time.Time, v float64, text *string, outside bool) error {
		seen := r.seen[b.Number]
		if seen == nil {
			seen = &seriesSeen{SeriesBegins: b}
			r.seen[b.Number] = seen
		}
		if text != nil {
			seen.AddText(at, *text)
			return nil
		}
		if seen.Add(at, v, outside); outside && len(seen.outside) < mostOutsideDrawn {
			seen.outside = append(seen.outside, series.Sample{At: at, Value: v})
		}
		seen.hours.add(at, v, outside)
		return nil
	})
}

// line is the series as a picture shows it.
func (s *seriesSeen) line() Timeline {
	return Timeline{Name: s.What, Unit: s.Unit, Curve: s.Curve(), Low: s.Low, High: s.High, Outside: s.outside, Usual: Usual(s.Summary())}
}

// hours are rows of a table of a series: stretches of time that grow as it does, 24 to 48.
type hours struct {
	width time.Duration
	rows  []hour
}

// hour is one of them; it has a value.
type hour struct {
	from    time.Time
	outside int
	series.Span
}

// mostHours is how many rows a table has at most.
const mostHours = 48

func (h *hours) add(at time.Time, v float64, outside bool) {
	if h.width == 0 {
		h.width = time.Second
	}
	n := series.Number(v)
	from := at.Truncate(h.width)
	if k := len(h.rows); k == 0 || h.rows[k-1].from.Before(from) {
		h.rows = append(h.rows, hour{from: from})
	}
	last := &h.rows[len(h.rows)-1]
	if outside {
		last.outside++
	}
	if n.Finite() {
		last.Add(v)
	}
	for len(h.rows) > mostHours {
		h.join()
	}
}

// join makes the stretches longer.
func (h *hours) join() {
	h.width = longer(h.width)
	joined := h.rows[:0]
	for _, r := range h.rows {
		from := r.from.Truncate(h.width)
		if k := len(joined); k > 0 && joined[k-1].from.Equal(from) {
			joined[k-1].outside += r.outside
			joined[k-1].Join(r.Span)
			continue
		}
		r.from = from
		joined = append(joined, r)
	}
	h.rows = joined
}

// longer is the next of the lengths that people count in.
func longer(d time.Duration) time.Duration {
	for _, next := range []time.Duration{5 * time.Second, 15 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 3 * time.Hour, 12 * time.Hour} {
		if next > d {
			return next
		}
	}
	return 2 * d
}

// write puts the picture of a series and its folded table into the page.
func (s *seriesSeen) write(o *pageOut, zone *time.Location) {
	c := OverTime("", []Timeline{s.line()}, nil)
	if s.N() < 2 || c == nil { // one value, or texts
		return
	}
	c[0].Flat = true
	words := record.Measurement{What: s.What, Unit: s.Unit, Series: ptr(s.Summary())}
	o.say("<h3>%s</h3>\n", escape(s.What))
	o.chart(c)
	o.say("<details class=\"samples\"><summary>%s</summary>\n", escape(words.Shown()))
	o.say("<table><caption class=\"hidden\">Values by time</caption><thead><tr><th scope=\"col\">from</th><th scope=\"col\" class=\"number\">values</th><th scope=\"col\" class=\"number\">least</th><th scope=\"col\" class=\"number\">mean</th><th scope=\"col\" class=\"number\">greatest</th><th scope=\"col\" class=\"number\">outside</th></tr></thead><tbody>\n")
	for _, h := range s.hours.rows {
		least, mean, most := "", "", ""
		if h.N > 0 {
			least, mean, most = record.Short(h.Least), record.Short(h.Mean()), record.Short(h.Greatest)
		}
		o.say("<tr><td>%s</td><td class=\"number\">%d</td><td class=\"number\">%s</td><td class=\"number\">%s</td><td class=\"number\">%s</td><td class=\"number\">%d</td></tr>\n", h.from.In(zone).Format("2006-01-02 15:04:05"), h.N, least, mean, most, h.outside)
	}
	o.say("</tbody></table></details>\n")
}

func ptr[T any](v T) *T { return &v }

// seriesPart writes all series of the page, in the order in which they began.
func (p *pageWriter) seriesPart(o *pageOut) {
	var numbers []int
	for n := range p.series.seen {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	if len(numbers) == 0 {
		return
	}
	o.say("<section id=\"series\"><h2>Values over time</h2>\n")
	for _, n := range numbers {
		p.series.seen[n].write(o, p.zone)
	}
	o.say("</section>\n")
}
