package link

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"math"
	"sort"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/link/frame"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/sim"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// seeds is how many simulated links are counted: 1000 with -args -seeds 1000.
var seeds = flag.Uint64("seeds", 25, "how many simulated links are counted")

// What limits make of frames, in the order of sending: . in time, s slow, L late, x lost,
// u under way.
func TestVerdicts(t *testing.T) {
	limit := func(f float64) *float64 { return &f }
	loss, p95 := Limits{MaxLoss: limit(0.02)}, Limits{MaxP95MS: limit(50)}
	frames := func(parts ...any) (all string) {
		for i := 0; i < len(parts); i += 2 {
			all += strings.Repeat(parts[i].(string), parts[i+1].(int))
		}
		return all
	}
	for _, c := range []struct {
		frames string
		limits Limits
		want   verdict.Verdict
		words  string
	}{
		{frames(".", 200), loss, verdict.Passed, "keeps"},
		{frames(".", 50), loss, verdict.Undecided, "about 190 frames in all"}, // no zero-loss claim after fifty
		{frames("x........", 22), loss, verdict.Failed, "breaks"},
		{frames("L........", 22), loss, verdict.Failed, "lost or late"}, // one waiting time decides both
		{frames(".", 190, "x", 1, ".", 9), loss, verdict.Undecided, "frames in all"},
		{frames("x", 200), Limits{}, verdict.Failed, "nothing arrived"},
		{frames(".", 22, "x", 78), Limits{}, verdict.Measured, "no limits"},
		{frames(".", 200), p95, verdict.Passed, "keeps"},
		{frames("...................s", 10), p95, verdict.Undecided, ""},
		{frames("....s", 40), p95, verdict.Failed, "breaks"},
		{frames("..x", 67), p95, verdict.Failed, "or were lost"}, // a lost frame is later than any limit
		{frames(".", 190, "x", 10), loss, verdict.Undecided, ""}, // one burst: it may never come again
		{frames(".", 200, "u", 50), loss, verdict.Passed, "keeps"},
		{frames("u", 5), Limits{}, verdict.Undecided, "cut short"},
		{"", Limits{}, verdict.Untested, "no frame"},
	} {
		over := time.Duration(0)
		if c.limits.MaxP95MS != nil {
			over = 50 * time.Millisecond
		}
		ta, now := newTally(0, time.Second, over, nil), time.Unix(0, 0)
		for i, f := range c.frames {
			at := now.Add(time.Duration(i) * time.Microsecond)
			if f == 'u' {
				at = at.Add(time.Hour)
			}
			ta.sent(at, at)
			if after, ok := map[rune]time.Duration{'.': 40 * time.Millisecond, 's': 60 * time.Millisecond, 'L': 2 * time.Second}[f]; ok {
				ta.arrived(uint32(i), at.Add(after), 0, math.NaN(), math.NaN(), 24)
			}
		}
		ta.close(now.Add(time.Hour), true)
		d := ta.direction("a", "b")
		if d.Sent != d.Received+d.Lost+d.UnderWay || d.UnderWay != strings.Count(c.frames, "u") {
			t.Errorf("%.20s...: %d sent, %d received, %d lost, %d under way", c.frames, d.Sent, d.Received, d.Lost, d.UnderWay)
		}
		if d.judge(c.limits, &ta.outcomes, latched{}, false); d.Verdict != c.want || !strings.Contains(strings.Join(d.Why, "; "), c.words) {
			t.Errorf("%.30s... %+v: %s (%v), want %s, %s", c.frames, c.limits, d.Verdict, d.Why, c.want, c.words)
		}
	}
}

