package families

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/sim"
)

// dunlin is an addressable packet radio in the manner of ITU-T V.250, with ~ in
// place of + before its own commands. All of it is made up for the Larkfell
// cableway.
//
//	AT                       OK
//	ATI                      maker, product and firmware
//	ATE0 ATE1                echo off (as delivered), on
//	AT&F                     settings as delivered
//	AT~NODE? =n =?           address, 1..65534
//	AT~GROUP? =n =?          group, 0..255
//	AT~CHANNEL? =n =?        channel, 0..79
//	AT~POWER? =n =?          power, -4..20 dBm
//	AT~NAME? ="text"         name, up to 16 characters
//	AT~SERIAL?               serial number
//	AT~TELL=to,length,text   sends text of length bytes to an address; 0 is everyone
//	AT~RESTART               restarts; settings stay
//
// What it sends by itself:
//
//	~HEARD: from,strength,snr,length,text
//	DUNLIN UP firmware
type dunlin struct {
	*sim.Unit
	bench *sim.Bench

	settings map[string]string
	serial   string
	loses    string // a setting that a faulty one takes and does not keep; "" of a good one
	echo     bool
	up       bool
	command  []byte
}

// Refusals of a Dunlin: ~REFUSED: number.
const (
	unknownCommand = 31
	badValue       = 32
	badCount       = 33 // of values
	badLength      = 34 // stated length is not the payload's
	tooLong        = 35 // command or payload
)

const (
	dunlinFirmware = "2.4.1"
	maxPayload     = 96  // bytes
	maxCommand     = 160 // bytes
	restartTime    = 350 * time.Millisecond
)

// setting is one value that a Dunlin keeps.
type setting struct {
	name      string
	low, high int
	delivered string
	text      bool // quoted, at most high characters
}

var dunlinSettings = []setting{
	{name: "NODE", low: 1, high: 65534, delivered: "1"},
	{name: "GROUP", low: 0, high: 255, delivered: "0"},
	{name: "CHANNEL", low: 0, high: 79, delivered: "10"},
	{name: "POWER", low: -4, high: 20, delivered: "14"},
	{name: "NAME", high: 16, delivered: "", text: true},
}

func findSetting(name string) (setting, bool) {
	for _, s := range dunlinSettings {
		if s.name == name {
			return s, true
		}
	}
	return setting{}, false
}

// accept checks a value as it would stand in a command and returns it as kept.
func (s setting) accept(v string) (string, bool) {
	if s.text {
		in, ok := strings.CutPrefix(v, `"`)
		in, ok2 := strings.CutSuffix(in, `"`)
		return in, ok && ok2 && len(in) <= s.high && !strings.ContainsFunc(in, func(r rune) bool { return r < ' ' || r > '~' || r == '"' })
	}
	n, err := strconv.Atoi(v)
	return strconv.Itoa(n), err == nil && n >= s.low && n <= s.high
}

func newDunlin(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	d := &dunlin{Unit: u, bench: b, settings: map[string]string{}, up: true}
	for _, s := range dunlinSettings {
		d.settings[s.name] = s.delivered
	}
	d.serial = fmt.Sprintf("DL-%06d", serialNumber(d.Which()))
	for key, v := range u.Settings {
		if key == "serial" {
			d.serial = v
			continue
		}
		lost := key == "loses"
		if lost {
			key = v
		}
		s, ok := findSetting(strings.ToUpper(key))
		if !ok {
			return nil, fmt.Errorf("a Dunlin has no setting %q; it has node, group, channel, power, name and serial, and may be made to take one that it loses", key)
		}
		if lost {
			d.loses = s.name
			continue
		}
		if s.text {
			v = `"` + v + `"`
		}
		kept, ok := s.accept(v)
		if !ok {
			return nil, fmt.Errorf("setting %s does not take %s", key, v)
		}
		d.settings[s.name] = kept
	}
	b.AddRadio(d)
	return d, nil
}

func (d *dunlin) number(name string) int {
	n, _ := strconv.Atoi(d.settings[name]) // kept values are numbers
	return n
}

// heard takes in bytes from the host. A command ends with CR (V.250 S3); LF is
// passed over, so that a host with the wrong line ending hears nothing.
func (d *dunlin) Heard(at time.Time, b []byte) {
	if !d.up {
		return
	}
	if d.echo {
		d.Send(at, b)
	}
	for _, c := range b {
		switch {
		case c == '\n':
		case c != '\r':
			if len(d.command) <= maxCommand {
				d.command = append(d.command, c)
			}
		default:
			line := string(d.command)
			d.command = d.command[:0]
			if line != "" {
				d.obey(at, line)
			}
		}
	}
}

func (d *dunlin) refuse(at time.Time, number int) {
	d.Answer(at, fmt.Sprintf("~REFUSED: %d", number))
}

