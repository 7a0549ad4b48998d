// Package bench reads which ports are on the table: their names, where each is
// and how it is spoken to, and for simulated modules the air between them.
//
// A bench is a TOML file; the format is described in docs/bench.md.
package bench

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/record/conversation"
	"uparrot/core/sim"
	"uparrot/core/source"
	"uparrot/core/uart"
)

// Bench is the ports on the table.
type Bench struct {
	File  string
	Ports []*Port // by name
	Air   sim.Air
}

// Port is one port.
type Port struct {
	Name       string
	At         string                 // address; for a stand-in without one, where its link is
	Own        phrasebook.Setup       // what the bench itself says
	Setup      phrasebook.Setup       // with what the phrasebook says
	Phrasebook *phrasebook.Phrasebook // nil if there is none
	Standin    *sim.Module            // nil if the module is real
	Hears      *[]string              // the ports that must hear it; nil if that is not said
}

// file is what stands in a bench file.
type file struct {
	Ports map[string]*filePort `toml:"port"`
	Air   *fileAir             `toml:"air"`
}

type filePort struct {
	At         string `toml:"at"`
	Phrasebook string `toml:"phrasebook"`
	phrasebook.Setup
	Hears   *[]string    `toml:"hears"`
	Standin *fileStandin `toml:"standin"`
}

type fileStandin struct {
	Family   string         `toml:"family"`
	Speed    int            `toml:"speed"` // the module's own, where it differs from what is said of it
	Frame    *uart.Frame    `toml:"frame"`
	Place    float64        `toml:"place"`
	Settings map[string]any `toml:"settings"`
}

type fileAir struct {
	Seed      uint64  `toml:"seed"`
	Loss      share   `toml:"loss"`
	Damage    share   `toml:"damage"`
	Duplicate share   `toml:"duplicate"`
	Reorder   share   `toml:"reorder"`
	Delay     span    `toml:"delay"`
	Spread    span    `toml:"spread"`
	Enter     share   `toml:"enter"`
	Leave     share   `toml:"leave"`
	Rate      float64 `toml:"rate"`
	Preamble  span    `toml:"preamble"`
	Buffer    int     `toml:"buffer"`
	Walk      float64 `toml:"walk"`
}

// share is a part of a whole, such as "2%" or 0.02.
type share float64

func (s *share) UnmarshalTOML(v any) error {
	switch v := v.(type) {
	case float64:
		*s = share(v)
	case int64:
		*s = share(v)
	case string:
		f, err := ParseShare(v)
		if err != nil {
			return err
		}
		*s = share(f)
	default:
		return fmt.Errorf("%v is no share: wanted one such as \"2%%\" or 0.02", v)
	}
	if *s < 0 || *s > 1 {
		return fmt.Errorf("the share %v is outside 0%%..100%%", v)
	}
	return nil
}

// ParseShare reads a part of a whole: 2%, 2 % or 0.02.
func ParseShare(text string) (float64, error) {
	bare := strings.TrimSpace(text)
	in, percent := strings.CutSuffix(bare, "%")
	f, err := strconv.ParseFloat(strings.TrimSpace(in), 64)
	if percent {
		f /= 100
	}
	if err != nil || f < 0 || f > 1 {
		return 0, fmt.Errorf("%q is no share: wanted one from 0%% to 100%%, such as 2%% or 0.02", text)
	}
	return f, nil
}

type span time.Duration

func (s *span) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	if err != nil || d < 0 || d > time.Minute {
		return fmt.Errorf("%q is no time from 0s to 1m, such as 12ms", text)
	}
	*s = span(d)
	return nil
}

// Read reads a bench and the phrasebooks that it names. Mistakes in any of them
// are returned as source.Mistakes.
func Read(path string) (*Bench, error) {
	var f file
	d, err := source.ReadTOML(path, &f)
	if err != nil {
		return nil, fmt.Errorf("read the bench: %w", err)
	}
	b := &Bench{File: path}
	if len(d.Mistakes) == 0 {
		b.fill(d, f)
	}
	if err := d.Mistakes.Err(); err != nil {
		return nil, err
	}
	return b, nil
}

