package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/rehearse"
	"uparrot/core/sim/families"
	"uparrot/core/verdict"
)

// Play is the procedure as it can be rehearsed: at modules that its ports have on the bench, as
// stand-ins or by their phrasebooks. No port is opened.
func (p *Procedure) Play() (*rehearse.Play, error) {
	play := &rehearse.Play{Values: maps.Clone(p.Values), Unit: p.Keep.Unit, Stations: map[string]*bench.Station{}, Modules: map[string]bench.Standin{}, Operator: p.Operator}
	if p.Ports.Bench != nil {
		play.Air = p.Ports.Bench.Air
	}
	at := map[string]string{} // ports of the bench, by their names in the play
	for _, decl := range p.File.Ports {
		where := decl.Name
		if decl.To && p.At[decl.Name] == "" && decl.Phrasebook == nil {
			return nil, &Unable{fmt.Sprintf("the port %s goes to a socket of somebody else, of whom nothing is known: name a phrasebook for it in the procedure, or a port of the bench with --port %s=NAME", decl.Name, decl.Name)}
		}
		if decl.Socket != "" && !decl.To && p.At[decl.Name] == "" {
			st := &bench.Station{Name: decl.Name, Setup: decl.Whole(), Phrasebook: decl.Phrasebook}
			at, err := p.where(context.Background(), decl)
			if err == nil && at != "" {
				st.Address, err = port.ParseAddress(at)
			}
			if err != nil {
				return nil, err
			}
			play.Stations[decl.Name] = st
			continue
		}
		if named, ok := p.At[decl.Name]; ok {
			where = named
		}
		st, module, err := p.Ports.absent(where, decl.Setup, decl.Phrasebook)
		if err != nil {
			return nil, err
		}
		st.Name = decl.Name
		play.Stations[decl.Name], play.Modules[decl.Name] = st, module
		at[where] = decl.Name
	}
	if err := p.boards(play, at); err != nil {
		return nil, err
	}
	if err := p.settle(play.Stations); err != nil {
		return nil, err
	}
	play.File = p.File
	return play, nil
}

// SettingsPlay is settings that are applied to modules, to be rehearsed: would it be noticed that one
// does not take, or does not keep a value?
func SettingsPlay(ports *Ports, names []string, w Wanted) (*rehearse.Play, error) {
	play := &rehearse.Play{File: &procedure.File{Title: "settings apply", Answers: 2 * time.Second}, Values: map[string]any{}, Stations: map[string]*bench.Station{}, Modules: map[string]bench.Standin{}}
	known := &Modules{}
	for _, name := range names {
		st, module, err := ports.absent(name, phrasebook.Setup{}, nil)
		if err != nil {
			return nil, err
		}
		st.Supply = nil
		play.Stations[name], play.Modules[name] = st, module
		play.File.Ports = append(play.File.Ports, &procedure.PortDecl{Name: name, Setup: st.Setup, Phrasebook: st.Phrasebook})
		known.Stations = append(known.Stations, st)
	}
	if err := errors.Join(known.Known(), known.Check(w)); err != nil {
		return nil, err
	}
	play.Do = func(ctx context.Context, stations map[string]*bench.Station, events *record.Stream) perform.Result {
		m := &Modules{Session: &Session{Events: events}}
		for _, name := range names {
			m.Stations = append(m.Stations, stations[name])
		}
		return m.applied(ctx, w)
	}
	return play, nil
}

// applied makes settings so, as a result with a step for each.
func (m *Modules) applied(ctx context.Context, w Wanted) (res perform.Result) {
	found, err := m.Read(ctx, record.AsFound)
	var changes []Change
	if err == nil {
		changes = m.Changes(found, w)
		_, err = m.Write(ctx, changes, true)
	}
	res.Verdict, res.Err = verdict.Passed, err
	if err != nil {
		res.Verdict = verdict.Broken
	}
	for _, c := range changes {
		st := perform.StepResult{Title: c.Module + ": " + c.Name, Verdict: verdict.Passed}
		if !c.Took {
			st.Verdict, st.Why = verdict.Failed, c.WhyNot
		}
		res.Verdict = verdict.Worse(res.Verdict, st.Verdict)
		res.Steps = append(res.Steps, st)
	}
	return res
}

