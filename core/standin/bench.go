// Package standin is simulated modules on a simulated bench, with the air
// between them.
//
// A stand-in behaves as the hardware would: its bytes take their time on the
// line, it refuses what the hardware refuses, and what the air does to its
// messages is drawn from a seed. The bench keeps the truth of what the air did,
// so that a measurement can be held against it.
package standin

import (
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"sort"
	"sync"
	"time"

	"uparrot/core/pace"
	"uparrot/core/uart"
)

// Module describes one stand-in.
type Module struct {
	Name     string
	Family   string // one of Families
	Line     uart.Line
	Place    float64           // metres along the cableway, for strength by distance
	Settings map[string]string // what differs from the delivered settings, by the module's own names
}

// Families are the module families that stand-ins exist for.
var Families = []string{"dunlin"}

// Config describes a bench of stand-ins.
type Config struct {
	Air     Air
	Modules []Module
	Nap     pace.Nap // nil means pace.Precise
}

// Bench is stand-ins at work.
type Bench struct {
	air     Air
	clock   *clock
	noise   *rand.Rand
	modules []*dunlin
	lines   map[string]uart.Line
	cancel  context.CancelFunc
	ctx     context.Context
	wait    sync.WaitGroup

	paths map[[2]string]*path // by sender and receiver; belongs to the clock
	news  chan struct{}       // the truth has changed
}

// New makes a bench and starts its clock. The stand-ins are silent until they
// are attached.
func New(cfg Config) (*Bench, error) {
	if cfg.Nap == nil {
		cfg.Nap = pace.Precise
	}
	b := &Bench{
		air:   cfg.Air,
		clock: newClock(cfg.Nap),
		noise: rand.New(rand.NewPCG(cfg.Air.Seed, 1)),
		lines: map[string]uart.Line{},
		paths: map[[2]string]*path{},
		news:  make(chan struct{}, 1),
	}
	for _, m := range cfg.Modules {
		if m.Family != "dunlin" {
			return nil, fmt.Errorf("stand-in %s: there is no family %q; there is %v", m.Name, m.Family, Families)
		}
		d, err := newDunlin(b, m)
		if err != nil {
			return nil, err
		}
		b.modules = append(b.modules, d)
		b.lines[m.Name] = m.Line
	}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	b.wait.Go(func() {
		b.clock.run(b.ctx)
	})
	return b, nil
}

// Attach joins the stand-in of a name to the module's side of a connection.
// Both live until the connection ends or the bench is closed, whichever comes
// first; the caller closes the connection.
func (b *Bench) Attach(name string, conn io.ReadWriter) error {
	b.clock.running.Lock()
	defer b.clock.running.Unlock()
	for _, d := range b.modules {
		if d.name == name {
			w := newWire(b.lines[name], conn, b.clock, d.heard)
			d.wire = w
			// Both end with the connection: there is nobody to tell why.
			b.wait.Go(func() { _ = w.talk(b.ctx) })
			go func() { _ = w.listen() }()
			return nil
		}
	}
	return fmt.Errorf("there is no stand-in %q on this bench", name)
}

// Close stops the stand-ins. Connections that were attached are to be closed by
// their owner.
func (b *Bench) Close() {
	b.cancel()
	b.wait.Wait()
}

// broadcast takes a message from a radio to all that may hear it: the same
// group and channel, and the address meant, 0 meaning everyone.
func (b *Bench) broadcast(at time.Time, from *dunlin, address int, text string) {
	for _, to := range b.modules {
		if to == from || to.wire == nil ||
			to.settings["GROUP"] != from.settings["GROUP"] || to.settings["CHANNEL"] != from.settings["CHANNEL"] ||
			address != 0 && to.number("NODE") != address {
			continue
		}
		key := [2]string{from.name, to.name}
		p := b.paths[key]
		if p == nil {
			p = newPath(b.air, from.name, to.name)
			b.paths[key] = p
		}
		m := &message{from: from.number("NODE"), payload: []byte(text)}
		b.carry(at, p, to, m, math.Abs(to.place-from.place), from.number("POWER"))
	}
}

// changed notes that the truth has changed.
func (b *Bench) changed() {
	select {
	case b.news <- struct{}{}:
	default: // noted already
	}
}

// Truth is what the air has done so far, a direction each, by name.
func (b *Bench) Truth() []Truth {
	b.clock.running.Lock()
	defer b.clock.running.Unlock()
	all := []Truth{}
	for _, p := range b.paths {
		all = append(all, p.sum())
	}
	sort.Slice(all, func(i, j int) bool {
		if all[i].From != all[j].From {
			return all[i].From < all[j].From
		}
		return all[i].To < all[j].To
	})
	return all
}
