package bits

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/prbs"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// sequence is so many bytes of a pattern.
func sequence(t *testing.T, pattern string, n int) []byte {
	t.Helper()
	s, err := prbs.New(Patterns[pattern])
	if err != nil {
		t.Fatal(err)
	}
	b := make([]byte, n)
	s.Fill(b)
	return b
}

// counted feeds bytes at 1200 a second and sums up.
func counted(t *testing.T, pattern string, b []byte) Result {
	t.Helper()
	c, err := newBitCounter(pattern)
	if err != nil {
		t.Fatal(err)
	}
	start := time.Unix(0, 0)
	for i := range b {
		c.feed(start.Add(time.Duration(i)*time.Second/1200), b[i:i+1])
	}
	return c.result()
}

// Errored bits and slips are counted as they were made, in every pattern.
func TestBits(t *testing.T) {
	for pattern := range Patterns {
		rng := rand.New(rand.NewPCG(1, 2))
		b := sequence(t, pattern, 60_000)
		if r := counted(t, pattern, b); r.Errored != 0 || r.Slips != 0 || r.Losses != 0 || r.Compared < 8*60_000-200 || r.Seconds != 49 || r.ErroredS != 0 || r.AvailRatio != 1 {
			t.Errorf("%s, clean: %+v", pattern, r)
		}
		wrong := append([]byte(nil), b...)
		made := map[int]bool{}
		for len(made) < 200 {
			at := 100 + rng.IntN(len(b)-200)
			if !made[at] {
				made[at] = true
				wrong[at] ^= 1 << rng.IntN(8)
			}
		}
		if r := counted(t, pattern, wrong); r.Errored != 200 || r.Losses != 0 {
			t.Errorf("%s, 200 errors: %+v", pattern, r)
		}
		// A byte lost, three bytes too many, a long gap.
		slipped := append([]byte(nil), b[:20_000]...)
		slipped = append(slipped, b[20_001:30_000]...)
		slipped = append(slipped, 1, 2, 3)
		slipped = append(slipped, b[30_000:40_000]...)
		slipped = append(slipped, b[40_100:]...)
		r := counted(t, pattern, slipped)
		if want := int64(-8 + 24 - 800); pattern == "prbs9" { // its period is shorter than the gap: 511 bits
			if r.Slips != 3 {
				t.Errorf("%s, slips: %+v", pattern, r)
			}
		} else if r.Slips != 3 || r.Shifted != want {
			t.Errorf("%s, slips by %d: %+v", pattern, want, r)
		}
		if r.Errored > 20 {
			t.Errorf("%s: slips were taken for %d errors", pattern, r.Errored)
		}
		noise := make([]byte, 20_000)
		for i := range noise {
			noise[i] = byte(rng.IntN(256))
		}
		if r := counted(t, pattern, noise); r.Compared > 1000 {
			t.Errorf("%s: the sequence was found in noise: %+v", pattern, r)
		}
	}
	if _, err := newBitCounter("prbs7"); err == nil {
		t.Error("took a pattern that there is not")
	}
}

// A sequence comes back, so that the clock tells how often it did while bits were missing.
func TestLongGaps(t *testing.T) {
	for pattern := range Patterns {
		for _, missing := range []int{8 * 24, 8 * 300, 8 * 6_000, 8 * 40_000} {
			c, err := newBitCounter(pattern)
			if err != nil {
				t.Fatal(err)
			}
			c.perSecond = 9600
			b := sequence(t, pattern, 60_000)
			for i := 0; i < len(b); i += 24 { // in pieces, as a line is read
				if i < 8*1200 || i >= 8*1200+missing/8/24*24 {
					c.feed(time.Unix(0, 0).Add(time.Duration(i)*time.Second/1200), b[i:min(i+24, len(b))])
				}
			}
			r := c.result()
			if want := -int64(missing / 8 / 24 * 24 * 8); r.Shifted != want {
				t.Errorf("%s: %d bits are missing, shifted by %d", pattern, -want, r.Shifted)
			}
		}
	}
}

// A burst of wrong bits that looks like a slip is none: no bit was missing, so it counts.
func TestBurstsAreErrors(t *testing.T) {
	for pattern := range Patterns {
		b := sequence(t, pattern, 20_000)
		for i := 10_000; i < 10_050; i++ {
			b[i] = ^b[i] // 400 bits, all wrong
		}
		if r := counted(t, pattern, b); r.Errored != 400 || r.Losses != 0 || r.Slips != 0 || r.Compared < 8*20_000-200 {
			t.Errorf("%s: %+v", pattern, r)
		}
	}
}

// A line that dies on the way has seconds up to the end of sending, and keeps no limit.
func TestLineThatDies(t *testing.T) {
	limit := 1e-3
	for _, c := range []struct {
		dies, severely, available int
		limit                     *float64
		want                      verdict.Verdict
	}{
		{12, 8, 20, &limit, verdict.Failed}, // eight seconds are not unavailable yet
		{8, 0, 8, &limit, verdict.Failed},   // twelve are
		{8, 0, 8, nil, verdict.Measured},
		{20, 0, 20, &limit, verdict.Passed},
	} {
		synctest.Test(t, func(t *testing.T) {
			host, far := port.Pipe("a", uart.Line{Speed: 9600})
			go func() {
				began, buf := time.Now(), make([]byte, 4096)
				for {
					n, err := far.Read(buf)
					if err != nil {
						return
					}
					if time.Since(began) < time.Duration(c.dies)*time.Second+time.Duration(c.dies/20)*time.Second {
						far.Write(buf[:n])
					}
				}
			}()
			st := &bench.Station{Name: "a", Setup: phrasebook.Setup{Speed: 9600}, Dial: func() (port.Port, error) { return host, nil }}
			r, err := (&Test{A: st, Pattern: "prbs15", Time: 20 * time.Second, MaxBER: c.limit, Sleep: time.Sleep}).Do(t.Context())
			if err != nil || r.Verdict != c.want || r.Severely != c.severely || r.Available != c.available || r.Seconds != 20 || (c.dies < 20) != (r.Missed > 0) {
				t.Errorf("dies after %d s: %+v, %v", c.dies, r, err)
			}
			if c.dies < 20 && !strings.Contains(r.Why, "were never compared") {
				t.Errorf("dies after %d s: %s", c.dies, r.Why)
			}
			far.Close()
			time.Sleep(time.Second)
		})
	}
}

