package link

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"time"

	"uparrot/core/output"
	"uparrot/core/source"
	"uparrot/core/stats"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// Checkpoint is how far a test has come: its summary as it stands, and what is
// needed to go on. Frames that were on their way at that moment are in neither.
type Checkpoint struct {
	Kind    string     `json:"kind"` // CheckpointKind
	Version int        `json:"version"`
	Summary Summary    `json:"summary"`
	Wait    float64    `json:"deadline_ms"`
	Run     uint32     `json:"number"` // of the run, as in its frames
	Ways    []wayState `json:"ways"`
}

// Fits says why a test with another plan cannot go on from the checkpoint: what has been
// counted and decided so far was by that one's limits and waiting time.
func (c *Checkpoint) Fits(t *Test) error {
	was, ends := c.Summary, t.ends()
	ways := 1
	if t.Both {
		ways = 2
	}
	switch {
	case len(c.Ways) != ways || len(was.Directions) != ways:
		return errors.New("that test had other directions")
	case was.Directions[0].From != ends[0].Name || len(ends) > 1 && was.Directions[0].To != ends[1].Name:
		return fmt.Errorf("that test was from %s to %s", was.Directions[0].From, was.Directions[0].To)
	case was.Size != t.Size:
		return fmt.Errorf("that test sent frames of %d bytes, not %d", was.Size, t.Size)
	case t.Load == 0 && was.EveryMS != ms(t.Every):
		return fmt.Errorf("that test sent one every %v ms, not every %v", was.EveryMS, t.Every)
	case c.Wait != ms(t.Deadline):
		return fmt.Errorf("that test waited %v ms for a frame, not %v", c.Wait, t.Deadline)
	case !reflect.DeepEqual(was.Limits, t.Limits):
		return errors.New("that test had other limits")
	}
	return nil
}

// CheckpointKind is the kind of a checkpoint, by which its files are known.
const CheckpointKind = "link checkpoint"

// checkpointVersion is that of the format. Version 1 did not know what became of late
// frames in the order of sending.
const checkpointVersion = 2

// wayState is one direction.
type wayState struct {
	Next       uint64 `json:"next"`
	UnderWay   int    `json:"under_way"`
	Received   int    `json:"received"`
	Late       int    `json:"late"`
	Duplicated int    `json:"duplicated"`
	Reordered  int    `json:"reordered"`
	Harms
	Foreign      int           `json:"foreign"`
	ForeignBytes int           `json:"foreign_bytes"`
	Refused      int           `json:"refused"`
	Latency      string        `json:"latency"` // histograms
	Planned      string        `json:"planned"`
	Lag          string        `json:"lag"`
	Between      time.Duration `json:"between_ns"` // sum of the intervals between sendings
	Intervals    int           `json:"intervals"`
	Jitter       stats.Jitter  `json:"jitter"`
	Total        time.Duration `json:"total_ns"`
	Wire         time.Duration `json:"wire_ns"`
	TooFast      int           `json:"too_fast"`
	Strength     stats.Sample  `json:"strength"`
	SNR          stats.Sample  `json:"snr"`
	Fates        outcomesState `json:"fates"`
	Latched      latched       `json:"latched"`
	Delays       stats.Blocks  `json:"delays"`
	Minutes      []Minute      `json:"minutes"`
	Began        time.Time     `json:"began"`
	Levels       []Level       `json:"levels"`
	Outages      *keptOutages  `json:"outages,omitempty"` // of earlier versions there are none
}

// keptOutages is what is kept of stretches of lost frames.
type keptOutages struct {
	Began   time.Time `json:"began"`
	Now     Outage    `json:"now"`
	Longest Outage    `json:"longest"`
	Frames  int       `json:"frames"`
	Lost    int       `json:"lost"`
}

