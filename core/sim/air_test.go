package sim_test

import (
	"uparrot/core/bench"
	"uparrot/core/sim"
	"uparrot/core/sim/simtest"

	"fmt"
	"math"
	"strings"
	"testing"
	"testing/synctest"
	"time"
)

// pair is two Dunlins with an air, and what the second has heard.
func pair(t *testing.T, air bench.Air) (say func(text string), heard func() string, b *sim.Bench) {
	bench := simtest.New(t, air,
		bench.Standin{Name: "a", Family: "dunlin", Settings: map[string]string{"node": "1"}},
		bench.Standin{Name: "b", Family: "dunlin", Place: 100, Settings: map[string]string{"node": "2"}})
	at := map[string]*simtest.Listener{"a": bench.Listen("a"), "b": bench.Listen("b")}
	say = func(text string) {
		if _, err := at["a"].Host.Write(t.Context(), []byte(fmt.Sprintf("AT~TELL=2,%d,%s\r", len(text), text))); err != nil {
			t.Fatal(err)
		}
	}
	return say, func() string { return at["b"].After(0) }, bench.Bench
}

// The air carries so many bits a second, one message after the other, and keeps
// so many bytes waiting.
func TestAirRate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		say, heard, b := pair(t, bench.Air{Seed: 1, Rate: 800, Preamble: 100 * time.Millisecond, Buffer: 50})
		for range 8 { // 10 bytes each: 100 ms and 100 ms of preamble
			say("0123456789")
			time.Sleep(5 * time.Millisecond)
		}
		time.Sleep(450 * time.Millisecond)
		if n := strings.Count(heard(), "~HEARD"); n != 2 {
			t.Errorf("%d messages within the first half second, want 2", n)
		}
		time.Sleep(5 * time.Second)
		if n := strings.Count(heard(), "~HEARD"); n != 3 {
			t.Errorf("%d more, want 3: the buffer takes five", n)
		}
		if tr := b.Truth()[0]; tr.Sent != 8 || tr.Carried != 5 || tr.Dropped != 3 || tr.Runs != 1 || tr.Longest != 3 || math.Abs(tr.DelayMaxMS-990) > 20 {
			t.Errorf("%+v", tr)
		}
	})
}

// Bursts are as long and as many as the two-state model says.
func TestAirBursts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		say, _, b := pair(t, bench.Air{Seed: 3, Enter: 0.05, Leave: 0.25})
		const n = 6000
		for range n {
			say("x")
			time.Sleep(20 * time.Millisecond)
		}
		time.Sleep(time.Second)
		tr := b.Truth()[0]
		// Share of the bad state: 0.05 / (0.05 + 0.25); mean run 4.
		if share := float64(tr.Lost) / n; math.Abs(share-1.0/6) > 0.03 {
			t.Errorf("%.3f lost, want about 0.167", share)
		}
		if mean := float64(tr.Lost) / float64(tr.Runs); math.Abs(mean-4) > 0.6 {
			t.Errorf("runs of %.2f on average, want about 4", mean)
		}
	})
}

// Who walks away gets weaker, and in the end is not heard.
func TestAirWalk(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		say, heard, b := pair(t, bench.Air{Seed: 3, Walk: 50})
		var strengths []int
		for range 120 {
			say("x")
			time.Sleep(time.Second)
			var from, strength int
			if _, err := fmt.Sscanf(strings.Trim(heard(), "|"), "~HEARD: %d,%d", &from, &strength); err == nil {
				strengths = append(strengths, strength)
			}
		}
		n := len(strengths)
		if n < 30 || n > 115 || strengths[0] < -95 || strengths[n-1] > -118 {
			t.Errorf("%d heard, from %d to %d dBm", n, strengths[0], strengths[n-1])
		}
		if tr := b.Truth()[0]; tr.Carried != n || tr.Sent != 120 {
			t.Errorf("%+v, %d heard", tr, n)
		}
	})
}
