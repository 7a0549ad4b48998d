package sim

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"uparrot/core/bench"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// defaultBuffer is how many bytes wait for the air where nothing is said.
const defaultBuffer = 4096

// Strength by distance: the log-distance path loss model with 40 dB at one
// metre and exponent 2.7, and a normal spread of 2 dB from Message to message.
const (
	lossAtMetre  = 40.0   // dB
	lossExponent = 2.7    // free space has 2
	strengthDev  = 2.0    // dB
	noiseFloor   = -117.0 // dBm
	leastHeard   = -126.0 // dBm: weaker messages are lost
	bestSNR      = 14.0   // dB: what the receiver can still tell
)

// holdLimit is how long a message waits to be overtaken by the next. Where none
// comes, it is delivered in order.
const holdLimit = 500 * time.Millisecond

// copyDelay is how long after a message its duplicate arrives.
const copyDelay = 3 * time.Millisecond

// Truth is what the air did to the messages in one direction. Lost counts those
// that did not arrive whole, as RFC 7680 does: dropped on the way or damaged.
// So Sent is Carried and Lost and those still on the way.
type Truth struct {
	From       string  `json:"from"`
	To         string  `json:"to"`
	Sent       int     `json:"sent"`
	Carried    int     `json:"carried"` // arrived whole, each counted once
	Lost       int     `json:"lost"`
	Dropped    int     `json:"dropped"`
	Duplicated int     `json:"duplicated"` // second copies
	Reordered  int     `json:"reordered"`  // arrived after a later one (RFC 4737)
	Damaged    int     `json:"damaged"`    // arrived with bytes altered
	Runs       int     `json:"runs"`       // stretches lost one after the other, in the order of sending
	Longest    int     `json:"longest"`    // messages in the longest
	DelayMS    float64 `json:"delay_ms"`   // median of those carried
	DelayMinMS float64 `json:"delay_min_ms"`
	DelayMaxMS float64 `json:"delay_max_ms"`
}

// path is the air in one direction.
type path struct {
	truth   Truth
	rng     *rand.Rand
	count   int       // messages so far
	highest int       // of those delivered whole, the latest sent
	free    time.Time // delivery of the message before: none overtakes by itself
	held    []*Message
	bad     bool                    // in a burst of losses
	run     int                     // lost one after the other, up to now
	airFree time.Time               // when the message before has left the air
	waiting []*Message              // for the air
	began   time.Time               // of the first message, for a walk
	delays  *hdrhistogram.Histogram // microseconds
}

// message is one message on its way along a path.
type Message struct {
	index    int
	sent     time.Time
	due      time.Time
	From     string // the sender's address
	Payload  []byte
	leaves   time.Time     // the air
	Preamble time.Duration // that it was sent with
	Strength int           // dBm
	SNR      float64       // dB
	damaged  bool
}

func newPath(a bench.Air, from, to string) *path {
	h := fnv.New64a()
	h.Write([]byte(from + "\x00" + to)) // a hash never fails
	return &path{
		truth:   Truth{From: from, To: to},
		rng:     rand.New(rand.NewPCG(a.Seed, h.Sum64())),
		highest: -1,
		delays:  hdrhistogram.New(1, int64(time.Minute/time.Microsecond), 3),
	}
}

