package families

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/sim"
)

// redshank is a relay and input board, made up for the Larkfell cableway. It
// reports once a second by itself, whatever else goes on:
//
//	inputs 1011 relays 0010 board 7
//
// and obeys lines that end with LF or CR:
//
//	relay N on, relay N off     N from 1 to 4; answers "relay N is on"
//	who                         "redshank board 7"
//	every T                     reports every T milliseconds, 100..60000; 0 stops
//
// Anything else is answered with "what? " and the line.
type redshank struct {
	*sim.Unit
	bench  *sim.Bench
	board  int
	relays [4]bool
	every  time.Duration
	round  int // counts changes of the interval, so that old plans are dropped
	typed  typed
}

func newRedshank(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	r := &redshank{Unit: u, bench: b, board: 1}
	for key, v := range u.Settings {
		n, err := strconv.Atoi(v)
		if key != "board" || err != nil || n < 0 || n > 99 {
			return nil, fmt.Errorf("a Redshank has the setting board, 0 to 99, not %s = %s", key, v)
		}
		r.board = n
	}
	for i := range r.relays { // what gives power to others is closed when they have it
		r.relays[i] = b.Feeds(u, fmt.Sprintf("relay %d", i+1))
	}
	r.setEvery(time.Now(), time.Second)
	return r, nil
}

func (r *redshank) Power(at time.Time, on bool) {
	for i, was := range r.relays {
		if was {
			r.turn(i+1, false)
		}
	}
	r.typed = typed{}
	r.round++
	if on {
		r.setEvery(at, time.Second)
	}
}

func (r *redshank) setEvery(at time.Time, every time.Duration) {
	r.every = every
	r.round++
	if every > 0 {
		r.reportLater(at, r.round)
	}
}

func (r *redshank) reportLater(at time.Time, round int) {
	r.bench.Later(r.Unit, at.Add(r.every), func(at time.Time) {
		if r.round != round {
			return
		}
		inputs := r.bench.Noise.IntN(16)
		relays := 0
		for i, on := range r.relays {
			if on {
				relays |= 8 >> i
			}
		}
		r.Say(at, fmt.Sprintf("inputs %04b relays %04b board %d\r\n", inputs, relays, r.board))
		r.reportLater(at, round)
	})
}

func (r *redshank) Heard(at time.Time, b []byte) {
	for _, c := range b {
		if line, over := r.typed.take(c); over && line != "" {
			r.Say(at, r.obey(at, line)+"\r\n")
		}
	}
}

// turn switches a relay, and with it what hangs on it.
func (r *redshank) turn(n int, on bool) {
	r.relays[n-1] = on
	r.bench.Switched(r.Unit, fmt.Sprintf("relay %d", n), on)
}

func (r *redshank) obey(at time.Time, line string) string {
	words := strings.Fields(line)
	number := func(i, low, high int) (int, bool) {
		if len(words) <= i {
			return 0, false
		}
		n, err := strconv.Atoi(words[i])
		return n, err == nil && n >= low && n <= high
	}
	switch words = append(words, ""); words[0] {
	case "who":
		return fmt.Sprintf("redshank board %d", r.board)
	case "relay":
		if n, ok := number(1, 1, len(r.relays)); ok && (words[2] == "on" || words[2] == "off") {
			r.turn(n, words[2] == "on")
			return fmt.Sprintf("relay %d is %s", n, words[2])
		}
	case "every":
		if n, ok := number(1, 100, 60000); ok || n == 0 && words[1] == "0" {
			r.setEvery(at, time.Duration(n)*time.Millisecond)
			return fmt.Sprintf("every %d", n)
		}
	}
	return "what? " + line
}
