package families

import (
	"errors"
	"fmt"
	"time"

	"uparrot/core/sim"
)

// plover is a wind gauge, made up for the Larkfell cableway. In question mode
// single bytes are its commands:
//
//	57  the wind: A7, speed in tenths of m/s (2 bytes, high first), direction in
//	    degrees (2 bytes), and the sum of all bytes before it, modulo 256
//	49  who it is: A8, model 02, release (2 bytes)
//
// Any other byte is answered with EE and the byte. With its jumper in place at
// power-up it is in stream mode: a line like "wind 7.3 m/s 214 deg" twice a
// second, and deaf.
type plover struct {
	*sim.Unit
	bench  *sim.Bench
	jumper bool // as it stands now
	stream bool // as it stood at power-up
	speed  float64
	from   int
}

const ploverEvery = 500 * time.Millisecond

func newPlover(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	for key := range u.Settings {
		return nil, fmt.Errorf("a Plover has no setting %q", key)
	}
	return &plover{Unit: u, bench: b, speed: 7.3, from: 214}, nil
}

func (p *plover) Power(at time.Time, on bool) {
	p.stream = on && p.jumper
	if p.stream {
		p.streamLater(at.Add(400 * time.Millisecond))
	}
}

// wind lets the wind go on a little.
func (p *plover) wind() {
	p.speed = min(max(p.speed+float64(p.bench.Noise.IntN(21)-10)/10, 0), 60)
	p.from = (p.from + p.bench.Noise.IntN(15) - 7 + 360) % 360
}

func (p *plover) streamLater(at time.Time) {
	p.bench.Later(p.Unit, at, func(at time.Time) {
		p.wind()
		p.Say(at, fmt.Sprintf("wind %.1f m/s %d deg\r\n", p.speed, p.from))
		p.streamLater(at.Add(ploverEvery))
	})
}

func (p *plover) Heard(at time.Time, b []byte) {
	if p.stream {
		return
	}
	for _, c := range b {
		switch c {
		case 0x57:
			p.wind()
			tenths := int(p.speed*10 + 0.5)
			answer := []byte{0xa7, byte(tenths >> 8), byte(tenths), byte(p.from >> 8), byte(p.from)}
			sum := byte(0)
			for _, v := range answer {
				sum += v
			}
			p.Say(at, string(append(answer, sum)))
		case 0x49:
			p.Say(at, "\xa8\x02\x01\x04")
		default:
			p.Say(at, string([]byte{0xee, c}))
		}
	}
}

func (p *plover) Hand(_ time.Time, words []string) error {
	if len(words) != 2 || words[0] != "jumper" || words[1] != "on" && words[1] != "off" {
		return errors.New("a Plover has a jumper: jumper on, jumper off")
	}
	p.jumper = words[1] == "on"
	return nil
}