// What a tally tells beside its counts: a sender that was held up hides no queue, frames
// that came too fast give no split, what came and was no frame is named, and a checkpoint
// adds no interval of its own.
func TestWhatIsToldBeside(t *testing.T) {
	const every = 20 * time.Millisecond
	for name, c := range map[string]struct {
		stall         time.Duration // of the sender, after half of the frames
		wire          time.Duration
		frames        int
		planned, fast bool
	}{
		"on time":            {frames: 200, wire: 5 * time.Millisecond},
		"held up":            {frames: 200, stall: 3 * time.Second, wire: 5 * time.Millisecond, planned: true},
		"held up, of few":    {frames: 4, stall: 3 * time.Second, wire: 5 * time.Millisecond, planned: true},
		"faster than a line": {frames: 200, wire: 11 * time.Millisecond, fast: true},
	} {
		ta, start := newTally(0, time.Second, 0, nil), time.Unix(0, 0)
		for i := range c.frames {
			planned := start.Add(time.Duration(i) * every)
			at := planned
			if i >= c.frames/2 && at.Before(start.Add(time.Duration(c.frames/2)*every+c.stall)) {
				at = start.Add(time.Duration(c.frames/2)*every + c.stall)
			}
			n := ta.sent(planned, at)
			ta.arrived(uint32(n), at.Add(10*time.Millisecond), c.wire, math.NaN(), math.NaN(), 24)
		}
		ta.close(start.Add(time.Hour), false)
		d := ta.direction("a", "b")
		if (d.PlannedMS != nil) != c.planned || d.LatencyMS.Median > 10.1 || c.planned && d.PlannedMS.P90 < 1000 || (d.Lag.Max > 1000) != c.planned {
			t.Errorf("%s: from sending %+v, from the plan %+v, lag %+v", name, d.LatencyMS, d.PlannedMS, d.Lag)
		}
		if (d.TooFast > 0) != c.fast || (d.WireMS == 0) != c.fast {
			t.Errorf("%s: %d too fast, %v ms on the lines", name, d.TooFast, d.WireMS)
		}
		if c.stall == 0 && math.Abs(d.KeptMS-20) > 0.001 {
			t.Errorf("%s: every %v ms", name, d.KeptMS)
		}
	}
	ta, start := newTally(0, time.Second, 0, nil), time.Unix(0, 0)
	for i := range 10 {
		ta.sent(start, start.Add(time.Duration(i)*every))
	}
	state, _, _ := ta.state("a", "b", start.Add(time.Hour))
	on := newTally(0, time.Second, 0, nil)
	if err := on.restore(state); err != nil {
		t.Fatal(err)
	}
	for i := range 10 { // a day later
		on.sent(start, start.Add(24*time.Hour+time.Duration(i)*every))
	}
	on.gotForeign(7)
	on.close(start.Add(48*time.Hour), false)
	d := on.direction("a", "b")
	if math.Abs(d.KeptMS-20) > 0.001 || d.Sent != 20 || d.Lost != 20 {
		t.Errorf("gone on: every %v ms, %d sent, %d lost", d.KeptMS, d.Sent, d.Lost)
	}
	if d.judge(Limits{}, &on.outcomes, latched{}, false); d.Verdict != verdict.Failed || !strings.Contains(d.Why[0], "no whole frame arrived, but 7 bytes") {
		t.Errorf("%s: %v", d.Verdict, d.Why)
	}
}

// What a sure test has decided stays decided, whatever comes after.
func TestDecidedStays(t *testing.T) {
	limit := 0.1
	ta, now := newTally(0, time.Millisecond, 0, nil), time.Unix(0, 0)
	send := func(n int, lost bool) {
		for range n {
			if k := ta.sent(now, now); !lost {
				ta.arrived(uint32(k), now, 0, math.NaN(), math.NaN(), 24)
			}
		}
	}
	send(2500, false)
	if !ta.decided(now.Add(time.Second), Limits{MaxLoss: &limit}, 0) {
		t.Fatal("2500 frames without a loss decide nothing")
	}
	send(375, true)
	ta.close(now.Add(time.Hour), false)
	d := ta.direction("a", "b")
	if d.judge(Limits{MaxLoss: &limit}, &ta.outcomes, ta.latched, true); d.Verdict != verdict.Passed || !strings.Contains(d.Why[0], "decided after 2500 frames") {
		t.Errorf("%s: %v", d.Verdict, d.Why)
	}
}

// The number on the wire has 32 bits, and a test may have more frames than that.
func TestNumbersGoOn(t *testing.T) {
	ta := newTally(0, time.Second, 0, nil)
	now := time.Unix(0, 0)
	for _, near := range []uint64{1 << 32, 2 << 32} {
		ta.next, ta.oldest, ta.known, ta.highest = near-10, near-10, int(near-10), int64(near-11)
		ta.frames = make([]Row, windowSize)
		before := ta.received
		for range 20 {
			n := ta.sent(now, now)
			ta.arrived(uint32(n), now.Add(time.Millisecond), 0, math.NaN(), math.NaN(), 24)
			if r := ta.frames[n%windowSize]; r.Number != n || r.State != OnTime {
				t.Errorf("%d: %+v", n, r)
			}
		}
		ta.arrived(uint32(near+5), now.Add(2*time.Millisecond), 0, math.NaN(), math.NaN(), 24) // a copy of one beyond
		if ta.received-before != 20 || ta.reordered != 0 || ta.foreign != 0 {
			t.Errorf("at %d: %d received, %d reordered, %d foreign", near, ta.received-before, ta.reordered, ta.foreign)
		}
	}
	if ta.duplicated != 2 {
		t.Errorf("%d copies", ta.duplicated)
	}
	if none := newTally(0, time.Second, 0, nil); none.extend(7) < math.MaxUint64 {
		t.Error("a frame that nobody sent has a number")
	}
}