// A machine that was busy for a while has bits late, not lost: no second is severely errored
// for it. Noise before the sequence hides no bits that are missing behind it.
func TestLateIsNotLost(t *testing.T) {
	b := sequence(t, "prbs15", 12_000)
	count := func(late time.Duration, bytes []byte) Result {
		c, err := newBitCounter("prbs15")
		if err != nil {
			t.Fatal(err)
		}
		c.perSecond = 9600
		start := time.Unix(0, 0)
		for i := range bytes {
			at := start.Add(time.Duration(i) * time.Second / 1200)
			if stalled := at.Sub(start); stalled > 4500*time.Millisecond && stalled < 4500*time.Millisecond+late {
				at = start.Add(4500*time.Millisecond + late)
			}
			c.feed(at, bytes[i:i+1])
		}
		c.finish(8*12_000, 10)
		return c.result()
	}
	for _, late := range []time.Duration{0, 300 * time.Millisecond, 900 * time.Millisecond, 1800 * time.Millisecond} {
		if r := count(late, b); r.Severely != 0 || r.ErroredS != 0 || r.Missed != 0 || r.Seconds != 10 {
			t.Errorf("late by %v: %+v", late, r)
		}
	}
	noise := append([]byte(strings.Repeat("no bits of it", 20)), b[:12_000-260]...)
	if r := count(0, noise); r.Missed < 8*200 {
		t.Errorf("behind noise %d bits are missing: %+v", 8*260, r)
	}
}

// Seconds and availability as G.821 counts them.
func TestSeconds(t *testing.T) {
	for marks, want := range map[string][4]int{ // errored, severe, available, all
		"":                          {0, 0, 0, 0},
		"....":                      {0, 0, 4, 4},
		".e.E.":                     {2, 1, 5, 5},
		"..EEEEEEEEE..":             {9, 9, 13, 13}, // nine in a row are not enough
		"..EEEEEEEEEE..":            {0, 0, 2, 14},
		"..EEEEEEEEEEEE.........":   {0, 0, 2, 23},
		"..EEEEEEEEEEEE..........e": {1, 0, 13, 25},
	} {
		c := &bitCounter{}
		for _, m := range marks {
			c.seconds = append(c.seconds, second{kind: map[rune]byte{'.': clean, 'e': erroredSecond, 'E': severeSecond}[m]})
		}
		r := c.result()
		if got := [4]int{r.ErroredS, r.Severely, r.Available, r.Seconds}; got != want {
			t.Errorf("%q: %v, want %v", marks, got, want)
		}
	}
}

// Through two Fieldfares whose air loses packets: what is missing shows as slips,
// never as a flood of errors. Over a loop nothing is wrong.
func TestBitsThroughRadios(t *testing.T) {
	for _, loss := range []float64{0, 0.02} {
		synctest.Test(t, func(t *testing.T) {
			nine := uart.Line{Speed: 9600}
			b := simtest.New(t, bench.Air{Seed: 2, Loss: loss}, bench.Standin{Name: "a", Family: "fieldfare", Line: nine}, bench.Standin{Name: "b", Family: "fieldfare", Line: nine})
			ends := map[string]*bench.Station{}
			for _, n := range []string{"a", "b"} {
				st := b.Station(n, nil)
				st.Dial = func() (port.Port, error) { return b.Host(n), nil }
				st.Setup.Speed = 4800 // half of what the line takes, so that the air keeps up
				ends[n] = st
			}
			limit := 1e-4
			test := &Test{A: ends["a"], B: ends["b"], Pattern: "prbs15", Time: 30 * time.Second, MaxBER: &limit, Sleep: time.Sleep}
			r, err := test.Do(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			want := verdict.Passed
			switch {
			case loss == 0 && (r.Errored != 0 || r.Slips != 0 || r.Losses != 0 || r.Compared < r.Sent-200):
				t.Errorf("%+v", r)
			case loss > 0 && (r.Verdict != verdict.Failed || r.Severely < 5 || r.Slips == 0 || r.Shifted >= 0 || math.Abs(float64(r.Errored)) > 50):
				t.Errorf("%+v", r)
			}
			if loss == 0 && r.Verdict != want {
				t.Errorf("%s: %s", r.Verdict, r.Why)
			}
		})
	}
}

func TestSevenBits(t *testing.T) {
	st, _ := simtest.Played("a", phrasebook.Setup{Frame: &uart.Frame{DataBits: 7}}, nil)
	if _, err := (&Test{A: st, Pattern: "prbs9"}).Do(t.Context()); err == nil || !strings.Contains(err.Error(), "needs 8 data bits") {
		t.Errorf("got %v", err)
	}
}
