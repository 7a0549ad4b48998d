// Package bench reads which ports are on the table: their names, where each is
// and how it is spoken to, and for simulated modules the air between them.
//
// A bench is a TOML file; the format is described in docs/bench.md.
package bench

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record/conversation"
	"uparrot/core/schema"
	"uparrot/core/source"
	"uparrot/core/source/toml"
	"uparrot/core/stats"
	"uparrot/core/uart"
)

// Bench is the ports on the table.
type Bench struct {
	File  string
	Ports []*Entry // by name
	Air   Air
	Slots []Slot // places for a module each, by name

	Shared map[string]int // what slots share: how many may use it at once

	read func(path string) ([]byte, error) // reads phrasebooks
}

// Slot is a place for a module, or for what belongs together: which ports of the bench stand for
// a procedure's.
type Slot struct {
	Name  string
	Ports map[string]string
}

// Entry is one port on the bench.
type Entry struct {
	Name       string
	At         port.Address           // for a stand-in without one, where its link is
	Own        phrasebook.Setup       // what the bench itself says
	Setup      phrasebook.Setup       // with what the phrasebook says
	Phrasebook *phrasebook.Phrasebook // nil if there is none
	Standin    *Standin               // nil if the module is real
	Hears      *[]string              // the ports that must hear it; nil if that is not said
	Power      *Power                 // what switches the module's power; nil if only a hand does
}

// Power is what switches the power of a module: a switch of a board on the same bench.
type Power struct {
	Switch string // by the board's phrasebook
	By     string // the board's port
	Off    time.Duration
}

// Standin describes a simulated module.
type Standin struct {
	Name     string
	Family   string                 // "" makes one of Book or Again
	Book     *phrasebook.Phrasebook // for a module without a family of its own
	Again    *conversation.Talk     // for one that answers as in a record
	Line     uart.Line
	Place    float64           // metres along a line, for strength by distance
	Settings map[string]string // what differs from the delivered settings, by the module's own names
	Fed      *Power            // what switches its power; nil if only a hand does
}

// Air says what happens to messages between simulated radios. Shares are from 0 to
// 1; at most one of the four befalls a message.
type Air struct {
	Seed      uint64
	Loss      float64       // share of messages that do not arrive
	Damage    float64       // share that arrive with bytes altered
	Duplicate float64       // share that arrive twice
	Reorder   float64       // share that the next message overtakes
	Delay     time.Duration // least time from radio to radio
	Spread    time.Duration // up to this much is added, every value being as likely

	// Bursts come beside all that: in its bad state the air loses every message.
	// Enter is how likely a message finds it bad after a good one, Leave how likely
	// good after a bad one (E. N. Gilbert, 1960).
	Enter, Leave float64

	// Rate is the bits a second that the air carries in one direction, of payload;
	// 0 is no limit. Preamble stands before each message. Of messages that wait for
	// the air at most Buffer bytes are kept; what is more is lost. 0 keeps 4096.
	Rate     float64
	Preamble time.Duration
	Buffer   int

	// Walk is how fast the distance grows, in metres a second, as if one end were
	// carried away.
	Walk float64
}

// file is what stands in a bench file.
type file struct {
	Ports  map[string]*filePort         `toml:"port" about:"a port, by the name that procedures call"`
	Air    *fileAir                     `toml:"air" about:"what happens to messages between simulated radios"`
	Slots  map[string]map[string]string `toml:"slot" about:"a place for a module: which port of the bench stands for each of a procedure's"`
	Shared map[string]int               `toml:"shared" about:"what slots share, and how many may use it at once"`
}

// Schema is what a bench may hold.
var Schema = sync.OnceValue(func() *schema.Table {
	return schema.FromStruct[file]("which ports there are, what is at them, and the air between")
})

type filePort struct {
	At         port.Address `toml:"at" about:"where it is: a device, a stable path below /dev/serial, tcp://HOST:PORT, telnet://HOST:PORT or rfc2217://HOST:PORT"`
	Phrasebook string       `toml:"phrasebook" about:"the file of the module's family, from the folder of the bench"`
	phrasebook.Setup
	Hears   *[]string    `toml:"hears" about:"the other ports that must hear it, for link map"`
	Power   string       `toml:"power" about:"what switches its power, such as \"relay 3 of gates\""`
	Off     *span        `toml:"power_off" about:"how long a cycle is without power, 1 s unless given" form:"time"`
	Standin *fileStandin `toml:"standin" about:"a simulated module in the place of a real one"`
}

type fileStandin struct {
	Family   string         `toml:"family" about:"a family that is built in; without one the phrasebook makes it"`
	Speed    int            `toml:"speed" about:"its own, where it differs from what is said of it, in baud"`
	Frame    *uart.Frame    `toml:"frame" about:"its own, such as \"8N1\""`
	Place    float64        `toml:"place" about:"metres along a line, for strength by distance"`
	Settings map[string]any `toml:"settings" about:"what differs from the settings as delivered"`
}