// A long run needs no more memory than a short one, and what falls out of the
// windowSize is settled in the order of sending.
func TestTallyWindow(t *testing.T) {
	var rows int
	ta := newTally(0, time.Second, 0, func(r Row) {
		if int(r.Number) != rows {
			t.Fatalf("row %d came as %d", r.Number, rows)
		}
		rows++
	})
	now := time.Unix(0, 0)
	const n = 3*windowSize + 5
	for i := range uint32(n) {
		ta.sent(now, now)
		if i%3 > 0 {
			ta.arrived(i, now.Add(time.Millisecond), 0, math.NaN(), math.NaN(), 24)
		}
	}
	ta.arrived(1, now, 0, 0, 0, 24)          // settled long ago
	ta.arrived(n+1, now, 0, 0, 0, 24)        // never sent
	ta.arrived(n-1, now.Add(9), 0, 0, 0, 24) // a copy, or the frame itself
	ta.close(now.Add(time.Hour), false)
	d := ta.direction("a", "b")
	if rows != n || d.Sent != n || d.Foreign != 1 || len(ta.frames) != windowSize || d.Lost+d.Received != n {
		t.Errorf("%d rows, %+v", rows, d)
	}
}

// Over a cable, a loop and a radio that stores a frame before it hands it on, the latency is
// that of the lines and the radio, at any speed, and its parts never exceed the whole.
func TestLatencyIsTheTruth(t *testing.T) {
	for _, speed := range []int{1200, 9600, 115200, 921600} {
		for _, kind := range []string{"cable", "loop", "radio"} {
			synctest.Test(t, func(t *testing.T) {
				line := uart.Line{Speed: speed}
				const air = 30 * time.Millisecond
				ends, fars := []*bench.Station{}, []io.ReadWriteCloser{}
				for _, name := range []string{"a", "b"} {
					host, far := port.Pipe(name, line)
					fars = append(fars, far)
					ends = append(ends, &bench.Station{Name: name, Setup: phrasebook.Setup{Speed: speed}, Dial: func() (port.Port, error) { return host, nil }})
				}
				to := fars[1]
				if kind == "loop" {
					to = fars[0]
				}
				go func() { // the line: each byte takes its time, and waits for the one before
					buf := make([]byte, 4096)
					for {
						n, err := fars[0].Read(buf)
						if err != nil {
							return
						}
						if kind == "radio" { // the whole frame first, then the air, then the other line
							time.Sleep(line.Time(n) + air)
						}
						for i := range n {
							time.Sleep(line.Time(i+1) - line.Time(i))
							to.Write(buf[i : i+1])
						}
					}
				}()
				test := &Test{Plan: Plan{Count: 40, Every: 2 * time.Second, Deadline: 5 * time.Second}, A: ends[0], B: ends[1], Sleep: time.Sleep}
				if kind == "loop" {
					test.B = nil
				}
				if err := test.Check(); err != nil {
					t.Fatal(err)
				}
				sum, err := test.Do(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				d := sum.Directions[0]
				pass := ms(line.Time(d.SentBytes))
				want := map[string]float64{"cable": pass, "loop": pass, "radio": 2*pass + ms(air)}[kind]
				if l := d.LatencyMS; l == nil || d.Received != 40 || d.TooFast > 0 || math.Abs(float64(l.Median)-want) > 0.2 || d.WireMS > float64(l.Min)+0.1 || d.WireMS < pass-0.1 {
					t.Errorf("%d baud, %s: latency %+v, want %.3f; %.3f on the lines (%s), %d too fast", speed, kind, l, want, d.WireMS, d.Passes, d.TooFast)
				}
				for _, f := range fars {
					f.Close()
				}
				time.Sleep(time.Second)
			})
		}
	}
}

// Every count is the air's truth, and the median latency is its delay and the
// time on the wire, over many seeds.
func TestCountsAreTheTruth(t *testing.T) {
	for seed := range *seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				air := bench.Air{Seed: seed, Loss: 0.05, Damage: 0.04, Duplicate: 0.04, Reorder: 0.04, Delay: 30 * time.Millisecond, Spread: 20 * time.Millisecond}
				if seed%2 == 1 { // losses that stand together, and an air slower than the wire
					air.Enter, air.Leave, air.Rate, air.Preamble = 0.03, 0.3, 4800, 10*time.Millisecond
				}
				b, valley, summit := simtest.Radios(t, air, "2")
				test := &Test{Plan: Plan{Count: 300, Every: 80 * time.Millisecond, Size: 24, Both: true, Deadline: 2 * time.Second}, A: valley, B: summit, Sleep: time.Sleep}
				seen := map[string]int{}
				test.Events = rows(func(from, to string, r Row) { seen[from]++ })
				sum, err := test.Do(context.Background())
				if err != nil {
					t.Fatal(err)
				}
				truth := map[string]sim.Truth{}
				for _, tr := range b.Truth() {
					truth[tr.From] = tr
				}
				for _, d := range sum.Directions {
					tr := truth[d.From]
					got := [...]int{d.Sent, d.Received, d.Lost, d.Duplicated, d.Reordered, d.Damaged, d.Foreign, seen[d.From]}
					want := [...]int{tr.Sent, tr.Carried, tr.Lost, tr.Duplicated, tr.Reordered, tr.Damaged, 0, 300}
					if d.Bursts.Runs != tr.Runs || d.Bursts.Longest != tr.Longest {
						t.Errorf("%s: bursts %+v, want %d runs, the longest %d", d.From, d.Bursts, tr.Runs, tr.Longest)
					}
					if got != want {
						t.Errorf("%s: sent, received, lost, duplicated, reordered, damaged, foreign, rows: %v, want %v %+v", d.From, got, want, d.Harms)
					}
					came := d.Delays.Came() // the air's delay is that of those it carried
					if off := came.Quantile(0.5).Value - d.WireMS - tr.DelayMS; math.Abs(off) > 0.3 {
						t.Errorf("%s: the median is %.3f ms off the truth", d.From, off)
					}
				}
			})
		})
	}
}

