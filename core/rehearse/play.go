// Package rehearse performs a procedure on simulated modules, in simulated time: on normal
// variations of good ones, which it must accept, and on bad ones, which it must catch.
package rehearse

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"runtime/metrics"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/secret"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/verdict"
)

// Play is a procedure to be rehearsed.
type Play struct {
	File     *procedure.File
	Values   map[string]any
	Unit     string
	Stations map[string]*bench.Station // by the procedure's ports: how each is spoken to
	Modules  map[string]bench.Standin  // ... and what is there; also of boards, by their names
	Air      bench.Air
	Operator perform.Operator // nil if nobody answers
	Seed     uint64
	For      time.Duration // how long a rehearsal may take in all, in real time; 0 is ten minutes
	Most     int           // statements of one performance; 0 is two million
	// Do does something else at the ports than to perform the procedure, which then tells of the
	// ports alone; nil performs it.
	Do func(ctx context.Context, stations map[string]*bench.Station, events *record.Stream) perform.Result

	mask secret.Mask // of the secrets
}

// trial is one performance: what is otherwise than on good modules that do their best.
type trial struct {
	tampers map[string]func(*log) tamper // by port
	style   map[string]style
	modules map[string]bench.Standin // that are there in the place of others
	before  map[string][]byte        // comes from a module before anything is said
	air     *bench.Air               // nil is air that loses nothing
	seed    uint64
	uses    func(ctx context.Context, names []string) (release func(), err error)
	// overhears is told of each line that is said, and answers with what the host of which port gets
	// of it; nil hears nothing.
	overhears func(port string, line []byte) (to string, text []byte)
	reach     func(what string, within time.Duration) (time.Duration, error) // nil answers at once
	halt      func() error                                                   // whether it is to end
	quick     bool                                                           // the settings are not looked at in the end
}

// outcome is what came of a performance.
type outcome struct {
	res    perform.Result
	log    []entry
	limits []limitSeen
	state  map[string]string // settings as they are in the end, by port and name
	took   time.Duration     // in simulated time
	tries  map[string]int    // by step, that failed
	heard  []entry           // lines that the procedure has waited for
}

// limitSeen is a measurement, and how far the log was when it was judged.
type limitSeen struct {
	record.Measurement
	at int
}

// longest is how long a performance may go on in simulated time.
const longest = 2 * time.Hour

// Cut is a rehearsal that was ended since it went beyond a bound: nothing is known of what was not over then.
type Cut struct{ Why string }

func (e *Cut) Error() string { return "the rehearsal was cut: " + e.Why }

// The bounds of one performance, in real time, statements and bytes, and of a rehearsal in all where none is said.
const (
	longestReal    = 30 * time.Second
	mostStatements = 2_000_000
	mostMemory     = 256 << 20
	longestAll     = 10 * time.Minute
)

// perform performs the procedure once; a *[Cut] where it goes beyond a bound.
func (p *Play) perform(ctx context.Context, s trial) (o outcome, err error) {
	cut := bounded(ctx, "one performance", longestReal, cmp.Or(p.Most, mostStatements), func(halt func() error) {
		s.halt = halt
		o, err = p.inBubble(s)
	})
	if cut != nil {
		err = cut
	}
	return o, err
}

// bounded does something in time that is made up, which asks halt before each statement whether it is to end. It
// returns why it had to: a *[Cut], the cause of a context that is done, or a fault of the program.
func bounded(ctx context.Context, what string, within time.Duration, statements int, do func(halt func() error)) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var halted atomic.Pointer[error] // set from outside of the made-up time, and looked at within
	halt := func(why error) { halted.CompareAndSwap(nil, &why) }
	defer context.AfterFunc(ctx, func() { halt(context.Cause(ctx)) })()
	timer := time.AfterFunc(within, func() {
		halt(&Cut{fmt.Sprintf("%s goes on without end, and is not over after %v", what, within)})
	})
	defer timer.Stop()
	defer watchMemory(what, halt)()
	var done atomic.Int64
	fault := inMadeUpTime(func() {
		do(func() error {
			if done.Add(1) > int64(statements) {
				halt(&Cut{fmt.Sprintf("%s goes on without end, and is not over after %d statements", what, statements)})
			}
			if why := halted.Load(); why != nil {
				return *why
			}
			return nil
		})
	})
	if why := halted.Load(); why != nil && fault == nil {
		return *why
	}
	return fault
}

// watchMemory halts what takes too much memory, until it is stopped.
func watchMemory(what string, halt func(error)) (stop func()) {
	before := inUse()
	var timer *time.Timer
	var mu sync.Mutex
	mu.Lock()
	defer mu.Unlock()
	timer = time.AfterFunc(100*time.Millisecond, func() { // most are over before
		mu.Lock()
		defer mu.Unlock()
		if inUse() > before+mostMemory {
			halt(&Cut{fmt.Sprintf("%s takes more than %d MB of memory", what, mostMemory>>20)})
			return
		}
		timer.Reset(100 * time.Millisecond)
	})
	return func() {
		mu.Lock()
		defer mu.Unlock()
		timer.Stop()
	}
}

