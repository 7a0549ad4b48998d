package sim

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// Air says what happens to messages between radios. Shares are from 0 to 1; at
// most one of the four befalls a message.
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

// defaultBuffer is how many bytes wait for the air where nothing is said.
const defaultBuffer = 4096

// Strength by distance: the log-distance path loss model with 40 dB at one
// metre and exponent 2.7, and a normal spread of 2 dB from message to message.
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
	held    []*message
	bad     bool                    // in a burst of losses
	run     int                     // lost one after the other, up to now
	airFree time.Time               // when the message before has left the air
	waiting []*message              // for the air
	began   time.Time               // of the first message, for a walk
	delays  *hdrhistogram.Histogram // microseconds
}

// message is one message on its way along a path.
type message struct {
	index    int
	sent     time.Time
	due      time.Time
	from     string
	payload  []byte
	leaves   time.Time // the air
	long     bool      // its preamble, so that sleepers hear it
	strength int       // dBm
	snr      float64   // dB
	damaged  bool
}

func newPath(a Air, from, to string) *path {
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
func (b *Bench) carry(at time.Time, p *path, to radio, m *message, distance float64, power int) {
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
	m.strength = int(math.Round(strength))
	m.snr = math.Round(10*min(bestSNR, strength-noiseFloor)) / 10
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
			to.receive(at, m)
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
func (p *path) enterAir(a Air, at time.Time, m *message) bool {
	m.leaves = at
	if a.Rate == 0 && a.Preamble == 0 {
		return true
	}
	waiting := 0
	kept := p.waiting[:0]
	for _, w := range p.waiting {
		if w.leaves.After(at) {
			waiting += len(w.payload)
			kept = append(kept, w)
		}
	}
	p.waiting = kept
	room := a.Buffer
	if room == 0 {
		room = defaultBuffer
	}
	if waiting+len(m.payload) > room {
		return false
	}
	m.leaves = later(at, p.airFree).Add(a.Preamble)
	if a.Rate > 0 {
		m.leaves = m.leaves.Add(time.Duration(float64(len(m.payload)*8) / a.Rate * float64(time.Second)))
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
func (m *message) damage(rng *rand.Rand) {
	m.damaged = true
	if len(m.payload) == 0 {
		return
	}
	was := string(m.payload)
	for range 1 + rng.IntN(3) {
		m.payload[rng.IntN(len(m.payload))] ^= byte(1 + rng.IntN(255))
	}
	if string(m.payload) == was { // two changes undid each other
		m.payload[0] ^= 1
	}
}

// arrive hands a message to its receiver and notes what came of it.
func (b *Bench) arrive(at time.Time, p *path, to radio, m *message) {
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
	to.receive(at, m)
	b.changed()
}
