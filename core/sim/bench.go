// Package standin is simulated modules on a simulated bench, with the air
// between them.
//
// A stand-in behaves as the hardware would: its bytes take their time on the
// line, it refuses what the hardware refuses, and what the air does to its
// messages is drawn from a seed. The bench keeps the truth of what the air did,
// so that a measurement can be held against it.
package sim

import (
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"sort"
	"strings"
	"sync"
	"time"

	"uparrot/core/pace"
	"uparrot/core/phrasebook"
	"uparrot/core/record/conversation"
	"uparrot/core/uart"
)

// Module describes one stand-in.
type Module struct {
	Name     string
	Family   string                 // one of Families; "" makes one of Book or Again
	Book     *phrasebook.Phrasebook // for a module without a family of its own
	Again    *conversation.Port     // for one that answers as in a record
	Line     uart.Line
	Place    float64           // metres along the cableway, for strength by distance
	Settings map[string]string // what differs from the delivered settings, by the module's own names
}

// behaviour is what makes a module of a family. All of it runs in the clock.
type behaviour interface {
	// heard takes in bytes from the host.
	heard(at time.Time, b []byte)
	// power is told when the supply comes (with all that follows a start) or
	// goes.
	power(at time.Time, on bool)
}

// signalled is a behaviour that follows the host's signal lines.
type signalled interface {
	signals(at time.Time, dtr, rts bool)
}

// handy is a behaviour that a hand can do something to.
type handy interface {
	// hand does what the words say, or says what can be done.
	hand(at time.Time, words []string) error
}

// families make the behaviour of a module, by family.
var families = map[string]func(*Bench, *unit) (behaviour, error){
	"dunlin":   newDunlin,
	"curlew":   newCurlew,
	"redshank": newRedshank,

	"bittern":   newBittern,
	"brambling": newBrambling,
	"fieldfare": newFieldfare,
	"plover":    newPlover,
	"siskin":    newSiskin,
	"twite":     newTwite,
}

