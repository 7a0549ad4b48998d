package link

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"time"

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
	Run     uint32     `json:"number"` // of the run, as in its frames
	Ways    []wayState `json:"ways"`
}

// CheckpointKind is the kind of a checkpoint, by which its files are known.
const CheckpointKind = "link checkpoint"

// wayState is one direction.
type wayState struct {
	Next         uint32        `json:"next"`
	Unknown      int           `json:"unknown"`
	Received     int           `json:"received"`
	Late         int           `json:"late"`
	Duplicated   int           `json:"duplicated"`
	Reordered    int           `json:"reordered"`
	Damaged      int           `json:"damaged"`
	Foreign      int           `json:"foreign"`
	ForeignBytes int           `json:"foreign_bytes"`
	OverLimit    int           `json:"over_limit"`
	Refused      int           `json:"refused"`
	Histogram    string        `json:"histogram"`
	Jitter       float64       `json:"jitter_ns"`
	Total        time.Duration `json:"total_ns"`
	Wire         time.Duration `json:"wire_ns"`
	Strength     [5]float64    `json:"strength"` // count, least, greatest, sum, sum of squares
	SNR          [5]float64    `json:"snr"`
	Runs         [7]int        `json:"runs"` // now, sum, count, longest, good, bad, entered
	Leaves       int           `json:"leaves"`
	LastLost     bool          `json:"last_lost"`
	Minutes      []Minute      `json:"minutes"`
	Began        time.Time     `json:"began"`
	Levels       []Level       `json:"levels"`
}

// state is the tally with all frames whose fate is known, and its direction.
func (t *tally) state(from, to string, now time.Time) (wayState, Direction) {
	t.mu.Lock()
	defer t.mu.Unlock()
	g, unknown := t.gathered.clone(), t.unknown
	for n := t.oldest; n < t.next; n++ {
		r := t.frames[n%windowSize]
		if r.State == Lost && now.Sub(r.Sent) <= t.deadline {
			unknown++
			continue
		}
		g.add(r)
	}
	d := t.sumUp(from, to, g, unknown)
	code, err := t.latency.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
	if err != nil {
		panic(err) // into memory it always does
	}
	r := g.runs.State()
	return wayState{
		Next: t.next, Unknown: unknown, Received: t.received, Late: t.late, Duplicated: t.duplicated, Reordered: t.reordered, Damaged: t.damaged,
		Foreign: t.foreign, ForeignBytes: t.foreignBytes, OverLimit: t.overLimit, Histogram: string(code), Jitter: t.jitter.Value, Total: t.total, Wire: t.wire,
		Strength: array(t.strength), SNR: array(t.snr),
		Runs: r.Counts, Leaves: r.Leaves, LastLost: r.LastLost,
		Minutes: append([]Minute{}, g.minutes...), Began: g.began, Levels: g.byLevel(),
	}, d
}

func array(s stats.Sample) [5]float64 {
	return [5]float64{float64(s.N), s.Low, s.High, s.Sum, s.Squares}
}

func sampleOf(a [5]float64) stats.Sample {
	return stats.Sample{N: int(a[0]), Low: a[1], High: a[2], Sum: a[3], Squares: a[4]}
}

// restore goes on from a state.
func (t *tally) restore(s wayState) error {
	h, err := hdrhistogram.Decode([]byte(s.Histogram))
	if err != nil {
		return fmt.Errorf("the checkpoint's histogram cannot be read: %w", err)
	}
	t.latency.Merge(h)
	t.next, t.oldest, t.highest, t.unknown = s.Next, s.Next, int64(s.Next)-1, s.Unknown
	t.frames = make([]Row, min(windowSize, int(s.Next)), windowSize) // their places are taken already
	t.received, t.late, t.duplicated, t.reordered, t.damaged = s.Received, s.Late, s.Duplicated, s.Reordered, s.Damaged
	t.foreign, t.foreignBytes, t.overLimit = s.Foreign, s.ForeignBytes, s.OverLimit
	t.jitter.Value, t.total, t.wire = s.Jitter, s.Total, s.Wire
	t.strength, t.snr = sampleOf(s.Strength), sampleOf(s.SNR)
	t.gathered = gathered{minutes: s.Minutes, began: s.Began, levels: map[int]*Level{}, strong: math.NaN(), runs: stats.RunsFrom(stats.RunsState{Counts: s.Runs, Leaves: s.Leaves, LastLost: s.LastLost}, s.Next > 0)}
	for i := range s.Levels {
		t.levels[s.Levels[i].DBm] = &s.Levels[i]
	}
	t.known, t.knownLost, t.knownOver = int(s.Next), int(s.Next)-s.Unknown-s.Received, s.OverLimit
	return nil
}

// checkpoint is how far the test has come.
func (t *Test) checkpoint(sum Summary, run uint32, ways []*way) Checkpoint {
	c := Checkpoint{Kind: CheckpointKind, Version: 1, Summary: sum, Run: run}
	now := time.Now()
	for _, w := range ways {
		s, d := w.to.counts.state(w.from.Name, w.toName(), now)
		s.Refused = int(w.refused.Load())
		d.Refused = s.Refused
		d.judge(t.Limits, s.OverLimit, t.Sure)
		c.Ways = append(c.Ways, s)
		c.Summary.Directions = append(c.Summary.Directions, d)
	}
	return c
}

// Write writes the checkpoint to a file, whole or not at all.
func (c Checkpoint) Write(path string) error {
	text, err := json.Marshal(c)
	if err == nil {
		err = os.WriteFile(path+".new", append(text, '\n'), 0o600)
	}
	if err == nil {
		err = os.Rename(path+".new", path)
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
	if c.Version > 1 {
		return nil, fmt.Errorf("%s has format version %d; this program reads version 1", path, c.Version)
	}
	return c, nil
}
