package link

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/verdict"
)

// Map finds out who hears whom: each port speaks in turn, all others listen.
type Map struct {
	Ports  []*station.Station
	Hears  map[string][]string // for a speaker, who must hear it; nil means it is not said
	Count  int                 // messages from each
	Every  time.Duration
	Size   int
	Wait   time.Duration  // after the last message of each
	Record *record.Writer // nil keeps none
	Told   func(speaker string)
}

// Cell is what a listener heard of a speaker.
type Cell struct {
	Speaker  string          `json:"speaker"`
	Listener string          `json:"listener"`
	Sent     int             `json:"sent"`
	Heard    int             `json:"heard"`
	Wanted   string          `json:"wanted"` // "hear", "not hear" or "" if nothing is said
	Verdict  verdict.Verdict `json:"verdict"`
}

// MapResult is the whole matrix.
type MapResult struct {
	Names   []string        `json:"names"`
	Cells   []Cell          `json:"cells"`
	Verdict verdict.Verdict `json:"verdict"`
}

// ear is a port that listens.
type ear struct {
	*station.Station
	dialog  *dialog.Dialog
	mu      sync.Mutex
	heard   map[uint32]map[uint32]bool // numbers by run
	decoder decoder
}

func (e *ear) note(f Frame) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.heard[f.Run] == nil {
		e.heard[f.Run] = map[uint32]bool{}
	}
	e.heard[f.Run][f.Number] = true
}

func (e *ear) adjust(c *dialog.Config) {
	carrier := carrierOf(e.Station)
	if carrier == nil {
		e.decoder.broken = func(int) {}
		e.decoder.whole = func(_ time.Time, f stamped, _ int) { e.note(f.Frame) }
		bytesOnly(c, e.decoder.feed)
		return
	}
	c.Notices = append([]*pattern.Pattern{carrier.ArrivesPattern}, c.Notices...)
	c.OnNotice = func(notice int, _ dialog.Line, caps []pattern.Capture) bool {
		for _, cp := range caps {
			if f, err := Decode([]byte(cp.Text)); notice == 0 && cp.Name == "payload" && err == nil {
				e.note(f)
			}
		}
		return notice == 0
	}
}

// Do opens all ports, lets each speak, and closes them.
func (m *Map) Do(ctx context.Context) (res MapResult, err error) {
	var ears []*ear
	defer func() {
		for _, e := range ears {
			err = errors.Join(err, e.Close(m.Record, e.dialog))
		}
	}()
	for _, s := range m.Ports {
		c := carrierOf(s)
		if c == nil && !transparent(s) {
			return res, errNotTransparent(s)
		}
		if c != nil && strings.Contains(c.Send, "{to}") && c.Broadcast == "" {
			return res, fmt.Errorf("the carrier of %s has no broadcast address, so it cannot speak to all", s.Name)
		}
		e := &ear{Station: s, heard: map[uint32]map[uint32]bool{}}
		if e.dialog, err = s.Open(m.Record, e.adjust); err != nil {
			return res, err
		}
		ears = append(ears, e)
		res.Names = append(res.Names, s.Name)
	}
	base := rand.Uint32() & 0xffff00
	for i, speaker := range ears {
		if m.Told != nil {
			m.Told(speaker.Name)
		}
		if err := m.speak(ctx, speaker, base|uint32(i)); err != nil {
			return res, err
		}
	}
	for i, speaker := range ears {
		for _, listener := range ears {
			if listener == speaker {
				continue
			}
			listener.mu.Lock()
			cell := Cell{Speaker: speaker.Name, Listener: listener.Name, Sent: m.Count, Heard: len(listener.heard[base|uint32(i)])}
			listener.mu.Unlock()
			m.judge(&cell)
			res.Cells = append(res.Cells, cell)
			res.Verdict = verdict.Worse(res.Verdict, cell.Verdict)
		}
	}
	return res, nil
}

// judge holds a cell against what the bench says. Who must hear must hear at least
// half; who must not, nothing.
func (m *Map) judge(c *Cell) {
	wanted, said := m.Hears[c.Speaker]
	c.Verdict = verdict.Passed
	if !said {
		return
	}
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

func (m *Map) speak(ctx context.Context, e *ear, run uint32) error {
	carrier := carrierOf(e.Station)
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
		f := Frame{Run: run, Number: uint32(i)}
		if carrier == nil {
			if _, err := e.dialog.SayBytes(ctx, stamped{Frame: f}.append(nil, m.Size)); err != nil {
				return err
			}
			continue
		}
		payload := string(f.Append(nil, m.Size))
		text, err := command(carrier, carrier.Broadcast, payload)
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