func TestForeignAndBrokenEnds(t *testing.T) {
	seven := uart.Frame{DataBits: 7, Parity: uart.Even}
	for name, c := range map[string]struct {
		setup phrasebook.Setup
		size  int
		noise string
	}{
		"text":   {phrasebook.Setup{Frame: &seven}, 24, "login: \r\n\x00\xff\xfe\r\n" + string(frame.Frame{Run: 5}.Append(nil, 24)) + "\n"},
		"binary": {phrasebook.Setup{}, 40, "login: \r\n\x00\xff\xfe\r\n" + string(frame.Stamped{Frame: frame.Frame{Run: 5}}.Append(nil, 40))},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				// The far end is played by hand: noise, talk, a frame of another run,
				// a copy, a frame cut in two.
				a, aModule := port.Pipe("a", uart.DefaultLine)
				b, bModule := port.Pipe("b", uart.DefaultLine)
				go func() {
					buf := make([]byte, 100)
					for n := 0; ; n++ {
						k, err := aModule.Read(buf)
						if err != nil {
							return
						}
						switch n {
						case 0:
							io.WriteString(bModule, c.noise)
						case 1:
							bModule.Write(buf[:k])
						case 2:
							buf[3]++ // damaged
						case 3:
							continue // lost
						}
						bModule.Write(buf[:k])
						if n == 9 {
							bModule.Close()
						}
					}
				}()
				dial := func(p port.Port) *bench.Station {
					return &bench.Station{Name: p.Name(), Setup: c.setup, Dial: func() (port.Port, error) { return p, nil }}
				}
				test := &Test{Plan: Plan{Count: 100, Every: 10 * time.Millisecond, Size: c.size, Deadline: time.Second, Seed: 9}, A: dial(a), B: dial(b), Sleep: time.Sleep}
				if err := test.Check(); err != nil {
					t.Fatal(err)
				}
				sum, err := test.Do(context.Background())
				d := sum.Directions[0]
				if port.KindOf(err) != port.Vanished || sum.Verdict != verdict.Broken {
					t.Errorf("%v, %s", err, sum.Verdict)
				}
				if d.Sent < 10 || d.Received != 8 || d.Damaged != 1 || d.Duplicated != 1 || d.Foreign != 3 {
					t.Errorf("%+v", d)
				}
			})
		})
	}
}

