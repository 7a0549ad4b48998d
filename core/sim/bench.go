// Package sim is simulated modules on a simulated bench, with the air
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
	"net"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"uparrot/core/bench"

	"uparrot/core/pace"
	"uparrot/core/uart"
)

// Behaviour is what makes a module of a family. All of it runs in the bench's
// clock, one thing after the other, so it needs no locks.
type Behaviour interface {
	// Heard takes in bytes from the host.
	Heard(at time.Time, b []byte)
	// Power is told when the supply comes (with all that follows a start) or
	// goes.
	Power(at time.Time, on bool)
}

// Signalled is a behaviour that follows the host's signal lines.
type Signalled interface {
	Signals(at time.Time, dtr, rts bool)
}

// ByHand is a behaviour that a hand can do something to.
type ByHand interface {
	// Hand does what the words say, or says what can be done.
	Hand(at time.Time, words []string) error
}

// Maker makes the behaviour of a module of one family.
type Maker func(*Bench, *Unit) (Behaviour, error)

// Families are makers by the name of the family. Those without a name of their own
// are made of a phrasebook ([OfPhrasebook]) or of a record ([OfRecord]).
type Families map[string]Maker

// What a module without a family is made by.
const (
	OfPhrasebook = "a phrasebook"
	OfRecord     = "a record"
)

// Names are the families' names, in order.
func (f Families) Names() []string {
	var names []string
	for n := range f {
		if n != OfPhrasebook && n != OfRecord {
			names = append(names, n)
		}
	}
	sort.Strings(names)
	return names
}

// Unit is one stand-in: its behaviour and the line it hangs on.
type Unit struct {
	bench.Standin
	Behaviour
	wire   *wire
	swaps  int // counts the modules that were put in its place
	powers int // counts supplies coming and going, so that what an earlier one planned is dropped
	on     bool
}

// Which is what a serial number is made of: another one for each module at this place.
func (u *Unit) Which() string {
	if u.swaps == 0 {
		return u.Name
	}
	return fmt.Sprintf("%s %d", u.Name, u.swaps+1)
}

// On reports whether the module has power.
func (u *Unit) On() bool { return u.on }

// Powers counts the supplies that have come and gone.
func (u *Unit) Powers() int { return u.powers }

// Send puts bytes on the module's line, from a time on or when the line is free.
func (u *Unit) Send(at time.Time, b []byte) { u.wire.send(at, b) }

// SendAs is Send at another speed or frame than the module's own.
func (u *Unit) SendAs(at time.Time, b []byte, l uart.Line) { u.wire.queue(at, b, l, false) }

// Say puts text on the module's line.
func (u *Unit) Say(at time.Time, text string) { u.Send(at, []byte(text)) }

// Answer sends lines with the header and trailer of V.250.
func (u *Unit) Answer(at time.Time, lines ...string) {
	var b strings.Builder
	for _, l := range lines {
		b.WriteString("\r\n" + l + "\r\n")
	}
	u.Say(at, b.String())
}

// CurrentLine is the module's own speed and frame, which SetLine changes.
func (u *Unit) CurrentLine() uart.Line { return u.wire.Line() }

// SetLine changes the module's own speed and frame.
func (u *Unit) SetLine(l uart.Line) { u.wire.setLine(l) }

// Plan has something done at a time; one that has passed means as soon as can be.
func (b *Bench) Plan(at time.Time, do func(at time.Time)) { b.clock.plan(at, do) }

// Later plans something for as long as a module's supply stays as it is.
func (b *Bench) Later(u *Unit, at time.Time, do func(at time.Time)) {
	powers := u.powers
	b.Plan(at, func(at time.Time) {
		if u.powers == powers {
			do(at)
		}
	})
}

// Config describes a bench of stand-ins.
type Config struct {
	Air      bench.Air
	Modules  []bench.Standin
	Families Families   // that there are
	Sleep    pace.Sleep // nil means pace.Precise

	// NoNetwork has modules that are in the network not listen there.
	NoNetwork bool
	// Dial is how modules get to others in the network; nil is net.DialTimeout.
	Dial func(network, address string, within time.Duration) (net.Conn, error)

	// Strange is told what was said to a module made of a record that the record
	// does not know; it may be nil.
	Strange func(module, said string)
}

// Bench is stand-ins at work.
type Bench struct {
	air     bench.Air
	clock   *clock
	Noise   *rand.Rand // what a module's behaviour draws from; belongs to the clock
	units   []*Unit
	radios  []Radio
	closers []io.Closer // connections of modules into the network; belong to the clock
	cancel  context.CancelFunc
	ctx     context.Context
	wait    sync.WaitGroup

	paths map[[2]string]*path // by sender and receiver; belongs to the clock
	news  chan struct{}       // the truth has changed

	strange func(module, said string)
	modules []bench.Standin

	NoNetwork bool // modules do not listen in the network
	Dial      func(network, address string, within time.Duration) (net.Conn, error)
	make      func(bench.Standin) Maker
}

// kind is the family of a stand-in, also of one that is made of a record or a phrasebook.
func kind(m bench.Standin) string {
	switch {
	case m.Again != nil:
		return OfRecord
	case m.Family == "" && m.Book != nil:
		return OfPhrasebook
	}
	return m.Family
}

// AddRadio has a behaviour hear what is sent through the air.
func (b *Bench) AddRadio(r Radio) { b.radios = append(b.radios, r) }

// CloseLater closes a connection into the network when the bench is closed.
func (b *Bench) CloseLater(c io.Closer) { b.closers = append(b.closers, c) }

// Behaviours are those of all modules.
func (b *Bench) Behaviours() []Behaviour {
	var all []Behaviour
	for _, u := range b.units {
		all = append(all, u.Behaviour)
	}
	return all
}

