package families

import (
	"encoding/hex"
	"fmt"
	"hash/fnv"
	"strconv"
	"strings"
	"time"

	"uparrot/core/sim"
)

// siskin is a short-range pairing module, made up for the Larkfell cableway. Its
// commands are lines that end with CR:
//
//	hello            "siskin 1.7"
//	seek             after a moment "peer 02.1B.66.A2.0F.31 -58", a line each,
//	                 then "peers 2"
//	join 021B66A20F31  "joined 021B66A20F31"; from then on the line carries plain
//	                 data at the data speed
//	name, name TEXT  "name TEXT"
//	speed, speed N   "speed N": the data speed, 9600 to 115200
//	own              "own 02.1B.66.A2.0F.31"
//
// Refusals are "no 1" (no such command), "no 2" (a value does not fit; a search
// writes addresses with dots, join wants them without), "no 3" (the peer does
// not answer) and "no 9": the first command after power-up only wakes it.
//
// Half a second of quiet, "leave!" and half a second of quiet end the plain data;
// so does the other side.
type siskin struct {
	*sim.Unit
	bench *sim.Bench
	typed typed

	address string
	name    string
	speed   int // of plain data
	awake   bool
	base    int     // speed for commands
	peer    *siskin // joined to; itself if to a peer that is no stand-in
	last    time.Time
	quiet   bool // enough of it stood before what came last
	leaving int  // counts, so that a later byte drops a plan to leave
}

const (
	siskinSeek  = 600 * time.Millisecond
	siskinJoin  = 300 * time.Millisecond
	siskinGuard = 500 * time.Millisecond
	siskinLeave = "leave!"
)

// stranger is a peer in the next building that is always found and never answers.
const stranger = "02C0DE5EED11"

func newSiskin(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	h := fnv.New32a()
	h.Write([]byte(u.Name)) // a hash takes any bytes
	s := &siskin{Unit: u, bench: b, name: u.Name, speed: 76800, base: u.Line.Speed, awake: true, address: fmt.Sprintf("021B66%06X", h.Sum32()&0xffffff)}
	for key, v := range u.Settings {
		switch key {
		case "address":
			s.address = strings.ToUpper(v)
		case "name":
			s.name = v
		default:
			return nil, fmt.Errorf("a Siskin has the settings address and name, not %s", key)
		}
	}
	if raw, err := hex.DecodeString(s.address); err != nil || len(raw) != 6 {
		return nil, fmt.Errorf("%q is no address of a Siskin: wanted twelve hexadecimal digits", s.address)
	}
	return s, nil
}

func (s *siskin) Power(at time.Time, on bool) {
	s.part(at)
	s.awake, s.typed = false, typed{}
}

// dotted is an address as a search writes it.
func dotted(address string) string {
	var pairs []string
	for i := 0; i+1 < len(address); i += 2 {
		pairs = append(pairs, address[i:i+2])
	}
	return strings.Join(pairs, ".")
}

func (s *siskin) Heard(at time.Time, b []byte) {
	if s.peer != nil {
		s.data(at, b)
		return
	}
	for i, c := range b {
		line, over := s.typed.take(c)
		if !over || line == "" {
			continue
		}
		if !s.awake {
			s.awake = true
			s.reply(at, "no 9")
			continue
		}
		s.obey(at, line)
		if s.peer != nil {
			s.data(at, b[i+1:])
			return
		}
	}
}

func (s *siskin) reply(at time.Time, lines ...string) {
	s.Say(at, strings.Join(lines, "\r\n")+"\r\n")
}

func (s *siskin) obey(at time.Time, line string) {
	word, arg, _ := strings.Cut(line, " ")
	switch word {
	case "hello":
		s.reply(at, "siskin 1.7")
	case "own":
		s.reply(at, "own "+dotted(s.address))
	case "name":
		if len(arg) > 20 {
			s.reply(at, "no 2")
			return
		}
		if arg != "" {
			s.name = arg
		}
		s.reply(at, "name "+s.name)
	case "speed":
		if arg != "" {
			n, err := strconv.Atoi(arg)
			if err != nil || n < 9600 || n > 115200 {
				s.reply(at, "no 2")
				return
			}
			s.speed = n
		}
		s.reply(at, fmt.Sprintf("speed %d", s.speed))
	case "seek":
		s.bench.Later(s.Unit, at.Add(siskinSeek), s.found)
	case "join":
		s.join(at, arg)
	default:
		s.reply(at, "no 1")
	}
}

func (s *siskin) found(at time.Time) {
	peers := []string{fmt.Sprintf("peer %s %d", dotted(stranger), -84-s.bench.Noise.IntN(6))}
	for _, b := range s.bench.Behaviours() {
		if other, ok := b.(*siskin); ok && other != s && other.On() && other.peer == nil {
			peers = append(peers, fmt.Sprintf("peer %s %d", dotted(other.address), -52-s.bench.Noise.IntN(9)))
		}
	}
	s.reply(at, append(peers, fmt.Sprintf("peers %d", len(peers)))...)
}

func (s *siskin) join(at time.Time, address string) {
	if raw, err := hex.DecodeString(address); err != nil || len(raw) != 6 {
		s.reply(at, "no 2")
		return
	}
	s.bench.Later(s.Unit, at.Add(siskinJoin), func(at time.Time) {
		for _, b := range s.bench.Behaviours() {
			if other, ok := b.(*siskin); ok && other != s && other.On() && other.peer == nil && other.address == strings.ToUpper(address) {
				s.meet(at, other, "joined "+other.address)
				other.meet(at, s, "guest "+s.address)
				return
			}
		}
		s.reply(at, "no 3")
	})
}

// meet tells the host and turns to plain data.
func (s *siskin) meet(at time.Time, other *siskin, line string) {
	s.reply(at, line)
	s.peer, s.last, s.quiet = other, at, true
	l := s.CurrentLine()
	l.Speed = s.speed
	s.SetLine(l)
}

// data takes plain data over to the peer.
func (s *siskin) data(at time.Time, b []byte) {
	if len(b) == 0 {
		return
	}
	s.leaving++
	quiet := at.Sub(s.last) >= siskinGuard
	s.last = at
	if quiet && strings.TrimRight(string(b), "\r\n") == siskinLeave {
		round := s.leaving
		s.bench.Later(s.Unit, at.Add(siskinGuard), func(at time.Time) {
			if s.leaving == round && s.peer != nil {
				s.part(at)
				s.reply(at, "left")
			}
		})
		return
	}
	to, text := s.peer, string(b)
	s.bench.Plan(at.Add(siskinAir), func(at time.Time) {
		if to.peer == s {
			to.Say(at, text)
		}
	})
}

const siskinAir = 12 * time.Millisecond

// part ends the connection on both sides.
func (s *siskin) part(at time.Time) {
	if s.peer == nil {
		return
	}
	other := s.peer
	for _, one := range []*siskin{s, other} {
		one.peer = nil
		l := one.CurrentLine()
		l.Speed = one.base
		one.SetLine(l)
	}
	other.reply(at, "left")
}
