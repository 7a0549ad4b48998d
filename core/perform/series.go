package perform

import (
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/series"
	"uparrot/core/verdict"
)

// How long values of a series wait at most until the stream is told of them, and how many.
const (
	sampleWait  = 250 * time.Millisecond
	mostWaiting = 1024
)

// SeriesFailed is values of series that were not within their limits, found at the end of
// what repeats them.
type SeriesFailed struct{ Bad []record.Measurement }

func (e *SeriesFailed) Error() string {
	var all []string
	for _, m := range e.Bad {
		s := m.Series
		words := fmt.Sprintf("%s: %d of %d outside %s", m.What, s.Outside, s.N, m.Wanted())
		if s.Worst != nil {
			words += fmt.Sprintf(", the first %s at %s", record.WithUnit(s.Worst.Value.String(), m.Unit), s.Worst.At.Format("15:04:05.000"))
		}
		all = append(all, words)
	}
	return strings.Join(all, "; ")
}

// seriesOf tells series of a step apart: the statement, the ports that it stands for in a routine, and what
// it is called.
type seriesOf struct {
	node       procedure.Node
	ports      string
	what, unit string
}

// collectedSeries are the series of one try of a step. Values are told to the stream in batches.
type collectedSeries struct {
	of    map[seriesOf]*gathering
	order []*gathering
	depth int  // of repetitions
	out   bool // in this round some value was not within its limits

	mu    sync.Mutex // held for what waits
	timer *time.Timer
}

// gathering is one series.
type gathering struct {
	series.Series
	first   record.Measurement // as the first value was
	moved   bool
	bad     int // how many were outside when the repetition began
	waiting record.Samples
}

// several reports whether a statement is performed more than once in its step: in a
// repetition, or in a routine that the step does several times.
func (p *performer) several() bool {
	return p.gathers.depth > 0 || len(p.calls) > 0 && p.often[p.calls[0].routine]
}

// oftenDone are the routines that statements do more than once.
func oftenDone(list []procedure.Node, times map[string]int) map[string]bool {
	for _, n := range list {
		if d, ok := n.(*procedure.Do); ok {
			times[d.Routine.Name]++
			continue
		}
		for _, b := range procedure.Bodies(n) {
			oftenDone(b.Body, times)
		}
	}
	often := map[string]bool{}
	for name, n := range times {
		often[name] = n > 1
	}
	return often
}

// sample takes a value of a series in.
func (p *performer) sample(n procedure.Node, m record.Measurement, at time.Time) {
	key, port := seriesOf{node: n, what: m.What, unit: m.Unit}, ""
	if p.watching != nil {
		port = p.watching.heardAt
	}
	if len(p.calls) > 0 {
		key.ports = fmt.Sprint(p.calls[len(p.calls)-1].ports)
	}
	m.At = at
	g := p.gathers.of[key]
	if g == nil {
		g = p.newSeries(m, port)
		p.gathers.of[key] = g
	}
	p.gathers.add(p, g, m)
	switch {
	case p.watching != nil:
		p.watching.tellOne(m)
	case p.run.Events.Watched():
		p.emit(record.Event{Time: at, Kind: record.Measured, Text: m.What, Verdict: m.Verdict, Value: m})
	}
}

// newSeries begins a series with what its first value tells.
func (p *performer) newSeries(m record.Measurement, port string) *gathering {
	p.seriesCount++
	m.Step = p.step.Title
	g := &gathering{first: m}
	g.waiting.Series = p.seriesCount
	p.gathers.order = append(p.gathers.order, g)
	p.emit(record.Event{Time: m.At, Kind: record.Series, Step: m.Step, Text: m.What, Try: p.try,
		Value: record.SeriesBegins{Number: p.seriesCount, What: p.mask.Hide(m.What), Unit: m.Unit, Low: m.Low, High: m.High, Judged: m.Judged(), Port: port}})
	return g
}

// add takes a value into a series, and has the stream told of it soon.
func (gs *collectedSeries) add(p *performer, g *gathering, m record.Measurement) {
	outside := m.Verdict == verdict.Failed
	gs.out = gs.out || outside
	g.moved = g.moved || !sameLimit(m.Low, g.first.Low) || !sameLimit(m.High, g.first.High)
	gs.mu.Lock()
	defer gs.mu.Unlock()
	w := &g.waiting
	if m.Text != nil {
		if len(w.Values) > 0 {
			gs.tell(p, g)
		}
		g.AddText(m.At, *m.Text)
		w.Texts = append(w.Texts, *m.Text)
	} else {
		if len(w.Texts) > 0 {
			gs.tell(p, g)
		}
		g.Add(m.At, float64(m.Value), outside)
		w.Values = append(w.Values, float64(m.Value))
	}
	if outside {
		w.Outside = append(w.Outside, len(w.At))
	}
	if w.At = append(w.At, m.At); len(w.At) >= mostWaiting {
		gs.tell(p, g)
	}
	if gs.timer == nil {
		gs.timer = time.AfterFunc(sampleWait, func() { gs.tellAll(p) })
	}
}

