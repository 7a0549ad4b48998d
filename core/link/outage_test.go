package link

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"uparrot/core/verdict"
)

// A test that goes on until it is sure ends where nothing more can come of it: when more is lost than the limit
// allows of all, or when nothing has come for half of it and ten seconds. A stretch of which nothing came is told
// with its times and frames, and only where chance makes none.
func TestOutages(t *testing.T) {
	const every = 50 * time.Millisecond
	rng := rand.New(rand.NewPCG(34, 2))
	good, half := func(int) bool { return false }, func(int) bool { return rng.Float64() < 0.5 }
	after := func(from, to int) func(int) bool { return func(i int) bool { return i >= from && i < to } }
	for name, c := range map[string]struct {
		lost    func(frame int) bool
		limit   float64
		count   int
		ends    int // frames at which it ends; the deadline is a second
		verdict verdict.Verdict
		why     string
		outage  string
	}{
		"dead from the beginning":   {after(0, 1<<30), 0.05, 100_000, 230, verdict.Failed, "nothing has come at all", ""},
		"dead after two seconds":    {after(40, 1<<30), 0.05, 100_000, 260, verdict.Failed, "nothing has come since 2.0 s, frame 41", "nothing has come since 2.0 s, frame 41"},
		"dead after a long while":   {after(2000, 1<<30), 0.02, 1_000_000, 4030, verdict.Failed, "nothing has come since 1m40s, frame 2001", "nothing has come since 1m40s, frame 2001"},
		"more lost than all allows": {func(i int) bool { return i%11 == 0 }, 0.05, 1000, 570, verdict.Failed, "more than the limit allows of all 1000 frames", ""},
		"a little above it":         {func(i int) bool { return i%19 == 0 }, 0.05, 1000, 1000, verdict.Undecided, "more frames would tell", ""},
		"one outage":                {after(900, 960), 0.1, 1500, 1500, verdict.Undecided, "more frames would tell", "nothing came from 45.0 s to 48.0 s, frames 901 to 960"},
		"an outage at the end":      {after(1480, 1500), 0.1, 1500, 1500, verdict.Undecided, "on either side", "nothing has come since 1m14s, frame 1481"},
		"half of them":              {half, 0.5, 1000, 1000, verdict.Undecided, "more frames would tell", ""},
		"none":                      {good, 0.05, 900, 900, verdict.Undecided, "more frames would tell", ""},
	} {
		start := time.Unix(1e6, 0)
		ta := newTally(c.count, time.Second, 0, nil)
		at, n, latched := start, 0, false
		for ; n < c.count; n++ {
			at = start.Add(time.Duration(n) * every)
			if k := ta.sent(at, at); !c.lost(n) {
				ta.arrived(uint32(k), at.Add(5*time.Millisecond), 0, math.NaN(), math.NaN(), 24)
			}
			if latched = ta.decided(at, Limits{MaxLoss: &c.limit}, c.count); latched {
				break
			}
		}
		ta.close(at.Add(time.Hour), false)
		d := ta.direction("valley", "summit")
		d.judge(Limits{MaxLoss: &c.limit}, &ta.outcomes, ta.latched, true)
		outage := ""
		if d.Outage != nil {
			outage = d.Outage.Words()
		}
		why := strings.Join(d.Why, "; ")
		if math.Abs(float64(n-c.ends)) > 30 || d.Judged.Loss != c.verdict || !strings.Contains(why, c.why) || outage != c.outage {
			t.Errorf("%s: ends after %d, %s: %s; %s", name, n, d.Judged.Loss, why, outage)
		}
	}
}

// A test that goes on from a checkpoint is not over since nothing came in the time between, which is nobody's.
func TestOutageResumed(t *testing.T) {
	limit, start := 0.5, time.Unix(1e6, 0)
	on := newTally(0, time.Second, 0, nil)
	for i := range 40 { // the last 20, a second of them, did not come
		at := start.Add(time.Duration(i) * 50 * time.Millisecond)
		if k := on.sent(at, at); i < 20 {
			on.arrived(uint32(k), at, 0, math.NaN(), math.NaN(), 24)
		}
	}
	state, _, _ := on.state("valley", "summit", start.Add(time.Minute))
	again := newTally(0, time.Second, 0, nil)
	later := time.Now()
	if err := again.restore(state); err != nil {
		t.Fatal(err)
	}
	if again.decided(later.Add(time.Second), Limits{MaxLoss: &limit}, 1000) {
		t.Errorf("decided before a frame was sent: %+v", again.latched.Loss)
	}
	if again.lookAgain = 0; !again.decided(later.Add(15*time.Second), Limits{MaxLoss: &limit}, 1000) || again.latched.Loss.Verdict != verdict.Failed {
		t.Errorf("%+v", again.latched.Loss)
	}
}