func (d *dunlin) obey(at time.Time, line string) {
	if len(line) > maxCommand {
		d.refuse(at, tooLong)
		return
	}
	if len(line) < 2 || !strings.EqualFold(line[:2], "AT") {
		return // V.250: what does not begin with AT is not for the module
	}
	body := line[2:]
	if own, ok := strings.CutPrefix(body, "~"); ok {
		d.obeyOwn(at, own)
		return
	}
	switch strings.ToUpper(body) {
	case "":
	case "I":
		d.Answer(at, "Larkfell Works", "Dunlin", dunlinFirmware, "OK")
		return
	case "E0":
		d.echo = false
	case "E1", "E":
		d.echo = true
	case "&F", "&F0":
		for _, s := range dunlinSettings {
			d.settings[s.name] = s.delivered
		}
		d.echo = false
	default:
		d.refuse(at, unknownCommand)
		return
	}
	d.Answer(at, "OK")
}

// obeyOwn obeys what follows AT~.
func (d *dunlin) obeyOwn(at time.Time, body string) {
	n := strings.IndexAny(body, "?=")
	if n < 0 {
		n = len(body)
	}
	name, op := strings.ToUpper(body[:n]), body[n:]
	switch {
	case name == "TELL" && strings.HasPrefix(op, "="):
		d.tell(at, op[1:])
	case name == "RESTART" && op == "":
		d.Answer(at, "OK")
		d.restart(at)
	case name == "SERIAL" && op == "?":
		d.Answer(at, "~SERIAL: "+d.serial, "OK")
	default:
		d.setting(at, name, op)
	}
}

// serialNumber is made from the name, so that a bench always has the same.
func serialNumber(name string) int {
	n := 417
	for _, c := range name {
		n = (n*31 + int(c)) % 1_000_000
	}
	return n
}

func (d *dunlin) setting(at time.Time, name, op string) {
	s, ok := findSetting(name)
	switch {
	case !ok || op == "":
		d.refuse(at, unknownCommand)
	case op == "?":
		v := d.settings[name]
		if s.text {
			v = `"` + v + `"`
		}
		d.Answer(at, "~"+name+": "+v, "OK")
	case op == "=?" && s.text:
		d.Answer(at, fmt.Sprintf("~%s: (%d)", name, s.high), "OK")
	case op == "=?":
		d.Answer(at, fmt.Sprintf("~%s: (%d-%d)", name, s.low, s.high), "OK")
	default:
		v, ok := s.accept(strings.TrimPrefix(op, "="))
		if !ok {
			d.refuse(at, badValue)
			return
		}
		if name != d.loses {
			d.settings[name] = v
		}
		d.Answer(at, "OK")
	}
}

// tell obeys AT~TELL=to,length,text.
func (d *dunlin) tell(at time.Time, args string) {
	part := strings.SplitN(args, ",", 3)
	if len(part) < 3 {
		d.refuse(at, badCount)
		return
	}
	to, err := strconv.Atoi(part[0])
	length, err2 := strconv.Atoi(part[1])
	switch {
	case err != nil || err2 != nil || to < 0 || to > 65534 || length < 0:
		d.refuse(at, badValue)
	case length != len(part[2]):
		d.refuse(at, badLength)
	case length > maxPayload:
		d.refuse(at, tooLong)
	default:
		d.Answer(at, "OK")
		d.bench.Broadcast(at, d, strconv.Itoa(to), part[2])
	}
}

func (d *dunlin) Own() string   { return d.settings["NODE"] }
func (d *dunlin) Strength() int { return d.number("POWER") }

// hears takes what a Dunlin of its group and channel sends to its own address, or
// to 0, which means everyone.
func (d *dunlin) Hears(from sim.Radio, to string) bool {
	other, ok := from.(*dunlin)
	return ok && other.settings["GROUP"] == d.settings["GROUP"] && other.settings["CHANNEL"] == d.settings["CHANNEL"] &&
		(to == "0" || to == d.Own())
}

// receive takes a message out of the air.
func (d *dunlin) Receive(at time.Time, m *sim.Message) {
	if !d.up {
		return
	}
	d.Answer(at, fmt.Sprintf("~HEARD: %s,%d,%.1f,%d,%s", m.From, m.Strength, m.SNR, len(m.Payload), m.Payload))
}

// restart is deaf for a while, then sends the noise of a boot loader that runs
// at another speed, and its banner.
func (d *dunlin) restart(at time.Time) {
	d.up, d.echo, d.command = false, false, d.command[:0]
	d.bench.Later(d.Unit, at.Add(restartTime), func(at time.Time) {
		d.up = true
		d.Say(at, d.bench.BootNoise(24))
		d.Answer(at, "DUNLIN UP "+dunlinFirmware)
	})
}

func (d *dunlin) Power(at time.Time, on bool) {
	d.up = false
	if on {
		d.restart(at)
	}
}
