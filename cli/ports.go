package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port/portlist"
	"uparrot/core/source"
	"uparrot/core/station"
	"uparrot/core/uart"
)

// portFlags say which ports a command speaks at and how.
type portFlags struct {
	bench      string
	speed      int
	frame      string
	phrasebook string
}

func (p *portFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&p.bench, "bench", "", "bench file that names the ports")
	cmd.Flags().IntVar(&p.speed, "speed", 0, "speed in baud, over what the files say")
	cmd.Flags().StringVar(&p.frame, "frame", "", "frame such as 8N1, over what the files say")
	cmd.Flags().StringVar(&p.phrasebook, "phrasebook", "", "phrasebook of the modules, over what the files say")
}

// ports are the bench and the settings of the command line.
type ports struct {
	bench *bench.Bench // nil if there is none
	over  phrasebook.Setup
	book  *phrasebook.Phrasebook // nil if there is none
}

func (p *portFlags) read(cmd *cobra.Command) (*ports, error) {
	ps := &ports{}
	var err error
	if p.bench != "" {
		if ps.bench, err = bench.Read(p.bench); err != nil {
			return nil, asUsage(err)
		}
	}
	if p.phrasebook != "" {
		if ps.book, err = phrasebook.Read(p.phrasebook); err != nil {
			return nil, asUsage(err)
		}
	}
	if p.frame != "" {
		f, err := uart.ParseFrame(p.frame)
		if err != nil {
			return nil, usage(cmd, "--frame: %v", err)
		}
		ps.over.Frame = &f
	}
	if p.speed < 0 || p.speed > uart.MaxSpeed {
		return nil, usage(cmd, "--speed: %d is outside %d..%d baud", p.speed, uart.MinSpeed, uart.MaxSpeed)
	}
	ps.over.Speed = p.speed
	return ps, nil
}

// asUsage makes a file that cannot be read wrong use; mistakes in it are that
// already.
func asUsage(err error) error {
	if _, ok := err.(source.Mistakes); ok {
		return err
	}
	return &errUsage{what: err.Error()}
}

// station finds a port by its name on the bench, or else takes the name as an
// address. What is said in own, such as a procedure's header, stands between
// the bench and the phrasebook.
func (ps *ports) station(name string, own phrasebook.Setup, book *phrasebook.Phrasebook) (*station.Station, error) {
	s := &station.Station{Name: name, Address: name, Phrasebook: book}
	setup := ps.over
	if ps.bench != nil {
		if p, ok := ps.bench.Port(name); ok {
			if p.Standin != nil && !p.Running() {
				return nil, &errBroken{fmt.Sprintf("port %s is a stand-in that is not running: start it in another terminal with: uparrot standin %s", name, ps.bench.File)}
			}
			s.Address = p.At
			setup = setup.Or(p.Own)
			if p.Phrasebook != nil {
				s.Phrasebook = p.Phrasebook
			}
		} else if !isAddress(name) {
			return nil, &errUsage{what: fmt.Sprintf("the bench %s has no port %q. %s", ps.bench.File, name, source.DidYouMean(name, ps.bench.Names()))}
		}
	} else if !isAddress(name) {
		return nil, &errUsage{what: fmt.Sprintf("%q is no address of a port. Give a path such as /dev/ttyUSB0, or name the bench that has this port with --bench", name)}
	}
	if ps.book != nil {
		s.Phrasebook = ps.book
	}
	setup = setup.Or(own)
	if s.Phrasebook != nil {
		setup = setup.Or(s.Phrasebook.Setup())
	}
	s.Setup = setup
	return s, locate(s)
}

// locate turns an address by what is known of a port into its path.
func locate(s *station.Station) error {
	if !portlist.IsAddress(s.Address) {
		return nil
	}
	all, err := portlist.List()
	if err != nil {
		return fmt.Errorf("list the ports: %w", err)
	}
	path, err := portlist.Resolve(s.Address, all)
	if err != nil {
		return &errBroken{err.Error()}
	}
	s.Address = path
	return nil
}

// isAddress tells the path of a port from a name on a bench.
func isAddress(s string) bool {
	return strings.ContainsAny(s, `/\`) || portlist.IsAddress(s) || strings.HasPrefix(strings.ToUpper(s), "COM")
}

// errBroken is what keeps a command from running at all.
type errBroken struct{ what string }

func (e *errBroken) Error() string { return e.what }