// Families are the module families that stand-ins exist for.
func Families() []string {
	var names []string
	for n := range families {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// unit is one stand-in: its behaviour and the line it hangs on.
type unit struct {
	Module
	behaviour
	wire   *wire
	powers int // counts supplies coming and going, so that what an earlier one planned is dropped
	on     bool
}

// later plans something for as long as the supply stays as it is.
func (b *Bench) later(u *unit, at time.Time, do func(at time.Time)) {
	powers := u.powers
	b.clock.plan(at, func(at time.Time) {
		if u.powers == powers {
			do(at)
		}
	})
}

// say puts text on a module's line.
func (u *unit) say(at time.Time, text string) { u.wire.send(at, []byte(text)) }

// answer sends lines with the header and trailer of V.250.
func (u *unit) answer(at time.Time, lines ...string) {
	var b strings.Builder
	for _, l := range lines {
		b.WriteString("\r\n" + l + "\r\n")
	}
	u.say(at, b.String())
}

// Config describes a bench of stand-ins.
type Config struct {
	Air     Air
	Modules []Module
	Nap     pace.Nap // nil means pace.Precise

	// Strange is told what was said to a module made of a record that the record
	// does not know; it may be nil.
	Strange func(module, said string)
}

// Bench is stand-ins at work.
type Bench struct {
	air     Air
	clock   *clock
	noise   *rand.Rand // belongs to the clock
	units   []*unit
	radios  []radio
	siskins []*siskin
	closers []io.Closer // connections of modules into the network; belong to the clock
	cancel  context.CancelFunc
	ctx     context.Context
	wait    sync.WaitGroup

	paths map[[2]string]*path // by sender and receiver; belongs to the clock
	news  chan struct{}       // the truth has changed

	strange func(module, said string)
}

// New makes a bench and starts its clock. The stand-ins have power; they are
// silent until they are attached.
func New(cfg Config) (*Bench, error) {
	if cfg.Nap == nil {
		cfg.Nap = pace.Precise
	}
	b := &Bench{
		air:   cfg.Air,
		clock: newClock(cfg.Nap),
		noise: rand.New(rand.NewPCG(cfg.Air.Seed, 1)),
		paths: map[[2]string]*path{},
		news:  make(chan struct{}, 1),

		strange: cfg.Strange,
	}
	for _, m := range cfg.Modules {
		make, ok := families[m.Family]
		if m.Family == "" && m.Book != nil {
			make, ok = newSpoken, true
		}
		if m.Again != nil {
			make, ok = newAgain, true
		}
		if !ok {
			return nil, fmt.Errorf("stand-in %s: there is no family %q; there are %s", m.Name, m.Family, strings.Join(Families(), ", "))
		}
		u := &unit{Module: m, on: true}
		u.wire = newWire(u, b.clock)
		var err error
		if u.behaviour, err = make(b, u); err != nil {
			return nil, fmt.Errorf("stand-in %s: %w", m.Name, err)
		}
		b.units = append(b.units, u)
	}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	b.wait.Go(func() { b.clock.run(b.ctx) })
	return b, nil
}

func (b *Bench) find(name string) (*unit, error) {
	var names []string
	for _, u := range b.units {
		if u.Name == name {
			return u, nil
		}
		names = append(names, u.Name)
	}
	return nil, fmt.Errorf("there is no stand-in %q on this bench; there are %s", name, strings.Join(names, ", "))
}

// Attach joins the stand-in of a name to the module's side of a connection.
// Both live until the connection ends, when the returned channel is closed, or
// the bench is closed; the caller closes the connection. Then another may be
// attached.
func (b *Bench) Attach(name string, conn io.ReadWriter) (ended <-chan struct{}, err error) {
	u, err := b.find(name)
	if err != nil {
		return nil, err
	}
	u.wire.attach(conn)
	ctx, cancel := context.WithCancel(b.ctx)
	over := make(chan struct{})
	// Both end with the connection: there is nobody to tell why.
	b.wait.Go(func() {
		_ = u.wire.talk(ctx)
		close(over)
	})
	go func() {
		_ = u.wire.listen()
		cancel()
	}()
	return over, nil
}

// Close stops the stand-ins. Connections that were attached are to be closed by
// their owner.
func (b *Bench) Close() {
	b.cancel()
	b.wait.Wait()
	for _, c := range b.closers {
		c.Close() // many are closed already
	}
}

// Hand does to a stand-in what a person's hand would, such as pulling a lever.
func (b *Bench) Hand(name string, words []string) error {
	u, err := b.find(name)
	if err != nil {
		return err
	}
	h, ok := u.behaviour.(handy)
	if !ok {
		return fmt.Errorf("there is nothing on %s, a %s, that a hand could do", name, u.Family)
	}
	done := make(chan error, 1)
	b.clock.plan(time.Now(), func(at time.Time) { done <- h.hand(at, words) })
	select {
	case err := <-done:
		return err
	case <-b.ctx.Done():
		return context.Cause(b.ctx)
	}
}

// Power gives a stand-in power or takes it away.
func (b *Bench) Power(name string, on bool) error {
	u, err := b.find(name)
	if err != nil {
		return err
	}
	b.clock.plan(time.Now(), func(at time.Time) {
		if u.on == on {
			return
		}
		u.on = on
		u.powers++
		u.power(at, on)
		u.wire.showSignals(on)
	})
	return nil
}

// Join says how a stand-in is wired to the host.
func (b *Bench) Join(name string, w Wiring) error {
	u, err := b.find(name)
	if err != nil {
		return err
	}
	u.wire.setWiring(w)
	b.clock.plan(time.Now(), func(time.Time) { u.wire.showSignals(u.on) })
	return nil
}

// radio is a behaviour that sends through the air and hears what comes there.
type radio interface {
	// self is the module.
	self() *unit
	// own is the address by which others know it, "" if it has none.
	own() string
	// strength of what it sends, in dBm.
	strength() int
	// hears reports whether it takes what another sends to an address.
	hears(from radio, to string) bool
	// receive takes in a message.
	receive(at time.Time, m *message)
}

func (u *unit) self() *unit { return u }

// broadcast takes a message from a radio to all that hear it.
func (b *Bench) broadcast(at time.Time, from radio, address, text string) {
	b.send(at, from, address, text, false)
}

// send is broadcast, with a long preamble or without.
func (b *Bench) send(at time.Time, from radio, address, text string, long bool) {
	for _, to := range b.radios {
		if to == from || !to.hears(from, address) {
			continue
		}
		a, z := from.self(), to.self()
		key := [2]string{a.Name, z.Name}
		p := b.paths[key]
		if p == nil {
			p = newPath(b.air, a.Name, z.Name)
			b.paths[key] = p
		}
		m := &message{from: from.own(), payload: []byte(text), long: long}
		b.carry(at, p, to, m, math.Abs(z.Place-a.Place), from.strength())
	}
}

// bootNoise is what the boot loader of a module sends, at a speed of its own.
func (b *Bench) bootNoise(n int) string {
	noise := make([]byte, n)
	for i := range noise {
		noise[i] = byte(b.noise.IntN(256))
	}
	noise[n/3] = 0
	return string(noise)
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