// A sender that is late catches up in a few writes, and sends no frame before it is due nor
// any twice; each arrival is counted from its own sending.
func TestOverdueFrames(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, aModule := port.Pipe("a", uart.DefaultLine)
		b, bModule := port.Pipe("b", uart.DefaultLine)
		var writes, sleeps atomic.Int64
		go func() {
			buf := make([]byte, 4096)
			for {
				n, err := aModule.Read(buf)
				if err != nil {
					bModule.Close()
					return
				}
				writes.Add(1)
				time.Sleep(time.Millisecond)
				bModule.Write(buf[:n])
			}
		}()
		dial := func(p port.Port) *bench.Station {
			return &bench.Station{Name: p.Name(), Dial: func() (port.Port, error) { return p, nil }}
		}
		test := &Test{Plan: Plan{Count: 400, Every: 10 * time.Millisecond, Size: 24, Deadline: time.Second}, A: dial(a), B: dial(b), Sleep: func(d time.Duration) {
			if sleeps.Add(1)%10 == 0 {
				d += 55 * time.Millisecond
			}
			time.Sleep(d)
		}}
		var last time.Time
		late := 0
		test.Events = rows(func(_, _ string, r Row) {
			if r.Sent.Before(r.Planned) || r.Sent.Before(last) || r.Arrived.Sub(r.Sent) < time.Millisecond || r.Arrived.Sub(r.Sent) > 20*time.Millisecond {
				t.Errorf("%+v", r)
			}
			if last = r.Sent; r.Sent.After(r.Planned) {
				late++
			}
		})
		sum, err := test.Do(t.Context())
		if d := sum.Directions[0]; err != nil || d.Sent != 400 || d.Received != 400 || d.Duplicated+d.Foreign != 0 || late < 50 || int(writes.Load()) > 400-late/2 {
			t.Errorf("%v, %d late, %d writes, %+v", err, late, writes.Load(), d)
		}
	})
}

// On a round trip the far end's own time is not the link's; a plug that joins TX
// and RX is a far end of its own kind.
func TestRoundTrip(t *testing.T) {
	const delay, linger = 30 * time.Millisecond, 200 * time.Millisecond
	for _, kind := range []string{"answer", "plug", "slow answer", "answer whose clock steps"} {
		synctest.Test(t, func(t *testing.T) {
			near, nearModule := port.Pipe("near", uart.DefaultLine)
			far, farModule := port.Pipe("far", uart.DefaultLine)
			ctx, cancel := context.WithCancel(t.Context())
			// The air between, both ways.
			carry := func(to io.Writer, from io.Reader) {
				buf := make([]byte, 1000)
				for {
					n, err := from.Read(buf)
					if err != nil {
						return
					}
					piece := append([]byte(nil), buf[:n]...)
					time.AfterFunc(delay, func() { to.Write(piece) })
				}
			}
			answer := &Answer{Station: &bench.Station{Name: "far", Dial: func() (port.Port, error) { return far, nil }}}
			done := make(chan error, 1)
			switch kind {
			case "plug":
				go carry(nearModule, nearModule)
				done <- nil
			case "slow answer", "answer whose clock steps":
				clock := int64(77)
				d := &frame.Decoder{Broken: func([]byte, int) {}, Whole: func(_ time.Time, f frame.Stamped, size int) {
					came := clock
					if kind != "slow answer" && f.Number%20 == 10 { // while the frame is there, a second forward and, later, back
						clock += []int64{1e6, -1e6}[f.Number/20%2]
					}
					f.Way, f.FarCame, f.FarWent = f.Way|frame.Answered, came, clock+linger.Microseconds()
					time.AfterFunc(2*delay+linger, func() { nearModule.Write(f.Append(nil, size)) })
				}}
				go func() {
					buf := make([]byte, 1000)
					for {
						n, err := nearModule.Read(buf)
						if err != nil {
							return
						}
						d.Feed(time.Now(), buf[:n])
					}
				}()
				done <- nil
			default:
				go carry(farModule, nearModule)
				go carry(nearModule, farModule)
				go func() { done <- answer.Do(ctx) }()
			}
			test := &Test{Plan: Plan{Count: 50, Every: 20 * time.Millisecond, Deadline: 2 * time.Second}, Sleep: time.Sleep,
				A: &bench.Station{Name: "near", Dial: func() (port.Port, error) { return near, nil }}}
			if err := test.Check(); err != nil || test.Size != frame.MinBinary {
				t.Fatal(err, test.Size)
			}
			sum, err := test.Do(ctx)
			cancel()
			if werr := <-done; err != nil || werr != nil {
				t.Fatal(err, werr)
			}
			want := 2 * delay
			if kind == "plug" {
				want = delay
			}
			far.Close()
			d := sum.Directions[0]
			if d.Received != 50 || d.Foreign+d.Duplicated+d.Damaged != 0 || math.Abs(float64(d.LatencyMS.Median)-float64(want.Milliseconds())) > 0.1 {
				t.Errorf("%s: %+v, latency %+v", kind, d, d.LatencyMS)
			}
			if steps := kind == "answer whose clock steps"; steps != (d.FarClock != nil) || steps && (d.FarClock.Steps != 2 || d.FarClock.StepMS < 700 || float64(d.LatencyMS.Min) < 59.9 || float64(d.LatencyMS.Max) > 60.1) {
				t.Errorf("%s: %+v, latency %+v", kind, d.FarClock, d.LatencyMS)
			}
			time.Sleep(time.Second)
			nearModule.Close()
			farModule.Close()
		})
	}
}

