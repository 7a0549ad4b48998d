package families

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"time"

	"uparrot/core/sim"
	"uparrot/core/uart"
)

// fieldfare is a transparent radio, made up for the Larkfell cableway: what comes
// on its line goes into the air as it is, to all Fieldfares with the same address,
// channel and air rate. One mode line chooses what it does:
//
//	DTR on   data
//	DTR off  setup: 9600 8N1, a block of registers
//
// In setup the host sends 5A, 01 to read or 02 to write, the first register, how
// many, for writing the values, and the sum of all bytes before modulo 256. The
// answer is A5, the same three, the values, and the sum; or A5 EE and a reason: 1
// the sum is wrong, 2 there is no such register, 3 a value is out of range.
//
//	0, 1  address, high byte first
//	2     channel, 0 to 63
//	3     air rate: 0 1200, 1 2400, 2 4800, 3 9600, 4 19200 bit/s
//	4     line speed: 0 9600, 1 19200, 2 38400, 3 57600, 4 115200 baud
//	5     power, 2 to 20 dBm
//	6     listens every so many steps of 100 ms and sleeps between; 0 always listens
//	7     wake-up preamble of what it sends, in steps of 100 ms, 0 to 20
//
// Who sleeps hears only what has a preamble as long as its sleep. What was written
// is in force once setup is left. The air is slower than the
// wire: 512 bytes wait for it, more are lost. A packet goes when the line has been
// still for the time of four bytes, or with 64 bytes.
type fieldfare struct {
	*sim.Unit
	bench *sim.Bench

	regs    [8]byte // in force
	next    [8]byte // from the end of setup on
	setup   bool
	command []byte // in setup

	packet  []byte
	gap     int // counts bytes, so that a plan for the gap is dropped
	waiting int // bytes for the air
	airFree time.Time
}

const (
	fieldfarePacket   = 64
	fieldfareBuffer   = 512
	fieldfarePreamble = 8 * time.Millisecond
	fieldfareSetup    = 9600
)

var (
	fieldfareAir  = []int{1200, 2400, 4800, 9600, 19200}
	fieldfareLine = []int{9600, 19200, 38400, 57600, 115200}
	// the lowest and highest value of each register
	fieldfareRange = [8][2]byte{{0, 255}, {0, 255}, {0, 63}, {0, 4}, {0, 4}, {2, 20}, {0, 20}, {0, 20}}
)

func newFieldfare(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	f := &fieldfare{Unit: u, bench: b, regs: [8]byte{0, 1, 41, 3, 0, 14, 0, 0}}
	for key, v := range u.Settings {
		n, err := strconv.Atoi(v)
		switch {
		case err != nil:
			return nil, fmt.Errorf("a Fieldfare's %s is a number, not %q", key, v)
		case key == "address" && n >= 0 && n <= 0xffff:
			binary.BigEndian.PutUint16(f.regs[:], uint16(n))
		case key == "channel" && n >= 0 && n <= 63:
			f.regs[2] = byte(n)
		case key == "listen" && n >= 0 && n <= 20:
			f.regs[6] = byte(n)
		case key == "preamble" && n >= 0 && n <= 20:
			f.regs[7] = byte(n)
		default:
			return nil, fmt.Errorf("a Fieldfare has the settings address, 0 to 65535, channel, 0 to 63, listen and preamble, 0 to 20, not %s = %s", key, v)
		}
	}
	for i, speed := range fieldfareLine {
		if speed == u.Line.Speed {
			f.regs[4] = byte(i)
		}
	}
	f.next = f.regs
	b.AddRadio(f)
	return f, nil
}

func (f *fieldfare) Power(time.Time, bool) {
	f.packet, f.command, f.waiting = nil, nil, 0
}

func (f *fieldfare) Own() string   { return strconv.Itoa(int(binary.BigEndian.Uint16(f.regs[:]))) }
func (f *fieldfare) Strength() int { return int(f.regs[5]) }

