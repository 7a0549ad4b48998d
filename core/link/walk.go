package link

import (
	"math"
	"sync"
	"time"

	"uparrot/core/stats"
)

// Stretch is what was found between two marks of a range walk, in one direction.
type Stretch struct {
	Name     string        `json:"name"` // of the mark at which it begins; "start" for the first
	From     string        `json:"from"`
	To       string        `json:"to"`
	Began    time.Time     `json:"began"`
	Sent     int           `json:"sent"`
	Lost     int           `json:"lost"`
	Loss     stats.Share   `json:"loss"`
	Longest  int           `json:"longest"` // frames lost one after the other
	Strength *stats.Spread `json:"strength_dbm,omitempty"`
}

// Walk sorts the frames of a test into stretches between marks, by the time at
// which they were sent. Its methods may be called from several goroutines; rows
// may come long after the marks.
type Walk struct {
	mu    sync.Mutex
	marks []mark
	rows  map[string][]*part // by direction, one for each mark
	names [][2]string
}

type mark struct {
	name string
	at   time.Time
}

type part struct {
	sent, lost int
	run        stats.Runs
	strength   stats.Sample
}

// NewWalk begins a walk.
func NewWalk(at time.Time) *Walk {
	return &Walk{marks: []mark{{"start", at}}, rows: map[string][]*part{}}
}

// Mark begins a new stretch.
func (w *Walk) Mark(name string, at time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.marks = append(w.marks, mark{name, at})
}

// Name is the name of the stretch that goes on.
func (w *Walk) Name() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.marks[len(w.marks)-1].name
}

// Row takes in a frame whose fate is known.
func (w *Walk) Row(from, to string, r Row) {
	w.mu.Lock()
	defer w.mu.Unlock()
	key := from + "\x00" + to
	if w.rows[key] == nil {
		w.names = append(w.names, [2]string{from, to})
	}
	i := len(w.marks) - 1
	for i > 0 && r.Sent.Before(w.marks[i].at) {
		i--
	}
	for len(w.rows[key]) <= i {
		w.rows[key] = append(w.rows[key], &part{})
	}
	p := w.rows[key][i]
	if r.State == UnderWay { // neither lost nor received
		return
	}
	p.sent++
	p.run.Add(r.State == Lost)
	if r.State == Lost {
		p.lost++
	}
	p.strength.Add(r.Strength)
}

// Stretches are the results, stretch by stretch.
func (w *Walk) Stretches() []Stretch {
	w.mu.Lock()
	defer w.mu.Unlock()
	var all []Stretch
	for i, m := range w.marks {
		for _, n := range w.names {
			parts := w.rows[n[0]+"\x00"+n[1]]
			s := Stretch{Name: m.name, From: n[0], To: n[1], Began: m.at, Loss: stats.Wilson(0, 0)}
			if i < len(parts) {
				p := parts[i]
				s.Sent, s.Lost, s.Loss, s.Longest, s.Strength = p.sent, p.lost, p.run.Share(), p.run.Longest(), p.strength.Spread()
			}
			all = append(all, s)
		}
	}
	return all
}

// trend follows a strength: a quick mean beside a slow one.
type trend struct {
	quick, slow, last float64
	any               bool
}

func (t *trend) add(v float64) {
	if math.IsNaN(v) {
		return
	}
	if !t.any {
		t.quick, t.slow, t.any = v, v, true
	}
	t.quick += 0.3 * (v - t.quick)
	t.slow += 0.05 * (v - t.slow)
	t.last = v
}

// steady is how many dB the means may be apart.
const steady = 1.5

func (t *trend) words() string {
	switch {
	case !t.any:
		return ""
	case t.quick > t.slow+steady:
		return "rising"
	case t.quick < t.slow-steady:
		return "falling"
	}
	return "steady"
}
