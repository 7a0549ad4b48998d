package session

import (
	"cmp"
	"context"
	"fmt"
	"sync"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/port/portlist"
	"uparrot/core/source"
)

// Ports are the ports at hand: those of a bench, and any other by its address. What
// is said of a port is merged here, once: what was asked for goes before the bench,
// that before a procedure's header, that before the phrasebook.
type Ports struct {
	Bench *bench.Bench           // nil if there is none
	Over  phrasebook.Setup       // asked for, over what the files say
	Book  *phrasebook.Phrasebook // asked for; nil if none was

	mu     sync.Mutex
	boards map[string]chan struct{} // that switch the power of others: one speaks to each at a time
}

// Files are what was read for them: the bench, and the phrasebooks.
func (p *Ports) Files() []string {
	var files []string
	book := func(b *phrasebook.Phrasebook) {
		if b != nil {
			files = append(files, b.File)
		}
	}
	if book(p.Book); p.Bench != nil {
		files = append(files, p.Bench.File)
		for _, e := range p.Bench.Ports {
			book(e.Phrasebook)
		}
	}
	return files
}

// Named reports whether the bench has a port of a name.
func (p *Ports) Named(name string) bool {
	if p.Bench == nil {
		return false
	}
	_, ok := p.Bench.Port(name)
	return ok
}

// Station finds a port by its name on the bench, or else takes the name as an
// address. Own is what is said between the bench and the phrasebook.
func (p *Ports) Station(name string, own phrasebook.Setup, book *phrasebook.Phrasebook) (*bench.Station, error) {
	s := &bench.Station{Name: name, Phrasebook: book, Setup: p.Over}
	switch {
	case p.Named(name):
		e, _ := p.Bench.Port(name)
		if e.Standin != nil && !e.Running() {
			return nil, &Unable{fmt.Sprintf("port %s is a stand-in that is not running: start it in another terminal with: uparrot standin %s", name, p.Bench.File)}
		}
		s.Address = e.At
		s.Setup = s.Setup.Or(e.Own)
		s.Phrasebook = cmp.Or(e.Phrasebook, s.Phrasebook)
		if e.Power != nil {
			by, err := p.board(e.Power.By)
			if err != nil {
				return nil, err
			}
			s.Supply = &bench.Supply{Switch: e.Power.Switch, By: by, Off: e.Power.Off, Lock: p.lock(e.Power.By)}
		}
	case !port.LooksLikeAddress(name) && p.Bench != nil:
		return nil, misuse("the bench %s has no port %q. %s", p.Bench.File, name, source.DidYouMean(name, p.Bench.Names()))
	case !port.LooksLikeAddress(name):
		return nil, misuse("%q is no address of a port. Give an address such as %s, or name the bench that has this port with --bench", name, port.Example)
	default:
		var err error
		if s.Address, err = port.ParseAddress(name); err != nil {
			return nil, misuse("%v", err)
		}
	}
	p.complete(s, own)
	return s, locate(s)
}

// complete adds what is said of a port between the bench and the phrasebook, and by that.
func (p *Ports) complete(s *bench.Station, own phrasebook.Setup) {
	s.Phrasebook = cmp.Or(p.Book, s.Phrasebook)
	s.Setup = s.Setup.Or(own)
	if s.Phrasebook != nil {
		s.Setup = s.Setup.Or(s.Phrasebook.Setup())
	}
}

// board is a port that switches the power of others, as the bench alone has it.
func (p *Ports) board(name string) (*bench.Station, error) {
	return (&Ports{Bench: p.Bench}).Station(name, phrasebook.Setup{}, nil)
}

// lock waits until nobody else of this program speaks to a board.
func (p *Ports) lock(name string) func(context.Context) (func(), error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.boards == nil {
		p.boards = map[string]chan struct{}{}
	}
	turn := p.boards[name]
	if turn == nil {
		turn = make(chan struct{}, 1)
		p.boards[name] = turn
	}
	return func(ctx context.Context) (func(), error) {
		select {
		case turn <- struct{}{}:
			return func() { <-turn }, nil
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// Stations are the stations of several names.
func (p *Ports) Stations(names ...string) (all []*bench.Station, err error) {
	for _, name := range names {
		s, err := p.Station(name, phrasebook.Setup{}, nil)
		if err != nil {
			return nil, err
		}
		for _, other := range all {
			if other.Address == s.Address {
				return nil, misuse("%s and %s are the same port, %s", other.Name, name, s.Address)
			}
		}
		all = append(all, s)
	}
	return all, nil
}

// locate turns an address by what is known of a port into its path.
func locate(s *bench.Station) error {
	if !s.Address.Known() {
		return nil
	}
	all, err := portlist.List()
	if err != nil {
		return fmt.Errorf("list the ports: %w", err)
	}
	if s.Address, err = portlist.Resolve(s.Address, all); err != nil {
		return &Unable{err.Error()}
	}
	return nil
}
