package link

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/uart"
)

// codec is one way in which frames travel, as the line between sees them.
type codec struct {
	setup  phrasebook.Setup
	book   string // of the modules
	sizes  []int  // of frames
	edge   byte   // what tells one frame from the next; no fault makes one
	unwrap func([]byte) []byte
	wrap   func([]byte) string
}

var codecs = map[string]codec{
	"binary": {
		sizes: []int{36, 40, 77, 300}, edge: 0,
		unwrap: func(b []byte) []byte { return bytes.Trim(b, "\x00") },
		wrap:   func(b []byte) string { return "\x00" + string(b) + "\x00" },
	},
	"text": {
		setup: phrasebook.Setup{Frame: &uart.Frame{DataBits: 7, Parity: uart.Even}},
		sizes: []int{24, 30, 64}, edge: '\n',
		unwrap: func(b []byte) []byte { return bytes.TrimRight(b, "\n") },
		wrap:   func(b []byte) string { return string(b) + "\n" },
	},
	"carrier": {
		book:  "family = \"Fulmar\"\ndialect = \"at\"\n[carrier]\nsend = \"AT~PASS={payload}\"\narrives = \"~CAME: {payload}\"\ngreatest = 96\nallowed = \"text\"\n",
		sizes: []int{24, 48, 96}, edge: '\n',
		unwrap: func(b []byte) []byte { return bytes.TrimRight(bytes.TrimPrefix(b, []byte("AT~PASS=")), "\r\n") },
		wrap:   func(b []byte) string { return "\r\n~CAME: " + string(b) + "\r\n" },
	},
}

// fated is one frame on such a line.
type fated struct {
	sent, came time.Time // came whole
	copies     int
	order      bool
	harm       Harm
	refused    bool
}

// faultyLine carries frames one way, spoils some, and knows what it did.
type faultyLine struct {
	codec
	rng  *rand.Rand
	out  io.Writer
	slow time.Duration

	mu           sync.Mutex
	frames       []fated
	highest      int
	foreign      int
	foreignBytes int
	held         []byte // waits to be overtaken, or to be run together with the next
	merge        bool
}

// byteHere is one that is part of a frame.
func (l *faultyLine) byteHere(not byte) byte {
	for {
		b := byte(1 + l.rng.IntN(255))
		if l.edge != 0 {
			b = byte('!' + l.rng.IntN(94)) // blanks around a payload are not told from the carrier's
		}
		if b != not {
			return b
		}
	}
}

// deliver hands bytes on after a while, then tells.
func (l *faultyLine) deliver(after time.Duration, text string, then func(time.Time)) {
	time.AfterFunc(after, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if _, err := io.WriteString(l.out, text); err == nil { // else the line is gone
			then(time.Now())
		}
	})
}

func (l *faultyLine) whole(n int, after time.Duration, b []byte) {
	l.deliver(after, l.wrap(b), func(now time.Time) {
		f := &l.frames[n]
		if !f.came.IsZero() {
			f.copies++
			return
		}
		f.came, f.order = now, n < l.highest
		l.highest = max(l.highest, n)
	})
}

func (l *faultyLine) spoil(n int, how Harm, pieces ...[]byte) {
	text := ""
	for _, p := range pieces {
		text += l.wrap(p)
	}
	l.deliver(l.slow, text, func(time.Time) { l.frames[n].harm = how })
}

// take takes one frame in; last says that the next ones must not be late.
func (l *faultyLine) take(b []byte, last bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := len(l.frames)
	l.frames = append(l.frames, fated{sent: time.Now()})
	b = bytes.Clone(l.unwrap(b))
	if before := l.held; before != nil {
		l.held = nil
		if !l.merge { // the one before is overtaken
			l.whole(n, l.slow, b)
			l.whole(n-1, l.slow+3*time.Millisecond, before)
			return
		}
		between := ""
		if l.rng.IntN(2) == 0 { // the ends were altered, not lost
			between = string([]byte{l.byteHere(0), l.byteHere(0)})
		}
		l.deliver(l.slow, l.wrap(append(append(before, between...), b...)), func(time.Time) {
			l.frames[n-1].harm, l.frames[n].harm = Merged, Merged
		})
		return
	}
	const head, end = 16, 8 // as much of either must be left that it is known
	room := len(b) - head - end
	switch fate := l.rng.Float64(); {
	case n == 0 || fate > 0.5:
		l.whole(n, l.slow, b)
	case fate < 0.05: // lost
	case fate < 0.08:
		l.whole(n, l.slow, b)
		l.whole(n, l.slow+5*time.Millisecond, b)
	case fate < 0.12 && !last:
		l.whole(n, 2*time.Second+l.slow, b)
	case fate < 0.20:
		was := bytes.Clone(b)
		for range 1 + l.rng.IntN(3) {
			i := l.rng.IntN(len(b))
			b[i] = l.byteHere(was[i])
		}
		l.spoil(n, Damaged, b)
	case fate < 0.23: // some more bytes in its midst
		at, more := head+l.rng.IntN(max(1, room)), make([]byte, 1+l.rng.IntN(5))
		for i := range more {
			more[i] = l.byteHere(0)
		}
		l.spoil(n, Damaged, slices.Insert(b, at, more...))
	case fate < 0.26:
		l.spoil(n, Cut, b[:head+l.rng.IntN(len(b)-head)])
	case fate < 0.29:
		l.spoil(n, Cut, b[1+l.rng.IntN(len(b)-end):])
	case fate < 0.32 && room > 0:
		at := head + l.rng.IntN(room)
		l.spoil(n, Cut, append(b[:at:at], b[at+1+l.rng.IntN(len(b)-end-at):]...))
	case fate < 0.35 && room > 0 && l.book == "": // an end where there was none
		at := head + l.rng.IntN(room)
		l.spoil(n, Cut, b[:at], b[at+1:])
	case fate < 0.42 && !last:
		l.held, l.merge = b, fate < 0.39
	case fate < 0.50: // something else comes before it
		noise := make([]byte, 1+l.rng.IntN(2*len(b)))
		for i := range noise {
			noise[i] = l.byteHere(0)
		}
		if l.rng.IntN(2) == 0 {
			noise = noise[:min(len(noise), len(b))]
		}
		l.deliver(l.slow-time.Millisecond, l.wrap(noise), func(time.Time) {
			l.foreign++
			l.foreignBytes += len(noise)
		})
		l.whole(n, l.slow, b)
	default:
		l.whole(n, l.slow, b)
	}
}

