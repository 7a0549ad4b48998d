package link

import (
	"math"
	"time"

	"uparrot/core/stats"
)

// outcomes are frames whose fate is known, in the order of sending, as limits see them.
type outcomes struct {
	lost   stats.Runs // did not come whole
	missed stats.Runs // did not come whole within the deadline: lost or late
	slow   stats.Runs // did not come within the limit of latency: a lost frame is later than any limit (RFC 7679, section 5.1)
}

// add takes in a frame; limit is that of latency, 0 for none.
func (f *outcomes) add(r Row, limit time.Duration) {
	f.lost.Add(r.State == Lost)
	f.missed.Add(r.State != OnTime)
	f.slow.Add(r.State == Lost || limit > 0 && r.Latency() > limit)
}

// outcomesState is what is kept of them in a checkpoint.
type outcomesState struct {
	Lost   stats.RunsState `json:"lost"`
	Missed stats.RunsState `json:"missed"`
	Slow   stats.RunsState `json:"slow"`
	Any    bool            `json:"any"`
}

func (f *outcomes) state() outcomesState {
	return outcomesState{f.lost.State(), f.missed.State(), f.slow.State(), f.lost.Frames() > 0}
}

func (s outcomesState) outcomes() outcomes {
	return outcomes{stats.RunsFrom(s.Lost, s.Any), stats.RunsFrom(s.Missed, s.Any), stats.RunsFrom(s.Slow, s.Any)}
}

// msOf is a latency for statistics: infinite if the frame was lost.
func msOf(r Row) float64 {
	if r.State == Lost {
		return math.Inf(1)
	}
	return max(0.001, float64(r.Latency())/float64(time.Millisecond))
}