func (b *Bench) fill(d *source.Doc, f file) {
	if len(f.Ports) == 0 {
		d.Add("port", "the bench has no ports", `Add a table such as [port.north] with at = "/dev/ttyUSB0".`)
	}
	books := map[string]*phrasebook.Phrasebook{}
	for name, fp := range f.Ports {
		path := "port." + name
		p := &Port{Name: name, At: b.path(fp.At), Own: fp.Setup, Setup: fp.Setup, Hears: fp.Hears}
		if fp.Hears != nil {
			for _, other := range *fp.Hears {
				if _, ok := f.Ports[other]; !ok || other == name {
					d.Add(path+".hears", fmt.Sprintf("there is no other port %q on the bench", other), source.DidYouMean(other, names(f.Ports)))
				}
			}
		}
		fp.Setup.Check(d, path)
		if fp.Phrasebook != "" {
			p.Phrasebook = b.book(d, path, fp.Phrasebook, books)
		}
		if p.Phrasebook != nil {
			p.Setup = p.Setup.Or(p.Phrasebook.Setup())
		}
		switch {
		case fp.Standin != nil:
			p.Standin = fp.Standin.module(d, path+".standin", p)
			if p.At == "" {
				p.At = filepath.Join(b.LinkDir(), name)
			}
		case p.At == "":
			d.Add(path, fmt.Sprintf("port %s says not where it is", name), `Add at = "/dev/ttyUSB0", or a table standin for a simulated module.`)
		}
		b.Ports = append(b.Ports, p)
	}
	sort.Slice(b.Ports, func(i, j int) bool { return b.Ports[i].Name < b.Ports[j].Name })
	if a := f.Air; a != nil {
		b.Air = sim.Air{
			Seed: a.Seed, Loss: float64(a.Loss), Damage: float64(a.Damage), Duplicate: float64(a.Duplicate), Reorder: float64(a.Reorder),
			Delay: time.Duration(a.Delay), Spread: time.Duration(a.Spread),
			Enter: float64(a.Enter), Leave: float64(a.Leave), Rate: a.Rate, Preamble: time.Duration(a.Preamble), Buffer: a.Buffer, Walk: a.Walk,
		}
		if a.Rate < 0 || a.Buffer < 0 {
			d.Add("air", "rate and buffer may not be below zero", "Leave them out for no limit.")
		}
		if a.Enter > 0 && a.Leave == 0 {
			d.Add("air.enter", "the air enters bursts of losses and never leaves one", `Add leave = "30%", or what fits.`)
		}
		if sum := b.Air.Loss + b.Air.Damage + b.Air.Duplicate + b.Air.Reorder; sum > 1 {
			d.Add("air", fmt.Sprintf("loss, damage, duplicate and reorder add up to %.0f%%", sum*100), "At most one of them befalls a message, so their sum may not be over 100%.")
		}
	}
}

func names(ports map[string]*filePort) []string {
	var list []string
	for name := range ports {
		list = append(list, name)
	}
	sort.Strings(list)
	return list
}

// path takes an address that is a path from the folder of the bench.
func (b *Bench) path(at string) string {
	if !strings.Contains(at, "/") || strings.Contains(at, "://") || filepath.IsAbs(at) {
		return at
	}
	return filepath.Join(filepath.Dir(b.File), at)
}

// book reads a phrasebook once, also if several ports have it. Its own mistakes
// go to the list as they are.
func (b *Bench) book(d *source.Doc, path, name string, books map[string]*phrasebook.Phrasebook) *phrasebook.Phrasebook {
	file := filepath.Join(filepath.Dir(b.File), name)
	if filepath.IsAbs(name) {
		file = name
	}
	if pb, ok := books[file]; ok {
		return pb
	}
	pb, err := phrasebook.Read(file)
	if m, ok := errors.AsType[source.Mistakes](err); ok {
		d.Mistakes = append(d.Mistakes, m...)
	} else if err != nil {
		d.Add(path+".phrasebook", fmt.Sprintf("the phrasebook cannot be read: %v", errors.Unwrap(err)), "A path is taken from the folder of this file.")
	}
	books[file] = pb
	return pb
}