// inUse are the bytes of memory that hold something.
func inUse() uint64 {
	s := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(s)
	return s[0].Value.Uint64()
}

func (p *Play) inBubble(s trial) (o outcome, err error) {
	own, cancel := context.WithCancelCause(context.Background()) // a bubble waits for nothing from outside
	defer cancel(nil)
	timer := time.AfterFunc(longest, func() { cancel(errors.New("it goes on without end")) })
	defer timer.Stop()
	return p.once(own, s, p.Values)
}

// reached is what is asked of the network, which there is not.
func (s trial) reached(what string, within time.Duration) (time.Duration, error) {
	if s.reach != nil {
		return s.reach(what, within)
	}
	return time.Millisecond, nil
}

// setup is the modules of one performance, and what goes over their lines.
type setup struct {
	*Play
	trial
	network *localNet
	bench   *sim.Bench
	log     *log
	mu      sync.Mutex
	middles []*middle
	ends    []func() // of their connections
}

// setup makes the modules.
func (p *Play) stage(s trial) (*setup, error) {
	st := &setup{Play: p, trial: s, network: &localNet{}, log: &log{}}
	cfg := sim.Config{Sleep: time.Sleep, Families: families.All, NoNetwork: true, Dial: st.network.dial}
	if s.air != nil {
		cfg.Air = *s.air
	}
	cfg.Air.Seed = s.seed
	for _, name := range slices.Sorted(maps.Keys(p.Modules)) {
		m := p.Modules[name]
		if other, is := s.modules[name]; is {
			m = other
		}
		m.Name = name
		cfg.Modules = append(cfg.Modules, m)
	}
	var err error
	if st.bench, err = sim.New(cfg); err != nil {
		return nil, fmt.Errorf("make the modules: %w", err)
	}
	return st, nil
}

// stations are the ports of the procedure, each with its module behind what stands between them.
func (st *setup) stations() map[string]*bench.Station {
	all := map[string]*bench.Station{}
	for name, station := range st.Stations {
		own := *station
		if _, there := st.Modules[name]; there {
			own.Address = port.Address{Where: name}
			own.Dial = st.dial(name, &own)
			own.Supply = supplied(own.Supply, st.bench)
		} else { // a socket of this machine
			own.Dial = func() (port.Port, error) { return st.network.listen(name, own.Address.Where), nil }
		}
		all[name] = &own
	}
	return all
}

// dial opens the port of a module. What is wrong with the module stays from one opening to the next.
func (st *setup) dial(name string, own *bench.Station) func() (port.Port, error) {
	var t tamper
	if make := st.tampers[name]; make != nil {
		t = make(st.log)
	}
	opened := false
	var before func() // ends the connection before: a module has one at a time
	return func() (port.Port, error) {
		if before != nil {
			before()
		}
		host, module := port.Pipe(name, own.Setup.Line())
		m := newMiddle(name, module, own.Setup.Dialect != phrasebook.Bytes, t, st.style[name], st.log)
		st.mu.Lock()
		st.middles = append(st.middles, m)
		st.mu.Unlock()
		m.told, m.gap = st.toldOf, silence(own.Setup)
		if !opened && len(st.before[name]) > 0 {
			m.give(st.before[name])
		}
		opened = true
		ended, err := st.bench.Attach(name, m)
		before = func() { m.end(ended) }
		st.mu.Lock()
		st.ends = append(st.ends, before)
		st.mu.Unlock()
		return &signalled{host, m}, err
	}
}

// silence is what ends a packet at a port: the time of four bytes at least.
func silence(s phrasebook.Setup) time.Duration {
	return max(s.Gap.Beside(0), 4*s.Line().CharTime())
}

// toldOf passes on what a module overhears of what is said at another port.
func (st *setup) toldOf(port string, line []byte) {
	if st.trial.overhears == nil {
		return
	}
	to, text := st.trial.overhears(port, line)
	st.mu.Lock()
	defer st.mu.Unlock()
	for _, m := range st.middles {
		if m.port == to && text != nil {
			time.AfterFunc(overheardAfter, func() { m.give(text) })
		}
	}
}

// overheardAfter is how long a message takes through the air.
const overheardAfter = 60 * time.Millisecond

// watched is a stream that keeps what an outcome tells.
func (st *setup) watched(o *outcome) *record.Stream {
	return record.NewStream(nil, func(e record.Event) {
		if e.Kind == record.Limit {
			st.settle() // what is judged has come
		}
		st.log.mu.Lock()
		defer st.log.mu.Unlock()
		switch {
		case e.Kind == record.Step && e.Verdict == "":
			st.log.all = append(st.log.all, entry{step: e.Step})
		case e.Kind == record.Heard:
			o.heard = append(o.heard, entry{port: e.Port, text: []byte(e.Text)})
		case e.Kind == record.Try:
			o.tries[e.Step]++
		case e.Kind == record.Limit:
			if m, ok := e.Value.(record.Measurement); ok {
				o.limits = append(o.limits, limitSeen{m, len(st.log.all)})
			}
		}
	})
}

