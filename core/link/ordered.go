package link

import (
	"math"
	"sort"
	"time"

	"uparrot/core/stats"
)

// ordered is what needs the frames in the order of sending.
type ordered struct {
	outcomes
	outages outages
	delays  stats.Blocks // latencies in ms, +Inf of a lost frame
	under   int          // frames that were on their way when it ended
	harms   Harms
	minutes []Minute
	began   time.Time
	levels  map[int]*Level
	strong  float64 // of the last frame that told
	sizes   []SizeResult
}

// SizeResult is what was found for frames of one size.
type SizeResult struct {
	Size   int         `json:"size"` // bytes
	Sent   int         `json:"sent"`
	Lost   int         `json:"lost"`
	Loss   stats.Share `json:"loss"`
	MeanMS float64     `json:"mean_ms"` // latency of those received

	runs  stats.Runs
	total time.Duration
}

func newSizes(list []int) []SizeResult {
	var all []SizeResult
	for _, n := range list {
		all = append(all, SizeResult{Size: n})
	}
	return all
}

// bySize is what was found for each size, if there are several.
func (g ordered) bySize() []SizeResult {
	all := append([]SizeResult(nil), g.sizes...)
	for i := range all {
		r := &all[i]
		r.Sent, r.Lost, r.Loss = r.runs.Frames(), r.runs.Lost(), r.runs.Share()
		if r.Sent > r.Lost {
			r.MeanMS = stats.Round(r.total.Seconds()*1000/float64(r.Sent-r.Lost), 3)
		}
	}
	return all
}

func newOrdered() ordered { return ordered{levels: map[int]*Level{}, strong: math.NaN()} }

// add takes in a frame whose fate is known.
func (g *ordered) add(r Row, limit time.Duration) {
	if r.State == UnderWay {
		g.under++
		return
	}
	lost := r.State == Lost
	g.outcomes.add(r, limit)
	g.outages.add(r)
	g.delays.Add(msOf(r))
	if n := len(g.sizes); n > 0 {
		size := &g.sizes[int(r.Number)%n]
		size.runs.Add(lost)
		size.total += r.Latency()
	}
	if g.began.IsZero() {
		g.began = r.Sent
	}
	minute := int(r.Sent.Sub(g.began) / time.Minute)
	if n := len(g.minutes); n == 0 || g.minutes[n-1].Minute < minute {
		g.minutes = append(g.minutes, Minute{Minute: minute})
	}
	m := &g.minutes[len(g.minutes)-1]
	m.Sent++
	if !math.IsNaN(r.Strength) {
		g.strong = r.Strength
	}
	if lost {
		m.Lost++
		g.harms.add(r.Harm)
	}
	if math.IsNaN(g.strong) {
		return
	}
	dbm := int(math.Round(g.strong))
	l := g.levels[dbm]
	if l == nil {
		l = &Level{DBm: dbm}
		g.levels[dbm] = l
	}
	l.Sent++
	if lost {
		l.Lost++
	}
}

// clone is a copy that grows by itself.
func (g ordered) clone() ordered {
	g.delays = g.delays.Clone()
	g.minutes = append([]Minute{}, g.minutes...)
	g.sizes = append([]SizeResult(nil), g.sizes...)
	levels := map[int]*Level{}
	for k, l := range g.levels {
		own := *l
		levels[k] = &own
	}
	g.levels = levels
	return g
}

// byLevel is what was lost at each strength, the weakest first.
func (g ordered) byLevel() []Level {
	var all []Level
	for _, l := range g.levels {
		all = append(all, *l)
	}
	sort.Slice(all, func(i, j int) bool { return all[i].DBm < all[j].DBm })
	return all
}