// The counts are those of the line between, whatever it does to frames, as they are and
// through text, whether a test comes to its end or is cut short.
func TestCountsOnFaultyLines(t *testing.T) {
	const count, deadline = 300, 2 * time.Second
	for name, c := range codecs {
		for seed := range *seeds {
			t.Run(fmt.Sprintf("%s/%d", name, seed), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					a, aModule := port.Pipe("a", uart.DefaultLine)
					b, bModule := port.Pipe("b", uart.DefaultLine)
					rng := rand.New(rand.NewPCG(seed, 14))
					l := &faultyLine{codec: c, rng: rng, out: bModule, slow: time.Duration(10+rng.IntN(90)) * time.Millisecond, highest: -1}
					cutAt := math.MaxInt
					if seed%4 == 3 {
						cutAt = 150 + rng.IntN(100)
					}
					var book *phrasebook.Phrasebook
					if c.book != "" {
						var err error
						if book, err = phrasebook.Parse("fulmar.toml", c.book); err != nil {
							t.Fatal(err)
						}
						c.setup = book.Setup()
					}
					go func() {
						buf := make([]byte, 4096)
						for n := 0; ; n++ {
							k, err := aModule.Read(buf)
							if err != nil {
								return
							}
							if n == cutAt {
								bModule.Close()
								return
							}
							if book != nil && n > 0 && rng.IntN(30) == 0 {
								l.mu.Lock()
								l.frames = append(l.frames, fated{sent: time.Now(), refused: true})
								l.held = nil
								l.mu.Unlock()
								io.WriteString(aModule, "\r\nERROR\r\n")
								continue
							}
							l.take(buf[:k], n > count-110)
							if book != nil {
								io.WriteString(aModule, "\r\nOK\r\n")
							}
						}
					}()
					station := func(p port.Port) *bench.Station {
						return &bench.Station{Name: p.Name(), Setup: c.setup, Phrasebook: book, Dial: func() (port.Port, error) { return p, nil }}
					}
					test := &Test{Plan: Plan{Count: count, Every: 20 * time.Millisecond, Size: c.sizes[int(seed)%len(c.sizes)], Deadline: deadline, Seed: seed + 1}, A: station(a), B: station(b), Sleep: time.Sleep}
					if err := test.Check(); err != nil {
						t.Fatal(err)
					}
					sum, err := test.Do(context.Background())
					if (err != nil) != (cutAt < count) {
						t.Fatal(err)
					}
					if got, want := counts(sum.Directions[0]), l.counts(cutAt < count, deadline, sum.Directions[0].Sent); got != want {
						t.Errorf("%s\ngot  %s\nwant %s", strings.Join(strings.Fields("sent under received late lost damaged cut merged duplicated reordered foreign bytes refused"), " "), got, want)
					}
				})
			})
		}
	}
}

// counts are those of a direction, as l.counts has them.
func counts(d Direction) string {
	return fmt.Sprint(d.Sent, d.UnderWay, d.Received, d.Late, d.Lost, d.Damaged, d.Cut, d.Merged, d.Duplicated, d.Reordered, d.Foreign, d.ForeignBytes, d.Refused)
}

// counts are what a test must find, that has sent so many frames.
func (l *faultyLine) counts(cut bool, deadline time.Duration, sent int) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	d := Direction{Sent: sent, UnderWay: sent - len(l.frames), Foreign: l.foreign, ForeignBytes: l.foreignBytes}
	for _, f := range l.frames {
		d.Duplicated += f.copies
		switch {
		case !f.came.IsZero():
			d.Received++
			if f.came.Sub(f.sent) > deadline {
				d.Late++
			}
			if f.order {
				d.Reordered++
			}
		case f.harm == "" && !f.refused && cut && time.Since(f.sent) <= deadline:
			d.UnderWay++
		default:
			d.Lost++
			d.Harms.add(f.harm)
			if f.refused {
				d.Refused++
			}
		}
	}
	return counts(d)
}
