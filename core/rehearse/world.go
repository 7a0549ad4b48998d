// Package rehearse performs a procedure on modules that there are not, in time that is made up:
// on good ones as they may come, which it must spare, and on bad ones, which it must catch.
package rehearse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
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
	Boards   []Board                   // that switch the power of modules, and are no ports of the procedure
	Air      bench.Air
	Operator perform.Operator // nil if nobody answers
	Seed     uint64
	// Do does something else at the ports than to perform the procedure, which then tells of the
	// ports alone; nil performs it.
	Do func(ctx context.Context, stations map[string]*bench.Station, events *record.Stream) perform.Result

	mask secret.Mask // of the secrets
}

// Board switches the power of modules.
type Board struct {
	Name    string // among the modules
	Station *bench.Station
}

// scene is one performance: what is otherwise than on good modules that do their best.
type scene struct {
	tampers map[string]func(*log) tamper // by port
	style   map[string]style
	before  map[string][]byte // comes from a module before anything is said
	air     *bench.Air        // nil is air that loses nothing
	seed    uint64
	hands   func(b *sim.Bench) perform.Operator
	uses    func(ctx context.Context, names []string) (release func(), err error)
	quick   bool // the settings are not looked at in the end
}

// outcome is what came of a performance.
type outcome struct {
	res    perform.Result
	log    []entry
	limits []limitSeen
	state  map[string]string // settings as they are in the end, by port and name
	took   time.Duration     // in made-up time
	tries  map[string]int    // by step, that failed
	heard  []entry           // lines that the procedure has waited for
}

// limitSeen is a measurement, and how far the log was when it was judged.
type limitSeen struct {
	record.Measurement
	at int
}

// longest is how long a performance may go on in made-up time.
const longest = 2 * time.Hour

// perform performs the procedure once.
func (p *Play) perform(ctx context.Context, s scene) (o outcome, err error) {
	if ctx.Err() != nil {
		return o, context.Cause(ctx)
	}
	fault := inMadeUpTime(func() { o, err = p.inBubble(s) })
	return o, errors.Join(err, fault)
}

func (p *Play) inBubble(s scene) (o outcome, err error) {
	own, cancel := context.WithCancelCause(context.Background()) // a bubble waits for nothing from outside
	defer cancel(nil)
	timer := time.AfterFunc(longest, func() { cancel(errors.New("it goes on without end")) })
	defer timer.Stop()
	return p.once(own, s, p.Values)
}