// What the sending module refuses or leaves unanswered is counted, or ends the
// test with its words, as far as going on makes sense.
func TestUnwillingModules(t *testing.T) {
	for _, c := range []struct {
		name   string
		answer func(n int, line string) string // to the nth command of the module
		want   string
		lost   int
	}{
		{"all is well", func(int, string) string { return "\r\nOK\r\n" }, "", 10},
		{"the first is refused", func(int, string) string { return "\r\n~REFUSED: 34\r\n" }, "refused the first frame: said AT~TELL=2,24,", 1},
		{"one is refused", func(n int, _ string) string {
			if n == 5 {
				return "\r\n~REFUSED: 36\r\n"
			}
			return "\r\nOK\r\n"
		}, "", 10},
		{"it falls silent", func(n int, _ string) string {
			if n > 3 {
				return ""
			}
			return "\r\nOK\r\n"
		}, "left 5 commands in a row unanswered", 8},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				pb, err := phrasebook.Read("../../examples/dunlin.toml")
				if err != nil {
					t.Fatal(err)
				}
				ends := []*bench.Station{}
				for i, name := range []string{"a", "b"} {
					host, module := port.Pipe(name, uart.DefaultLine)
					go func() {
						buf := make([]byte, 200)
						for n := 0; ; {
							k, err := module.Read(buf)
							if err != nil {
								return
							}
							if strings.Contains(string(buf[:k]), "NODE?") {
								fmt.Fprintf(module, "\r\n~NODE: %d\r\n\r\nOK\r\n", i+1)
								continue
							}
							n++
							io.WriteString(module, c.answer(n, string(buf[:k])))
						}
					}()
					ends = append(ends, &bench.Station{Name: name, Setup: pb.Setup(), Phrasebook: pb, Dial: func() (port.Port, error) { return host, nil }})
				}
				test := &Test{Plan: Plan{Count: 10, Every: 50 * time.Millisecond, Size: 24, Deadline: time.Second}, A: ends[0], B: ends[1], Sleep: time.Sleep}
				sum, err := test.Do(context.Background())
				if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
					t.Errorf("%v, want %q", err, c.want)
				}
				if d := sum.Directions[0]; d.Lost != c.lost || d.Sent != c.lost || c.name == "one is refused" && d.Refused != 1 {
					t.Errorf("%+v", d)
				}
			})
		})
	}
}

// Two modules with one address would answer for each other.
func TestSameAddress(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, valley, summit := simtest.Radios(t, bench.Air{}, "1")
		test := &Test{Plan: Plan{Count: 1, Every: 1, Size: 24, Deadline: time.Second}, A: valley, B: summit, Sleep: time.Sleep}
		if _, err := test.Do(context.Background()); err == nil || !strings.Contains(err.Error(), "the same address, 1") {
			t.Errorf("got %v", err)
		}
	})
}