// Strange tells of something said to a module that it does not know from its
// record.
func (b *Bench) Strange(module, said string) {
	if b.strange != nil {
		b.strange(module, said)
	}
}

// New makes a bench and starts its clock. The stand-ins have power; they are
// silent until they are attached.
func New(cfg Config) (*Bench, error) {
	if cfg.Sleep == nil {
		cfg.Sleep = pace.Precise
	}
	if cfg.Dial == nil {
		cfg.Dial = net.DialTimeout
	}
	b := &Bench{
		air:   cfg.Air,
		clock: newClock(cfg.Sleep),
		Noise: rand.New(rand.NewPCG(cfg.Air.Seed, 1)),
		paths: map[[2]string]*path{},
		news:  make(chan struct{}, 1),

		strange: cfg.Strange,
		modules: cfg.Modules,

		NoNetwork: cfg.NoNetwork,
		Dial:      cfg.Dial,
		make:      func(m bench.Standin) Maker { return cfg.Families[kind(m)] },
	}
	for _, m := range cfg.Modules {
		family := kind(m)
		make, ok := cfg.Families[family]
		if !ok {
			return nil, fmt.Errorf("stand-in %s: there is no family %q; there are %s", m.Name, m.Family, strings.Join(cfg.Families.Names(), ", "))
		}
		u := &Unit{Standin: m, on: true}
		u.wire = newWire(u, b.clock)
		var err error
		if u.Behaviour, err = make(b, u); err != nil {
			return nil, fmt.Errorf("stand-in %s: %w", m.Name, err)
		}
		b.units = append(b.units, u)
	}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	b.wait.Go(func() { b.clock.run(b.ctx) })
	return b, nil
}

func (b *Bench) find(name string) (*Unit, error) {
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
	h, ok := u.Behaviour.(ByHand)
	if !ok {
		return fmt.Errorf("there is nothing on %s, a %s, that a hand could do", name, u.Family)
	}
	done := make(chan error, 1)
	b.clock.plan(time.Now(), func(at time.Time) { done <- h.Hand(at, words) })
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
		u.Power(at, on)
		u.wire.showSignals(on)
	})
	return nil
}

// Swap puts another module of its family in the place of a stand-in, as a hand does: with settings
// of its own over those that are delivered. It starts as one does that gets power.
func (b *Bench) Swap(name string, settings map[string]string) error {
	u, err := b.find(name)
	if err != nil {
		return err
	}
	over := make(chan error, 1)
	b.clock.plan(time.Now(), func(at time.Time) {
		if u.on {
			u.on = false
			u.powers++
			u.Power(at, false)
		}
		old, radios := *u, slices.Clone(b.radios)
		b.radios = slices.DeleteFunc(b.radios, func(r Radio) bool { return r.Self() == u })
		u.Standin.Settings = settings
		u.swaps++
		behaviour, err := b.make(u.Standin)(b, u)
		if err != nil { // the one before is there still
			u.Standin, b.radios = old.Standin, radios
			behaviour = old.Behaviour
		}
		u.Behaviour, u.on = behaviour, true
		u.powers++
		u.Power(at, true)
		u.wire.showSignals(true)
		over <- err
	})
	select {
	case err = <-over:
	case <-b.ctx.Done():
		err = b.ctx.Err()
	}
	if err != nil {
		err = fmt.Errorf("put another module at %s: %w", name, err)
	}
	return err
}

// Feeds reports whether a switch of a stand-in gives power to another.
func (b *Bench) Feeds(u *Unit, name string) bool {
	return slices.ContainsFunc(b.modules, func(m bench.Standin) bool { return m.Fed != nil && m.Fed.By == u.Name && m.Fed.Switch == name })
}

// Switched tells that a stand-in has switched something: what it gives power to has that, or not.
func (b *Bench) Switched(u *Unit, name string, on bool) {
	for _, m := range b.modules {
		if m.Fed != nil && m.Fed.By == u.Name && m.Fed.Switch == name {
			_ = b.Power(m.Name, on) // it is on the bench
		}
	}
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

// Radio is a behaviour that sends through the air and hears what comes there.
type Radio interface {
	// Self is the module.
	Self() *Unit
	// Own is the address by which others know it, "" if it has none.
	Own() string
	// Strength of what it sends, in dBm.
	Strength() int
	// Hears reports whether it takes what another sends to an address.
	Hears(from Radio, to string) bool
	// Receive takes in a message.
	Receive(at time.Time, m *Message)
}

func (u *Unit) Self() *Unit { return u }

// Broadcast takes a message from a radio to all that hear it.
func (b *Bench) Broadcast(at time.Time, from Radio, address, text string) {
	b.Transmit(at, from, address, text, 0)
}

// Transmit is Broadcast with a preamble, for those who sleep meanwhile.
func (b *Bench) Transmit(at time.Time, from Radio, address, text string, preamble time.Duration) {
	for _, to := range b.radios {
		if to == from || !to.Hears(from, address) {
			continue
		}
		a, z := from.Self(), to.Self()
		key := [2]string{a.Name, z.Name}
		p := b.paths[key]
		if p == nil {
			p = newPath(b.air, a.Name, z.Name)
			b.paths[key] = p
		}
		m := &Message{From: from.Own(), Payload: []byte(text), Preamble: preamble}
		b.carry(at, p, to, m, math.Abs(z.Place-a.Place), from.Strength())
	}
}

// BootNoise is what the boot loader of a module sends, at a speed of its own.
func (b *Bench) BootNoise(n int) string {
	noise := make([]byte, n)
	for i := range noise {
		noise[i] = byte(b.Noise.IntN(256))
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