type fileAir struct {
	Seed      uint64  `toml:"seed" about:"of all that is drawn"`
	Loss      share   `toml:"loss" about:"messages that do not arrive" form:"share"`
	Damage    share   `toml:"damage" about:"messages that arrive with bytes altered" form:"share"`
	Duplicate share   `toml:"duplicate" about:"messages that arrive twice" form:"share"`
	Reorder   share   `toml:"reorder" about:"messages that the next overtakes" form:"share"`
	Delay     span    `toml:"delay" about:"least time from radio to radio" form:"time"`
	Spread    span    `toml:"spread" about:"up to this much is added" form:"time"`
	Enter     share   `toml:"enter" about:"how likely a burst of losses begins with a message" form:"share"`
	Leave     share   `toml:"leave" about:"how likely it ends with one" form:"share"`
	Rate      float64 `toml:"rate" about:"bits a second in one direction, of payload"`
	Preamble  span    `toml:"preamble" about:"stands before each message" form:"time"`
	Buffer    int     `toml:"buffer" about:"bytes of messages that wait for the air"`
	Walk      float64 `toml:"walk" about:"how fast the distance grows, in metres a second"`
}

// share is a part of a whole, such as "2%" or 0.02.
type share float64

func (s *share) UnmarshalText(text []byte) error {
	f, err := stats.ParseShare(string(text))
	*s = share(f)
	return err
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

// Read reads a bench and the phrasebooks that it names. Families are those that
// there are stand-ins of; nil leaves that to whoever makes them. Mistakes in any of
// the files are returned as source.Mistakes.
func Read(path string, families []string) (*Bench, error) {
	text, err := source.ReadFile(path)
	if err != nil {
		return nil, source.Unreadable(path, err)
	}
	return Parse(path, string(text), families, source.ReadFile)
}

// Parse is Read on text that has been read already; read reads its phrasebooks.
func Parse(path, text string, families []string, read func(path string) ([]byte, error)) (*Bench, error) {
	if m, is := source.Unfit(path, text, source.Bench); is {
		return nil, source.Mistakes{m}
	}
	var f file
	d := toml.Parse(path, text, &f)
	b := &Bench{File: path, read: read}
	b.fill(d, f, families)
	if err := d.Mistakes.Err(); err != nil {
		return nil, err
	}
	return b, nil
}

func (b *Bench) fill(d *toml.Doc, f file, families []string) {
	if len(f.Ports) == 0 {
		d.Add("port", "the bench has no ports", `Add a table such as [port.north] with at = "`+port.Example+`".`)
	}
	books := map[string]*phrasebook.Phrasebook{}
	for name, fp := range f.Ports {
		path := "port." + name
		p := &Entry{Name: name, At: fp.At.Below(filepath.Dir(b.File)), Own: fp.Setup, Setup: fp.Setup, Hears: fp.Hears}
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
			p.Standin = fp.Standin.module(d, path+".standin", p, families)
			if p.At == (port.Address{}) {
				p.At = b.linkTo(name)
			}
		case p.At == (port.Address{}) && !d.Named(path+".at"):
			d.Add(path, fmt.Sprintf("port %s says not where it is", name), `Add at = "`+port.Example+`", or a table standin for a simulated module.`)
		}
		b.Ports = append(b.Ports, p)
	}
	b.powers(d, f)
	b.slots(d, f)
	sort.Slice(b.Ports, func(i, j int) bool { return b.Ports[i].Name < b.Ports[j].Name })
	if a := f.Air; a != nil {
		b.Air = Air{
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

// powers reads what switches the power of each port.
func (b *Bench) powers(d *toml.Doc, f file) {
	for _, e := range b.Ports {
		fp, at := f.Ports[e.Name], "port."+e.Name+".power"
		if fp.Power == "" {
			if fp.Off != nil {
				d.Add(at+"_off", "nothing switches the power", `Add power = "relay 3 of gates".`)
			}
			continue
		}
		i := strings.LastIndex(fp.Power, " of ")
		if i < 0 {
			d.Add(at, fmt.Sprintf("%q names no switch of a port", fp.Power), `Write such as "relay 3 of gates".`)
			continue
		}
		e.Power = &Power{Switch: strings.TrimSpace(fp.Power[:i]), By: strings.TrimSpace(fp.Power[i+4:]), Off: OffFor}
		if fp.Off != nil {
			e.Power.Off = time.Duration(*fp.Off)
		}
		if e.Standin != nil {
			e.Standin.Fed = e.Power
		}
		by := slices.IndexFunc(b.Ports, func(other *Entry) bool { return other.Name == e.Power.By })
		switch {
		case by < 0 || b.Ports[by] == e:
			d.Add(at, fmt.Sprintf("there is no other port %q on the bench", e.Power.By), source.DidYouMean(e.Power.By, slices.DeleteFunc(names(f.Ports), func(name string) bool { return name == e.Name })))
		case b.Ports[by].Phrasebook == nil || len(b.Ports[by].Phrasebook.Switch.Names) == 0:
			d.Add(at, fmt.Sprintf("no phrasebook tells how the port %s switches anything", e.Power.By), "Describe it there in a table [switch].")
		case !slices.Contains(b.Ports[by].Phrasebook.Switch.Names, e.Power.Switch):
			d.Add(at, fmt.Sprintf("the port %s has no %q", e.Power.By, e.Power.Switch), source.DidYouMean(e.Power.Switch, b.Ports[by].Phrasebook.Switch.Names))
		}
	}
}

// slots reads the places for modules, and what they share.
func (b *Bench) slots(d *toml.Doc, f file) {
	taken := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(f.Slots)) {
		s := Slot{Name: name, Ports: f.Slots[name]}
		for _, of := range slices.Sorted(maps.Keys(s.Ports)) {
			at, port := fmt.Sprintf("slot.%s.%s", name, of), s.Ports[of]
			if _, ok := f.Ports[port]; !ok {
				d.Add(at, fmt.Sprintf("there is no port %q on the bench", port), source.DidYouMean(port, names(f.Ports)))
			}
			if other := taken[port]; other != "" {
				d.Add(at, fmt.Sprintf("the port %s is in slot %s already", port, other), "A port is in one slot.")
			}
			taken[port] = name
		}
		b.Slots = append(b.Slots, s)
	}
	for name, n := range f.Shared {
		if n < 1 {
			d.Add("shared."+name, fmt.Sprintf("%d may use it at once", n), "Write 1, or how many may.")
		}
	}
	b.Shared = f.Shared
}

func names(ports map[string]*filePort) []string {
	var list []string
	for name := range ports {
		list = append(list, name)
	}
	sort.Strings(list)
	return list
}

// linkTo is the address of a stand-in for which none is given.
func (b *Bench) linkTo(name string) port.Address {
	return port.Address{Where: filepath.Join(b.LinkDir(), name)}
}

// book reads a phrasebook once, also if several ports have it. Its own mistakes
// go to the list as they are.
func (b *Bench) book(d *toml.Doc, path, name string, books map[string]*phrasebook.Phrasebook) *phrasebook.Phrasebook {
	file := source.Beside(b.File, name)
	if pb, ok := books[file]; ok {
		return pb
	}
	text, err := b.read(file)
	if err != nil {
		d.Add(path+".phrasebook", fmt.Sprintf("the phrasebook cannot be read: %v", errors.Unwrap(err)), source.NearFile(file, name, "A path is taken from the folder of this file."))
		books[file] = nil
		return nil
	}
	pb, err := phrasebook.Parse(file, string(text))
	if m, ok := errors.AsType[source.Mistakes](err); ok {
		d.Mistakes = append(d.Mistakes, m...)
	}
	books[file] = pb
	return pb
}

func (s *fileStandin) module(d *toml.Doc, path string, p *Entry, families []string) *Standin {
	m := &Standin{Name: p.Name, Family: strings.ToLower(s.Family), Book: p.Phrasebook, Line: p.Setup.Line(), Place: s.Place, Settings: map[string]string{}}
	if s.Speed < 0 || s.Speed > uart.MaxSpeed {
		d.Add(path+".speed", fmt.Sprintf("speed %d is outside %d..%d baud", s.Speed, uart.MinSpeed, uart.MaxSpeed), "")
	} else if s.Speed > 0 {
		m.Line.Speed = s.Speed
	}
	if s.Frame != nil {
		m.Line.Frame = *s.Frame
	}
	known := m.Family == "" && p.Phrasebook != nil || m.Family != "" && families == nil
	for _, f := range families {
		known = known || f == m.Family
	}
	switch {
	case known:
	case m.Family == "":
		d.Add(path, "the stand-in has no family, and the port no phrasebook to make one of", `Add family = "dunlin" here, or phrasebook = "..." to the port.`)
	default:
		d.Add(path+".family", fmt.Sprintf("there is no stand-in of family %q", s.Family), source.DidYouMean(s.Family, families))
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
	p := &Entry{Name: name, Setup: pb.Setup(), Phrasebook: pb}
	b := &Bench{File: path, Ports: []*Entry{p}}
	p.Standin = &Standin{Name: name, Book: pb, Line: p.Setup.Line()}
	p.At = b.linkTo(name)
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
		setup := talk.Opened.As()
		setup.Speed, setup.Frame = talk.Line.Speed, &talk.Line.Frame
		name := fileName(filepath.Base(filepath.ToSlash(talk.Name))) // it may have been an address
		p := &Entry{Name: name, Setup: setup, Own: setup}
		p.Standin = &Standin{Name: name, Again: talk, Line: setup.Line()}
		p.At = b.linkTo(name)
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
func (b *Bench) Port(name string) (*Entry, bool) {
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
func (b *Bench) Standins() []*Entry {
	var ports []*Entry
	for _, p := range b.Ports {
		if p.Standin != nil {
			ports = append(ports, p)
		}
	}
	return ports
}

// Running reports whether a stand-in's link leads somewhere. One that is served
// over the network shows that when it is called.
func (p *Entry) Running() bool {
	if p.At.Network() {
		return true
	}
	_, err := os.Stat(p.At.Where)
	return err == nil && !port.LeftOver(p.At.Where)
}