// A limit on latency is judged by the share of frames above it.
func TestLateFrames(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, valley, summit := simtest.Radios(t, bench.Air{Delay: 100 * time.Millisecond, Spread: 100 * time.Millisecond}, "2")
		limit := 150.0
		test := &Test{Plan: Plan{Count: 100, Every: 250 * time.Millisecond, Size: 30, Deadline: 180 * time.Millisecond, Limits: Limits{MaxP95MS: &limit}}, A: valley, B: summit, Sleep: time.Sleep}
		late := 0
		test.Events = rows(func(_, _ string, r Row) {
			if r.State == Late {
				late++
			}
		})
		sum, err := test.Do(context.Background())
		d := sum.Directions[0]
		if err != nil || d.Verdict != verdict.Failed || d.Late != late || late < 10 || late > 50 {
			t.Errorf("%v, %d rows are late, %+v", err, late, d)
		}
	})
}

func TestPlanMistakes(t *testing.T) {
	pb, err := phrasebook.Read("../../examples/dunlin.toml")
	if err != nil {
		t.Fatal(err)
	}
	digits := *pb
	digits.Carrier = &phrasebook.Carrier{Greatest: 90}
	if err := digits.Carrier.Allowed.UnmarshalText([]byte("0-9")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		plan Plan
		pb   *phrasebook.Phrasebook
		want string
	}{
		{Plan{Count: 1, Every: 1, Size: 24}, pb, ""},
		{Plan{Count: 1, Every: 1, Size: 97}, pb, "takes 96 at most"},
		{Plan{Count: 1, Every: 1, Size: 15}, pb, "the least is 16"},
		{Plan{Count: 0, Every: 1, Size: 24}, pb, "too few"},
		{Plan{Count: 1, Every: 0, Size: 24}, pb, "no interval"},
		{Plan{Count: 1, Every: 1, Size: 24}, &digits, "does not allow"},
	} {
		s := &bench.Station{Name: "valley", Phrasebook: c.pb}
		err := (&Test{Plan: c.plan, A: s, B: s}).Check()
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%+v: %v, want %q", c.plan, err, c.want)
		}
	}
}

// BenchmarkFrames is frames over pseudo-terminals joined back to back, beside a
// bare writer and reader of the same bytes.
func BenchmarkFrames(b *testing.B) {
	open := func() (a, z string) {
		var far [2]*port.Pseudo
		for i := range far {
			var err error
			if far[i], err = port.OpenPseudo(); err != nil {
				b.Skip(err)
			}
			b.Cleanup(func() { far[i].Close() })
		}
		go io.Copy(far[1], far[0])
		return far[0].Path(), far[1].Path()
	}
	b.Run("link", func(b *testing.B) {
		a, z := open()
		test := &Test{Plan: Plan{Count: b.N, Every: 1, Size: frame.MinBinary, Deadline: time.Second}, A: &bench.Station{Name: "a", Address: port.Address{Where: a}}, B: &bench.Station{Name: "z", Address: port.Address{Where: z}}}
		var first, last time.Time
		test.Events = rows(func(_, _ string, r Row) {
			if r.Number == 0 {
				first = r.Sent
			}
			last = r.Arrived
		})
		sum, err := test.Do(b.Context())
		if err != nil || sum.Directions[0].Received != b.N {
			b.Fatal(sum.Directions, err)
		}
		b.ReportMetric(float64(b.N)/last.Sub(first).Seconds(), "frames/s")
	})
	b.Run("bare", func(b *testing.B) {
		a, z := open()
		pa, err := port.Open(b.Context(), port.Address{Where: a}, uart.DefaultLine)
		if err != nil {
			b.Fatal(err)
		}
		defer pa.Close()
		pz, err := port.Open(b.Context(), port.Address{Where: z}, uart.DefaultLine)
		if err != nil {
			b.Fatal(err)
		}
		defer pz.Close()
		frame := frame.Stamped{}.Append(nil, frame.MinBinary)
		b.ResetTimer()
		go func() {
			for range b.N {
				if _, err := pa.Write(b.Context(), frame); err != nil {
					return
				}
			}
		}()
		buf := make([]byte, 4096)
		for got := 0; got < b.N*len(frame); {
			n, err := pz.Read(buf)
			if err != nil {
				b.Fatal(err)
			}
			got += n
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "frames/s")
	})
}