func (s *fileStandin) module(d *source.Doc, path string, p *Port) *sim.Module {
	m := &sim.Module{Name: p.Name, Family: strings.ToLower(s.Family), Book: p.Phrasebook, Line: p.Setup.Line(), Place: s.Place, Settings: map[string]string{}}
	if s.Speed < 0 || s.Speed > uart.MaxSpeed {
		d.Add(path+".speed", fmt.Sprintf("speed %d is outside %d..%d baud", s.Speed, uart.MinSpeed, uart.MaxSpeed), "")
	} else if s.Speed > 0 {
		m.Line.Speed = s.Speed
	}
	if s.Frame != nil {
		m.Line.Frame = *s.Frame
	}
	known := m.Family == "" && p.Phrasebook != nil
	for _, f := range sim.Families() {
		known = known || f == m.Family
	}
	switch {
	case known:
	case m.Family == "":
		d.Add(path, "the stand-in has no family, and the port no phrasebook to make one of", `Add family = "dunlin" here, or phrasebook = "..." to the port.`)
	default:
		d.Add(path+".family", fmt.Sprintf("there is no stand-in of family %q", s.Family), source.DidYouMean(s.Family, sim.Families()))
	}
	for k, v := range s.Settings {
		m.Settings[k] = fmt.Sprint(v)
	}
	return m
}

// OfPhrasebook is a bench with one stand-in made of a phrasebook, named after its
// family.
func OfPhrasebook(path string) (*Bench, error) {
	pb, err := phrasebook.Read(path)
	if err != nil {
		return nil, err
	}
	name := fileName(strings.ToLower(pb.Family))
	p := &Port{Name: name, Setup: pb.Setup(), Phrasebook: pb}
	b := &Bench{File: path, Ports: []*Port{p}}
	p.Standin = &sim.Module{Name: name, Book: pb, Line: p.Setup.Line()}
	p.At = filepath.Join(b.LinkDir(), name)
	return b, nil
}

// fileName is a name without anything that means more in a path.
func fileName(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return '-'
	}, text)
}

// OfRecord is a bench with a stand-in for each port of a record, which answers as
// the module there did.
func OfRecord(path string) (*Bench, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	talks, state, err := conversation.Read(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if state.Altered != "" {
		return nil, fmt.Errorf("%s is %s", path, state.Words())
	}
	b := &Bench{File: path}
	for _, talk := range talks {
		if len(talk.Turns) == 0 && len(talk.First) == 0 {
			continue
		}
		setup := phrasebook.Setup{Dialect: talk.Opened.Dialect, Speed: talk.Line.Speed, Frame: &talk.Line.Frame, Ending: talk.Opened.Ending, Flow: talk.Opened.Flow, Prompt: talk.Opened.Prompt}
		name := fileName(filepath.Base(filepath.ToSlash(talk.Name))) // it may have been an address
		p := &Port{Name: name, Setup: setup, Own: setup}
		p.Standin = &sim.Module{Name: name, Again: talk, Line: setup.Line()}
		p.At = filepath.Join(b.LinkDir(), name)
		b.Ports = append(b.Ports, p)
	}
	if len(b.Ports) == 0 {
		return nil, fmt.Errorf("%s holds no traffic: there is nothing to answer", path)
	}
	return b, nil
}

// LinkDir is where the links to stand-ins are unless somebody says otherwise:
// a folder beside the bench file, named after it.
func (b *Bench) LinkDir() string {
	return strings.TrimSuffix(b.File, filepath.Ext(b.File)) + ".ports"
}

// Port finds a port by name.
func (b *Bench) Port(name string) (*Port, bool) {
	for _, p := range b.Ports {
		if p.Name == name {
			return p, true
		}
	}
	return nil, false
}

// Names are the names of all ports.
func (b *Bench) Names() []string {
	var names []string
	for _, p := range b.Ports {
		names = append(names, p.Name)
	}
	return names
}

// Standins are the ports with simulated modules.
func (b *Bench) Standins() []*Port {
	var ports []*Port
	for _, p := range b.Ports {
		if p.Standin != nil {
			ports = append(ports, p)
		}
	}
	return ports
}

// Running reports whether a stand-in's link leads somewhere. One that is served
// over the network shows that when it is called.
func (p *Port) Running() bool {
	if strings.Contains(p.At, "://") {
		return true
	}
	_, err := os.Stat(p.At)
	return err == nil
}