// carry takes a message from one radio to another. The draws are made in the
// order of sending, so that a seed always gives the same fate.
func (b *Bench) carry(at time.Time, p *path, to Radio, m *Message, distance float64, power int) {
	a := b.air
	m.index, m.sent = p.count, at
	p.count++
	p.truth.Sent++
	if p.began.IsZero() {
		p.began = at
	}
	distance += a.Walk * at.Sub(p.began).Seconds()
	if p.bad {
		p.bad = p.rng.Float64() >= a.Leave
	} else {
		p.bad = p.rng.Float64() < a.Enter
	}
	fate := p.rng.Float64()
	delay := a.Delay + time.Duration(p.rng.Float64()*float64(a.Spread))
	strength := float64(power) - lossAtMetre - 10*lossExponent*math.Log10(max(1, distance)) + strengthDev*p.rng.NormFloat64()
	m.Strength = int(math.Round(strength))
	m.SNR = math.Round(10*min(bestSNR, strength-noiseFloor)) / 10
	fits := p.enterAir(a, at, m)
	if m.due = m.leaves.Add(delay); m.due.Before(p.free) {
		m.due = p.free
	}
	below := func(share float64) bool { fate -= share; return fate < 0 }
	arrive := func(at time.Time) { b.arrive(at, p, to, m) }
	defer b.changed()
	switch {
	case !fits || p.bad || below(a.Loss) || strength < leastHeard:
		p.truth.Lost++
		p.truth.Dropped++
		p.lose()
		return
	case below(a.Damage):
		p.lose()
		m.damage(p.rng)
		p.free = m.due
		b.clock.plan(m.due, arrive)
		return
	}
	p.run = 0
	switch {
	case below(a.Reorder):
		p.held = append(p.held, m)
		b.clock.plan(m.due.Add(holdLimit), func(at time.Time) {
			if i := slices.Index(p.held, m); i >= 0 {
				p.held = slices.Delete(p.held, i, i+1)
				b.arrive(at, p, to, m)
			}
		})
		return
	case below(a.Duplicate):
		b.clock.plan(m.due.Add(copyDelay), func(at time.Time) {
			p.truth.Duplicated++
			to.Receive(at, m)
			b.changed()
		})
	}
	p.free = m.due
	b.clock.plan(m.due, arrive)
	for _, h := range p.held { // this one has overtaken them
		b.clock.plan(later(h.due, m.due), func(at time.Time) { b.arrive(at, p, to, h) })
	}
	p.held = nil
}

// lose notes that one more in a row is lost.
func (p *path) lose() {
	if p.run++; p.run == 1 {
		p.truth.Runs++
	}
	p.truth.Longest = max(p.truth.Longest, p.run)
}

// enterAir says when a message has left the air, which carries one at a time. It
// reports whether there was room for it to wait.
func (p *path) enterAir(a bench.Air, at time.Time, m *Message) bool {
	m.leaves = at
	if a.Rate == 0 && a.Preamble == 0 {
		return true
	}
	waiting := 0
	kept := p.waiting[:0]
	for _, w := range p.waiting {
		if w.leaves.After(at) {
			waiting += len(w.Payload)
			kept = append(kept, w)
		}
	}
	p.waiting = kept
	room := a.Buffer
	if room == 0 {
		room = defaultBuffer
	}
	if waiting+len(m.Payload) > room {
		return false
	}
	m.leaves = later(at, p.airFree).Add(a.Preamble)
	if a.Rate > 0 {
		m.leaves = m.leaves.Add(time.Duration(float64(len(m.Payload)*8) / a.Rate * float64(time.Second)))
	}
	p.airFree = m.leaves
	p.waiting = append(p.waiting, m)
	return true
}

// sum is the truth so far.
func (p *path) sum() Truth {
	t := p.truth
	t.DelayMS = float64(p.delays.ValueAtQuantile(50)) / 1000
	t.DelayMinMS = float64(p.delays.Min()) / 1000
	t.DelayMaxMS = float64(p.delays.Max()) / 1000
	return t
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// damage alters one to three bytes.
func (m *Message) damage(rng *rand.Rand) {
	m.damaged = true
	if len(m.Payload) == 0 {
		return
	}
	was := string(m.Payload)
	for range 1 + rng.IntN(3) {
		m.Payload[rng.IntN(len(m.Payload))] ^= byte(1 + rng.IntN(255))
	}
	if string(m.Payload) == was { // two changes undid each other
		m.Payload[0] ^= 1
	}
}

// arrive hands a message to its receiver and notes what came of it.
func (b *Bench) arrive(at time.Time, p *path, to Radio, m *Message) {
	t := &p.truth
	if m.damaged {
		t.Damaged++
		t.Lost++
	} else {
		t.Carried++
		if m.index < p.highest {
			t.Reordered++
		}
		p.highest = max(p.highest, m.index)
		_ = p.delays.RecordValue(at.Sub(m.sent).Microseconds()) // a minute is never exceeded
	}
	to.Receive(at, m)
	b.changed()
}
