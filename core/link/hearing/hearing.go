// Package hearing finds out who hears whom: each port speaks in turn, all others
// listen.
package hearing

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/link/frame"
	"uparrot/core/pattern"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// Map is how that is found out.
type Map struct {
	Ports  []*bench.Station
	Hears  map[string][]string // for a speaker, who must hear it; nil means it is not said
	Count  int                 // messages from each
	Every  time.Duration
	Size   int
	Wait   time.Duration  // after the last message of each
	Events *record.Stream // told of each speaker, its name (a Speaking), and of the result; nil tells nobody
}

// Speaking is the name of the port that speaks.
type Speaking string

// Name names a result.
const Name = "link map"

// Cell is what a listener heard of a speaker.
type Cell struct {
	Speaker  string          `json:"speaker"`
	Listener string          `json:"listener"`
	Sent     int             `json:"sent"`
	Heard    int             `json:"heard"`
	Wanted   string          `json:"wanted"` // "hear", "not hear" or "" if nothing is said
	Verdict  verdict.Verdict `json:"verdict"`
}

// Result is the whole matrix.
type Result struct {
	Names   []string        `json:"names"`
	Cells   []Cell          `json:"cells"`
	Verdict verdict.Verdict `json:"verdict"`
}

// listener is a port that listens.
type listener struct {
	*bench.Station
	frame.Carriage
	dialog  *dialog.Dialog
	mu      sync.Mutex
	heard   map[uint32]map[uint32]bool // numbers by run
	decoder frame.Decoder
}

func (e *listener) note(f frame.Frame) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.heard[f.Run] == nil {
		e.heard[f.Run] = map[uint32]bool{}
	}
	e.heard[f.Run][f.Number] = true
}

func (e *listener) adjust(c *dialog.Config) {
	if e.Binary {
		e.decoder.Broken = func([]byte, int) {}
		e.decoder.Whole = func(_ time.Time, f frame.Stamped, _ int) { e.note(f.Frame) }
		frame.Bytes(c, e.decoder.Feed)
		return
	}
	frame.Arrivals(c, e.Carrier.ArrivesPattern, func(_ dialog.Line, caps []pattern.Capture) {
		for _, cp := range caps {
			if f, err := frame.Decode([]byte(cp.Text)); cp.Name == "payload" && err == nil {
				e.note(f)
			}
		}
	})
}

// Do opens all ports, lets each speak, and closes them.
func (m *Map) Do(ctx context.Context) (res Result, err error) {
	all, err := m.open(ctx, &res)
	if err == nil {
		err = m.speakAll(ctx, all, &res)
	}
	for _, e := range all {
		err = errors.Join(err, e.Close(m.Events, e.dialog))
	}
	if err != nil {
		res.Verdict = verdict.Broken
	}
	m.Events.Emit(record.Event{Kind: record.Result, Text: Name, Verdict: res.Verdict, Value: res})
	return res, err
}

// open opens all ports, or those before one that cannot be opened.
func (m *Map) open(ctx context.Context, res *Result) (all []*listener, err error) {
	for _, s := range m.Ports {
		e := &listener{Station: s, Carriage: frame.Through(s.Setup, s.Phrasebook), heard: map[uint32]map[uint32]bool{}}
		if e.Carrier == nil && !e.Binary {
			return all, frame.NotTransparent(s.Name)
		}
		if e.Addressed() && e.Carrier.Broadcast == "" {
			return all, fmt.Errorf("the carrier of %s has no broadcast address, so it cannot speak to all", s.Name)
		}
		if e.dialog, err = s.Open(ctx, m.Events, e.adjust); err != nil {
			return all, err
		}
		all = append(all, e)
		res.Names = append(res.Names, s.Name)
	}
	return all, nil
}

func (m *Map) speakAll(ctx context.Context, all []*listener, res *Result) error {
	base := rand.Uint32() & 0xffff00
	for i, speaker := range all {
		m.Events.Emit(record.Event{Kind: record.Progress, Live: Speaking(speaker.Name)})
		if err := m.speak(ctx, speaker, base|uint32(i)); err != nil {
			return err
		}
	}
	for i, speaker := range all {
		for _, hearer := range all {
			if hearer == speaker {
				continue
			}
			hearer.mu.Lock()
			cell := Cell{Speaker: speaker.Name, Listener: hearer.Name, Sent: m.Count, Heard: len(hearer.heard[base|uint32(i)])}
			hearer.mu.Unlock()
			m.judge(&cell)
			res.Cells = append(res.Cells, cell)
			res.Verdict = verdict.Worse(res.Verdict, cell.Verdict)
		}
	}
	return nil
}

// answers is how long a module may take to answer a command.
const answers = 2 * time.Second

// judge holds a cell against what the bench says. Who must hear must hear at least
// half; who must not, nothing.
func (m *Map) judge(c *Cell) {
	wanted, said := m.Hears[c.Speaker]
	if c.Verdict = verdict.Measured; !said {
		return
	}
	c.Verdict = verdict.Passed
	c.Wanted = "not hear"
	for _, name := range wanted {
		if name == c.Listener {
			c.Wanted = "hear"
		}
	}
	if c.Wanted == "hear" && 2*c.Heard < c.Sent || c.Wanted == "not hear" && c.Heard > 0 {
		c.Verdict = verdict.Failed
	}
}

func (m *Map) speak(ctx context.Context, e *listener, run uint32) error {
	tick := time.NewTicker(m.Every)
	defer tick.Stop()
	for i := range m.Count {
		if i > 0 {
			select {
			case <-tick.C:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		f := frame.Frame{Run: run, Number: uint32(i)}
		if e.Binary {
			if _, err := e.dialog.SayBytes(ctx, frame.Stamped{Frame: f}.Append(nil, m.Size)); err != nil {
				return err
			}
			continue
		}
		payload := string(f.Append(nil, m.Size))
		text, err := e.Command(e.Carrier.Broadcast, payload)
		if err != nil {
			return fmt.Errorf("speak at %s: %w", e.Name, err)
		}
		if _, err = e.dialog.Say(ctx, text, answers); err == nil {
			err = e.dialog.Settle(ctx, answers)
		}
		if err != nil {
			return fmt.Errorf("speak at %s: %w", e.Name, err)
		}
	}
	select {
	case <-time.After(m.Wait):
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	return nil
}