// boards adds those that switch the power of modules.
func (p *Procedure) boards(play *rehearse.Play, at map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(play.Stations)) {
		s := play.Stations[name].Supply
		if s == nil {
			continue
		}
		board := at[s.By.Name]
		if board == "" {
			_, module, err := p.Ports.absent(s.By.Name, phrasebook.Setup{}, nil)
			if err != nil {
				return err
			}
			board = "board " + s.By.Name
			play.Modules[board] = module
			at[s.By.Name] = board
		}
		module := play.Modules[name]
		module.Fed = &bench.Power{Switch: s.Switch, By: board}
		play.Modules[name] = module
		s.By.Address = port.Address{Where: board}
	}
	return nil
}

// Absent is a port that need not be there: how it is spoken to, by the bench and the phrasebook.
func (p *Ports) Absent(name string) (*bench.Station, error) {
	if p.Bench == nil || !p.Named(name) {
		return nil, misuse("the bench has no port %q: name it with --bench, or leave the ports out", name)
	}
	s, _, err := p.absent(name, phrasebook.Setup{}, nil)
	if err == nil {
		e, _ := p.Bench.Port(name)
		s.Address = e.At
	}
	return s, err
}

// absent is a port that need not be there, and the module that stands at it: a stand-in of the
// bench, one of a family that there is, or one made of the phrasebook.
func (p *Ports) absent(name string, own phrasebook.Setup, book *phrasebook.Phrasebook) (*bench.Station, bench.Standin, error) {
	s := &bench.Station{Name: name, Phrasebook: book, Setup: p.Over}
	var module bench.Standin
	if p.Named(name) {
		e, _ := p.Bench.Port(name)
		s.Setup, s.Phrasebook = s.Setup.Or(e.Own), cmp.Or(e.Phrasebook, s.Phrasebook)
		if e.Standin != nil {
			module = *e.Standin
		}
		if e.Power != nil {
			s.Supply = &bench.Supply{Switch: e.Power.Switch, By: &bench.Station{Name: e.Power.By}, Off: e.Power.Off, Lock: p.lock(e.Power.By)}
			if by, ok := p.Bench.Port(e.Power.By); ok {
				s.Supply.By.Phrasebook, s.Supply.By.Setup = by.Phrasebook, by.Setup
			}
		}
	}
	p.complete(s, own)
	if module.Name != "" {
		return s, module, nil
	}
	if s.Phrasebook == nil {
		return nil, module, misuse("nothing is known of the module at the port %s: name a phrasebook in the procedure, with --phrasebook, or a bench", name)
	}
	module = bench.Standin{Name: name, Book: s.Phrasebook, Line: s.Setup.Line()}
	if _, ok := families.All[strings.ToLower(s.Phrasebook.Family)]; ok {
		module.Family = strings.ToLower(s.Phrasebook.Family)
	}
	return s, module, nil
}

// Chosen are values for inputs and secrets that nobody has given: some that fit. They are told.
func (g Inputs) Chosen(file *procedure.File) (values map[string]any, chosen []string, err error) {
	given, err := g.gather(file)
	if err != nil {
		return nil, nil, err
	}
	values = map[string]any{}
	for i, in := range file.Inputs {
		text, ok := given[in.Name]
		switch {
		case ok:
		case in.Default != nil:
			text.text = *in.Default
		default:
			text.text = fits(in, i)
			chosen = append(chosen, in.Name)
		}
		v, err := in.Value(text.text)
		if err != nil {
			return nil, nil, misuse("%s: %v", in.Name, err)
		}
		values[in.Name] = v
	}
	for _, s := range file.Secrets {
		v, err := Secrets{}.find(s.Name, nil)
		if err != nil {
			return nil, nil, err
		}
		values[s.Name] = cmp.Or(v, "rehearsal")
	}
	return values, chosen, nil
}

// fits is a value that an input takes: another one for each.
func fits(in *procedure.Input, i int) string {
	if in.Type != "int" && in.Type != "num" {
		return fmt.Sprintf("%s-%d", in.Name, i+1)
	}
	low, high := 1.0, 100.0
	if in.Low != nil {
		low = *in.Low
		high = max(high, low+100)
	}
	if in.High != nil {
		high = *in.High
		low = min(low, high)
	}
	return fmt.Sprint(int(low + min((high-low)/3, 17) + float64(i)))
}