func (f *fieldfare) Hears(from sim.Radio, to string) bool {
	other, ok := from.(*fieldfare)
	return ok && [4]byte(other.regs[:4]) == [4]byte(f.regs[:4])
}

func (f *fieldfare) Receive(at time.Time, m *sim.Message) {
	sleeps := time.Duration(f.regs[6]) * 100 * time.Millisecond
	if f.On() && !f.setup && m.Preamble >= sleeps {
		f.Say(at, string(m.Payload))
	}
}

// Signals follows the mode line.
func (f *fieldfare) Signals(_ time.Time, dtr, _ bool) { f.turn(!dtr) }

func (f *fieldfare) turn(setup bool) {
	if setup == f.setup {
		return
	}
	f.setup, f.command, f.packet = setup, nil, nil
	speed := fieldfareSetup
	if !setup {
		f.regs = f.next
		speed = fieldfareLine[f.regs[4]]
	}
	f.SetLine(uart.Line{Speed: speed})
}

func (f *fieldfare) Hand(_ time.Time, words []string) error {
	if len(words) == 2 && words[0] == "mode" && (words[1] == "data" || words[1] == "setup") {
		f.turn(words[1] == "setup")
		return nil
	}
	return errors.New("a Fieldfare has one mode line: mode data, mode setup")
}

func (f *fieldfare) Heard(at time.Time, b []byte) {
	if f.setup {
		f.command = append(f.command, b...)
		f.obey(at)
		return
	}
	for _, c := range b {
		if f.packet = append(f.packet, c); len(f.packet) == fieldfarePacket {
			f.send(at)
		}
	}
	f.gap++
	gap := f.gap
	f.bench.Later(f.Unit, at.Add(f.CurrentLine().Time(4)), func(at time.Time) {
		if f.gap == gap {
			f.send(at)
		}
	})
}

// send gives a packet to the air, which carries one at a time.
func (f *fieldfare) send(at time.Time) {
	packet := f.packet
	f.packet = nil
	if len(packet) == 0 || f.waiting+len(packet) > fieldfareBuffer {
		return
	}
	f.waiting += len(packet)
	preamble := max(fieldfarePreamble, time.Duration(f.regs[7])*100*time.Millisecond)
	f.airFree = later(at, f.airFree).Add(preamble + time.Duration(float64(len(packet)*8)/float64(fieldfareAir[f.regs[3]])*float64(time.Second)))
	f.bench.Later(f.Unit, f.airFree, func(at time.Time) {
		f.waiting -= len(packet)
		f.bench.Transmit(at, f, "", string(packet), preamble)
	})
}

// obey does what a whole command in setup says; an unfinished one waits.
func (f *fieldfare) obey(at time.Time) {
	for len(f.command) > 0 {
		c := f.command
		if c[0] != 0x5a {
			f.command = c[1:] // what is no beginning is passed over
			continue
		}
		if len(c) < 4 {
			return
		}
		first, n := int(c[2]), int(c[3])
		size := 5
		if c[1] == 2 {
			size += n
		}
		if len(c) < size {
			return
		}
		f.command = c[size:]
		switch {
		case sum(c[:size-1]) != c[size-1]:
			f.Say(at, "\xa5\xee\x01")
		case c[1] != 1 && c[1] != 2, n < 1, first+n > len(f.next):
			f.Say(at, "\xa5\xee\x02")
		case c[1] == 2 && !f.set(first, c[4:4+n]):
			f.Say(at, "\xa5\xee\x03")
		default:
			answer := append([]byte{0xa5, c[1], c[2], c[3]}, f.next[first:first+n]...)
			f.Say(at, string(append(answer, sum(answer))))
		}
	}
}

func sum(b []byte) (s byte) {
	for _, c := range b {
		s += c
	}
	return s
}

func (f *fieldfare) set(first int, values []byte) bool {
	for i, v := range values {
		if r := fieldfareRange[first+i]; v < r[0] || v > r[1] {
			return false
		}
	}
	copy(f.next[first:], values)
	return true
}