// settle has all that has come be on the log.
func (st *setup) settle() {
	st.mu.Lock()
	defer st.mu.Unlock()
	for _, m := range st.middles {
		m.settle()
	}
}

// hangUp ends all connections.
func (st *setup) hangUp() {
	for _, end := range st.ends {
		end()
	}
}

// close ends the performance: nothing of it goes on.
func (st *setup) close() {
	st.hangUp()
	st.bench.Close()
	st.network.close()
}

// once performs the procedure on modules of their own.
func (p *Play) once(ctx context.Context, s trial, values map[string]any) (o outcome, err error) {
	st, err := p.stage(s)
	if err != nil {
		return o, err
	}
	defer st.close()
	o.tries = map[string]int{}
	stations, events := st.stations(), st.watched(&o)
	began := time.Now()
	if p.Do != nil {
		o.res = p.Do(ctx, stations, events)
	} else {
		run := &perform.Run{Procedure: p.File, Stations: stations, Values: maps.Clone(values), Unit: p.Unit, Events: events, Operator: p.Operator, Sleep: time.Sleep, Reach: s.reached, Uses: s.uses, Halt: s.halt,
			Keep: func(name string, _ []byte) (string, error) { return name, nil }}
		o.res = run.Do(ctx)
	}
	o.took = time.Since(began)
	st.settle()
	st.log.mu.Lock()
	o.log = slices.Clone(st.log.all)
	st.log.mu.Unlock()
	if st.hangUp(); !s.quick {
		o.state = p.state(ctx, st.bench)
	}
	return o, nil
}

// supplied is what switches a module's power, with its board on this bench.
func supplied(s *bench.Supply, b *sim.Bench) *bench.Supply {
	if s == nil {
		return nil
	}
	supply, by := *s, *s.By
	by.Dial = func() (port.Port, error) {
		host, module := port.Pipe(by.Name, by.Setup.Line())
		_, err := b.Attach(by.Address.Where, module)
		return host, err
	}
	supply.By = &by
	turn := make(chan struct{}, 1) // of this bubble
	supply.Lock = func(context.Context) (func(), error) {
		turn <- struct{}{}
		return func() { <-turn }, nil
	}
	return &supply
}

// state are the settings of all modules that a phrasebook can read, honestly.
func (p *Play) state(ctx context.Context, b *sim.Bench) map[string]string {
	all := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(p.Stations)) {
		if st := p.Stations[name]; st.Phrasebook != nil {
			stateOf(ctx, b, name, *st, all)
		}
	}
	return all
}

// stateOf reads the settings of one module.
func stateOf(ctx context.Context, b *sim.Bench, name string, st bench.Station, all map[string]string) {
	var steps strings.Builder
	var names []string
	round := st.Phrasebook.Round
	for _, set := range st.Phrasebook.Settings {
		if way := set.Way(); way.Readable() && !set.Secret {
			fmt.Fprintf(&steps, "step %q\n%s\nend\n", set.Name, strings.Join(slices.Concat(round.Statements("enter", "module"), way.Statements(st.Setup.Dialect, "module", fmt.Sprintf("v%d", len(names))), round.Statements("leave", "module")), "\n"))
			names = append(names, set.Name)
		}
	}
	file, err := procedure.ParseWith("", "procedure \"state\"\nkeep going\nport module\n"+steps.String(), map[string]*phrasebook.Phrasebook{"module": st.Phrasebook})
	if err != nil || len(names) == 0 {
		return // check tells of it
	}
	var ends []func()
	defer func() {
		for _, end := range ends {
			end()
		}
	}()
	st.Supply = nil
	st.Dial = func() (port.Port, error) {
		host, module := port.Pipe(name, st.Setup.Line())
		m := newMiddle(name, struct{ io.ReadWriteCloser }{module}, false, nil, style{}, &log{}) // whatever its speed is by now
		ended, err := b.Attach(name, m)
		ends = append(ends, func() { m.end(ended) })
		return &signalled{host, m}, err
	}
	step := ""
	events := record.NewStream(nil, func(e record.Event) {
		if e.Kind == record.Step && e.Verdict == "" {
			step = e.Step
		}
		end, ok := e.Value.(record.StepEnd)
		if !ok || e.Verdict != verdict.Passed {
			return
		}
		for v, given := range end.Values {
			if is, err := given.Value(); err == nil && v == fmt.Sprintf("v%d", slices.Index(names, step)) {
				all[name+": "+step] = procedure.Text(is)
			}
		}
	})
	run := &perform.Run{Procedure: file, Stations: map[string]*bench.Station{"module": &st}, Values: map[string]any{}, Events: events, Sleep: time.Sleep, Part: true}
	run.Do(ctx)
}