// once performs the procedure on modules of their own.
func (p *Play) once(own context.Context, s scene, values map[string]any) (o outcome, err error) {
	sea := &harbour{}
	defer sea.close()
	cfg := sim.Config{Sleep: time.Sleep, Families: families.All, NoNetwork: true, Dial: sea.dial}
	if s.air != nil {
		cfg.Air = *s.air
	}
	cfg.Air.Seed = s.seed
	for _, name := range slices.Sorted(maps.Keys(p.Modules)) {
		m := p.Modules[name]
		m.Name = name
		cfg.Modules = append(cfg.Modules, m)
	}
	b, err := sim.New(cfg)
	if err != nil {
		return o, fmt.Errorf("make the modules: %w", err)
	}
	defer b.Close()
	l := &log{}
	var mu sync.Mutex
	var middles []*middle
	stations := map[string]*bench.Station{}
	for name, st := range p.Stations {
		own := *st
		if _, there := p.Modules[name]; !there { // a socket of this machine
			own.Dial = func() (port.Port, error) { return sea.listen(name, own.Address.Where), nil }
			stations[name] = &own
			continue
		}
		own.Address = port.Address{Where: name}
		made := false
		var t tamper
		if make := s.tampers[name]; make != nil {
			t = make(l)
		}
		own.Dial = func() (port.Port, error) {
			host, module := port.Pipe(name, own.Setup.Line())
			m := newMiddle(name, module, own.Setup.Dialect != phrasebook.Bytes, t, s.style[name], l)
			mu.Lock()
			middles = append(middles, m)
			mu.Unlock()
			if !made && len(s.before[name]) > 0 {
				m.give(s.before[name])
			}
			made = true
			_, err := b.Attach(name, m)
			return &signalled{host, m}, err
		}
		own.Supply = supplied(own.Supply, b)
		stations[name] = &own
	}
	o.tries = map[string]int{}
	events := record.NewStream(nil, func(e record.Event) {
		switch {
		case e.Kind == record.Step && e.Verdict == "":
			l.mu.Lock()
			l.all = append(l.all, entry{step: e.Step})
			l.mu.Unlock()
		case e.Kind == record.Heard:
			o.heard = append(o.heard, entry{port: e.Port, text: []byte(e.Text)})
		case e.Kind == record.Try:
			o.tries[e.Step]++
		case e.Kind == record.Limit:
			if m, ok := e.Value.(record.Measurement); ok {
				l.mu.Lock()
				o.limits = append(o.limits, limitSeen{m, len(l.all)})
				l.mu.Unlock()
			}
		}
	})
	operator := p.Operator
	if s.hands != nil {
		operator = s.hands(b)
	}
	began := time.Now()
	run := &perform.Run{Procedure: p.File, Stations: stations, Values: maps.Clone(values), Unit: p.Unit, Events: events, Operator: operator, Sleep: time.Sleep, NoNetwork: true, Uses: s.uses,
		Keep: func(name string, _ []byte) (string, error) { return name, nil }}
	if p.Do != nil {
		o.res = p.Do(own, stations, events)
	} else {
		o.res = run.Do(own)
	}
	o.took = time.Since(began)
	l.mu.Lock()
	o.log = slices.Clone(l.all)
	l.mu.Unlock()
	if !s.quick {
		o.state = p.state(own, b)
	}
	for _, m := range middles {
		m.close()
		_ = m.host.Close()
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
		st := p.Stations[name]
		if st.Phrasebook == nil {
			continue
		}
		var middles []*middle
		var steps strings.Builder
		names := []string{}
		enter := st.Phrasebook.Round.Statements("enter", "module")
		leave := st.Phrasebook.Round.Statements("leave", "module")
		for _, set := range st.Phrasebook.Settings {
			if way := set.Way(); way.Readable() && !set.Secret {
				fmt.Fprintf(&steps, "step %q\n%s\nend\n", set.Name, strings.Join(slices.Concat(enter, way.Statements(st.Setup.Dialect, "module", fmt.Sprintf("v%d", len(names))), leave), "\n"))
				names = append(names, set.Name)
			}
		}
		if len(names) == 0 {
			continue
		}
		file, err := procedure.ParseWith("", "procedure \"state\"\nkeep going\nport module\n"+steps.String(), map[string]*phrasebook.Phrasebook{"module": st.Phrasebook})
		if err != nil {
			continue // check tells of it
		}
		own := *st
		own.Supply = nil
		own.Dial = func() (port.Port, error) {
			host, module := port.Pipe(name, own.Setup.Line())
			m := newMiddle(name, struct{ io.ReadWriteCloser }{module}, false, nil, style{}, &log{}) // whatever its speed is by now
			middles = append(middles, m)
			_, err := b.Attach(name, m)
			return &signalled{host, m}, err
		}
		step := ""
		events := record.NewStream(nil, func(e record.Event) {
			if e.Kind == record.Step && e.Verdict == "" {
				step = e.Step
			}
			if end, ok := e.Value.(record.StepEnd); ok && e.Verdict == verdict.Passed {
				for v, given := range end.Values {
					is, err := given.Value()
					if i := slices.Index(names, step); err == nil && i >= 0 && v == fmt.Sprintf("v%d", i) {
						all[name+": "+step] = procedure.Text(is)
					}
				}
			}
		})
		run := &perform.Run{Procedure: file, Stations: map[string]*bench.Station{"module": &own}, Values: map[string]any{}, Events: events, Sleep: time.Sleep, Part: true}
		run.Do(ctx)
		for _, m := range middles {
			m.close()
			_ = m.host.Close()
		}
	}
	return all
}