// state is the tally with all frames whose fate is known, and its direction.
func (t *tally) state(from, to string, now time.Time) (wayState, Direction, outcomes) {
	t.mu.Lock()
	defer t.mu.Unlock()
	g := t.ordered.clone()
	for n := t.oldest; n < t.next; n++ {
		r := t.frames[n%windowSize]
		r.State = r.fate(now, t.deadline)
		g.add(r, t.over)
	}
	d := t.sumUp(from, to, g)
	return wayState{
		Next: t.next, UnderWay: g.under, Received: t.received, Late: t.late, Duplicated: t.duplicated, Reordered: t.reordered, Harms: g.harms,
		Foreign: t.foreign, ForeignBytes: t.foreignBytes, Latency: encoded(t.latency), Planned: encoded(t.planned), Lag: encoded(t.lag),
		Between: t.between, Intervals: t.intervals, Jitter: t.jitter, Total: t.total, Wire: t.wire, TooFast: t.fast,
		Strength: t.strength.Clone(), SNR: t.snr.Clone(), Fates: g.outcomes.state(), Latched: t.latched, Delays: g.delays,
		Minutes: append([]Minute{}, g.minutes...), Began: g.began, Levels: g.byLevel(),
		Outages: &keptOutages{g.outages.began, g.outages.now, g.outages.longest, g.outages.frames, g.outages.lost},
	}, d, g.outcomes
}

func encoded(h *hdrhistogram.Histogram) string {
	code, err := h.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
	if err != nil {
		panic(err) // into memory it always does
	}
	return string(code)
}

// restore goes on from a state.
func (t *tally) restore(s wayState) error {
	for _, kept := range []struct {
		text string
		into *hdrhistogram.Histogram
	}{{s.Latency, t.latency}, {s.Planned, t.planned}, {s.Lag, t.lag}} {
		h, err := hdrhistogram.Decode([]byte(kept.text))
		if err != nil {
			return fmt.Errorf("a histogram of the checkpoint cannot be read: %w", err)
		}
		kept.into.Merge(h)
	}
	t.next, t.oldest, t.highest = s.Next, s.Next, int64(s.Next)-1
	t.frames = make([]Row, min(windowSize, int(s.Next)), windowSize) // their places are taken already
	t.received, t.late, t.duplicated, t.reordered, t.harmedNow = s.Received, s.Late, s.Duplicated, s.Reordered, s.Harmed()
	t.foreign, t.foreignBytes = s.Foreign, s.ForeignBytes
	t.between, t.intervals, t.jitter, t.total, t.wire, t.fast = s.Between, s.Intervals, s.Jitter, s.Total, s.Wire, s.TooFast
	t.strength, t.snr = s.Strength, s.SNR
	t.ordered = ordered{outcomes: s.Fates.outcomes(), delays: s.Delays, under: s.UnderWay, harms: s.Harms, minutes: s.Minutes, began: s.Began, levels: map[int]*Level{}, strong: math.NaN()}
	for i := range s.Levels {
		t.levels[s.Levels[i].DBm] = &s.Levels[i]
	}
	if o := s.Outages; o != nil {
		t.outages = outages{o.Began, o.Now, o.Longest, o.Frames, o.Lost}
	}
	t.knownOut = t.outages
	t.wentOn = time.Now()
	t.known, t.knownFates, t.latched = int(s.Next), s.Fates.outcomes(), s.Latched
	return nil
}

// checkpoint is how far the test has come.
func (t *Test) checkpoint(sum Summary, run uint32, ways []*way) Checkpoint {
	c := Checkpoint{Kind: CheckpointKind, Version: checkpointVersion, Summary: sum, Wait: ms(t.Deadline), Run: run}
	now := time.Now()
	for _, w := range ways {
		s, d, known := w.to.counts.state(w.from.Name, w.toName(), now)
		s.Refused = int(w.refused.Load())
		d.Refused = s.Refused
		d.judge(t.Limits, &known, s.Latched, t.Sure)
		c.Ways = append(c.Ways, s)
		c.Summary.Directions = append(c.Summary.Directions, d)
	}
	return c
}

// Write writes the checkpoint to a file, whole or not at all.
func (c Checkpoint) Write(path string) error {
	text, err := json.Marshal(c)
	if err == nil {
		err = output.Again(path, append(text, '\n'))
	}
	if err != nil {
		return fmt.Errorf("write the checkpoint: %w", err)
	}
	return nil
}

// ReadCheckpoint reads a checkpoint.
func ReadCheckpoint(path string) (*Checkpoint, error) {
	text, err := source.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read the checkpoint: %w", err)
	}
	c := &Checkpoint{}
	if err := json.Unmarshal(text, c); err != nil || c.Kind != CheckpointKind {
		return nil, fmt.Errorf("%s is no checkpoint of a link test", path)
	}
	if c.Version != checkpointVersion {
		return nil, fmt.Errorf("%s has format version %d, and a test goes on from version %d alone: its summary can still be compared, but the test must begin anew", path, c.Version, checkpointVersion)
	}
	return c, nil
}