// tell tells the stream of what waits of a series. The mutex is held.
func (gs *collectedSeries) tell(p *performer, g *gathering) {
	w := g.waiting
	if len(w.At) == 0 {
		return
	}
	n := len(w.At) // about as many come until the next time
	g.waiting = record.Samples{Series: w.Series, At: make([]time.Time, 0, n)}
	if w.Values != nil {
		g.waiting.Values = make([]float64, 0, n)
	}
	p.run.Events.Emit(record.Event{Time: w.At[len(w.At)-1], Kind: record.Sampled, Value: w})
}

// tellAll tells of all that waits.
func (gs *collectedSeries) tellAll(p *performer) {
	gs.mu.Lock()
	defer gs.mu.Unlock()
	if gs.timer != nil {
		gs.timer.Stop()
		gs.timer = nil
	}
	for _, g := range gs.order {
		gs.tell(p, g)
	}
}

func sameLimit(a, b *float64) bool { return a == nil && b == nil || a != nil && b != nil && *a == *b }

// row is what a series came to. Where it had one value it is that.
func (g *gathering) row() record.Measurement {
	m := g.first
	if g.N() == 1 {
		return m
	}
	sum := g.Summary()
	sum.Number = g.waiting.Series
	m.Series, m.Value, m.Text, m.Verdict = &sum, sum.Mean, nil, verdict.Measured
	if sum.Moved = g.moved; g.moved { // the row has none that all were held against
		m.Low, m.High = nil, nil
	}
	switch {
	case !g.first.Judged():
	case sum.Outside > 0:
		m.Verdict = verdict.Failed
	default:
		m.Verdict = verdict.Passed
	}
	return m
}

// beginSeries begins a try of the step with none.
func (p *performer) beginSeries() {
	p.gathers = &collectedSeries{of: map[seriesOf]*gathering{}}
	p.often = oftenDone(p.step.Body, map[string]int{}) // the file may have been mended
}

// endSeries files what the series of a try of the step came to.
func (p *performer) endSeries() {
	p.gathers.tellAll(p)
	for _, g := range p.gathers.order {
		if g.N() > 0 {
			p.measured(g.row())
		}
	}
}

// repeated performs what repeats statements. What was outside its limits in it fails the
// step at its end, and stops nothing before.
func (p *performer) repeated(does func() error) error {
	gs := p.gathers
	if gs.depth == 0 {
		for _, g := range gs.order {
			g.bad = g.Summary().Outside
		}
	}
	gs.depth++
	err := does()
	if gs.depth--; gs.depth > 0 {
		return err
	}
	gs.tellAll(p)
	var failed SeriesFailed
	for _, g := range gs.order {
		if m := g.row(); m.Verdict == verdict.Failed && g.Summary().Outside > g.bad {
			if m.Series == nil {
				s := g.Summary()
				m.Series = &s
			}
			failed.Bad = append(failed.Bad, m)
		}
	}
	if len(failed.Bad) > 0 && (err == nil || outcome(err) == verdict.Skipped) {
		return &failed
	}
	return err
}

// rounds performs statements again and again, and tells when a round begins, where they
// speak with a module.
type rounds struct {
	*performer
	tells  bool
	number int
	count  int // readings of the watch before this round
}

func (p *performer) newRounds(body []procedure.Node) *rounds {
	return &rounds{performer: p, tells: p.gathers.depth == 1 && speaks(body)}
}

// next begins the next round.
func (r *rounds) next() {
	r.number++
	r.tell(false)
}

func (r *rounds) tell(over bool) {
	out := r.gathers.out
	if r.gathers.out = false; r.tells && r.number > 0 {
		mark := record.RoundMark{Number: r.number, Outside: out, Over: over}
		if w := r.watching; w != nil && len(w.polls) == 0 {
			mark.Readings, r.count = w.count-r.count, w.count
		}
		r.emit(record.Event{Kind: record.Round, Value: mark})
	}
}

// speaks reports whether some statement uses a port.
func speaks(list []procedure.Node) bool {
	for _, n := range list {
		if len(procedure.PortsOf(n)) > 0 {
			return true
		}
		for _, b := range procedure.Bodies(n) {
			if speaks(b.Body) {
				return true
			}
		}
	}
	return false
}

// notANumber stands where a measurement is a text.
var notANumber = record.Number(math.NaN())