// BenchmarkPacing is frames every ten milliseconds over pseudo-terminals: how
// far from the plan they were sent, beside a bare sleep until the same moments.
func BenchmarkPacing(b *testing.B) {
	report := func(b *testing.B, off []float64) {
		sort.Float64s(off)
		b.ReportMetric(off[len(off)*99/100], "ms-p99")
		b.ReportMetric(off[len(off)/2], "ms-median")
	}
	const every, frames = 10 * time.Millisecond, 200
	b.Run("link", func(b *testing.B) {
		var far [2]*port.Pseudo
		for i := range far {
			var err error
			if far[i], err = port.OpenPseudo(); err != nil {
				b.Skip(err)
			}
			b.Cleanup(func() { far[i].Close() })
		}
		go io.Copy(far[1], far[0])
		var off []float64
		for b.Loop() {
			test := &Test{Plan: Plan{Count: frames, Every: every, Size: 24, Deadline: time.Second},
				A: &bench.Station{Name: "a", Address: port.Address{Where: far[0].Path()}}, B: &bench.Station{Name: "z", Address: port.Address{Where: far[1].Path()}}}
			test.Events = rows(func(_, _ string, r Row) { off = append(off, r.Sent.Sub(r.Planned).Seconds()*1000) })
			if _, err := test.Do(b.Context()); err != nil {
				b.Fatal(err)
			}
		}
		report(b, off)
	})
	b.Run("bare", func(b *testing.B) {
		var off []float64
		for b.Loop() {
			for i, start := 0, time.Now(); i < frames; i++ {
				planned := start.Add(time.Duration(i) * every)
				time.Sleep(time.Until(planned))
				off = append(off, time.Since(planned).Seconds()*1000)
			}
		}
		report(b, off)
	})
}

// BenchmarkTally is a week of frames, one every ten milliseconds, through the
// counting alone: the metric is how many seconds that takes.
func BenchmarkTally(b *testing.B) {
	ta := newTally(0, time.Second, 0, nil)
	now := time.Unix(0, 0)
	for b.Loop() {
		ta.arrived(uint32(ta.sent(now, now)), now.Add(time.Millisecond), 0, -80, 9, 24)
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*7*24*3600*100, "s/week")
}

// rows is a stream whose frames are told one by one.
func rows(take func(from, to string, r Row)) *record.Stream {
	return record.NewStream(nil, func(e record.Event) {
		if f, ok := e.Live.(FrameSeen); ok {
			take(f.From, f.To, f.Row)
		}
	})
}

// What a frame costs on the wire is one sum: the plan, the load and the summary say
// what the record shows.
func TestOneSumForAFrame(t *testing.T) {
	for _, address := range []string{"2", "4711"} {
		synctest.Test(t, func(t *testing.T) {
			_, valley, summit := simtest.Radios(t, bench.Air{Delay: 30 * time.Millisecond}, address)
			var buf bytes.Buffer
			w := record.New(&buf, record.Origin{})
			const frames, load = 20, 0.05
			test := &Test{Plan: Plan{Count: frames, Load: load, Size: 24, Deadline: time.Second}, A: valley, B: summit, Events: record.NewStream(w), Sleep: time.Sleep}
			if err := test.Check(); err != nil {
				t.Fatal(err)
			}
			sum, err := test.Do(t.Context())
			if err != nil || w.Close() != nil {
				t.Fatal(err)
			}
			sent, came := 0, 0
			if _, err := record.Read(&buf, func(e record.Event) error {
				switch b, err := e.Bytes(); {
				case err != nil:
					return err
				case e.Kind == record.Out && strings.HasPrefix(string(b), "AT~TELL"):
					sent += len(b)
				case e.Kind == record.In && e.Port == "summit":
					came += len(b)
				}
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			c := frame.Through(valley.Setup, valley.Phrasebook)
			d := sum.Directions[0]
			if want := c.Sent(24, address); sent != frames*want || d.SentBytes != want || math.Abs(valley.Setup.Line().Time(want).Seconds()*1000/load-sum.EveryMS) > 0.001 {
				t.Errorf("to %s: the record has %d bytes, the summary %d a frame every %v ms, the sum is %d", address, sent, d.SentBytes, sum.EveryMS, want)
			}
			asked := len("\r\n~NODE: "+address+"\r\n") + len("\r\nOK\r\n")
			if want := c.Arrived(24, "1"); math.Abs(float64(came-asked)/frames-float64(want)) > 1 { // strength and signal-to-noise vary in length
				t.Errorf("to %s: %d bytes arrived, the sum is %d a frame", address, came-asked, want)
			}
		})
	}
}
