package capacity

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// The search ends near what the air carries by its own rate.
func TestCapacity(t *testing.T) {
	for _, c := range []struct {
		air  bench.Air
		rate float64 // 0: all that is taken is carried; below 0: nothing holds
	}{
		{bench.Air{Rate: 4800, Preamble: 15 * time.Millisecond, Buffer: 300, Delay: 5 * time.Millisecond}, 1000.0 / 55},
		{bench.Air{Rate: 1200, Buffer: 200}, 1000.0 / 160},
		{bench.Air{Delay: 5 * time.Millisecond}, 0},
		{bench.Air{Loss: 0.9}, -1},
	} {
		synctest.Test(t, func(t *testing.T) {
			c.air.Seed = 2
			_, valley, summit := simtest.Radios(t, c.air, "2")
			search := &Search{Test: link.Test{A: valley, B: summit, Sleep: time.Sleep, Plan: link.Plan{Count: 1, Every: time.Second, Deadline: 2 * time.Second}}, MaxLoss: 0.05, Fewest: 60, Most: 100_000}
			res, err := search.Do(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			switch {
			case c.rate < 0:
				if res.Verdict != verdict.Failed || res.Held != nil || !strings.Contains(res.String(), "even one frame every") {
					t.Errorf("%s: %+v", res, res.Held)
				}
			case c.rate == 0:
				if res.Broken != nil || res.Held == nil || res.Held.Load > 1 || res.Held.Load < 0.8 || !strings.Contains(res.String(), "the modules take no more") {
					t.Errorf("%s", res)
				}
			case res.Held == nil || res.Broken == nil || res.Held.Rate > c.rate*1.1 || res.Held.Rate < c.rate*0.85 || 1000/res.Broken.KeptMS < c.rate*0.95 || 1000/res.Broken.KeptMS > c.rate*1.25 || res.Broken.Rate > c.rate*1.05 || c.air.Buffer > 0 && res.Buffer == 0:
				t.Errorf("%s, want about %.1f", res, c.rate)
			}
		})
	}
}

// A module that takes frames one by one sets the pace: what is told is what it carried,
// not what was planned, and the wire is not the limit.
func TestModuleSetsThePace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		pb, err := phrasebook.Read("../../../examples/dunlin.toml")
		if err != nil {
			t.Fatal(err)
		}
		ends, modules := []*bench.Station{}, make([]io.ReadWriteCloser, 2)
		for i, name := range []string{"valley", "summit"} {
			dial := func() (port.Port, error) {
				host, module := port.Pipe(name, uart.DefaultLine)
				modules[i] = module
				go func() {
					lines := bufio.NewScanner(module)
					lines.Split(func(b []byte, _ bool) (int, []byte, error) {
						at := bytes.IndexByte(b, '\r')
						if at < 0 {
							return 0, nil, nil
						}
						return at + 1, b[:at], nil
					})
					for lines.Scan() {
						if words := lines.Text(); strings.Contains(words, "NODE?") {
							fmt.Fprintf(module, "\r\n~NODE: %d\r\n\r\nOK\r\n", i+1)
						} else {
							payload := words[strings.LastIndexByte(words, ',')+1:]
							fmt.Fprintf(modules[1-i], "\r\n~HEARD: %d,-80,9,%d,%s\r\n", i+1, len(payload), payload)
							time.Sleep(80 * time.Millisecond) // it answers when it is ready for the next
							io.WriteString(module, "\r\nOK\r\n")
						}
					}
				}()
				return host, nil
			}
			ends = append(ends, &bench.Station{Name: name, Setup: pb.Setup(), Phrasebook: pb, Dial: dial})
		}
		search := &Search{Test: link.Test{A: ends[0], B: ends[1], Sleep: time.Sleep, Plan: link.Plan{Count: 1, Every: time.Second, Deadline: 2 * time.Second}}, MaxLoss: 0.05, Fewest: 60, Most: 1000}
		res, err := search.Do(t.Context())
		if err != nil || res.Held == nil || res.Held.Rate > 12.5 || res.Held.Rate < 11 || !strings.Contains(res.String(), "the modules take no more") {
			t.Errorf("%s, %+v, %v", res, res.Held, err)
		}
		time.Sleep(time.Second)
	})
}

// A load that broke the limit and keeps it when it is tried again is not what the
// link carries, and the wire is not the limit.
func TestUnsteady(t *testing.T) {
	again := map[time.Duration]int{}
	search := &Search{MaxLoss: 0.05, Fewest: 60, Most: 400}
	search.Test = link.Test{Plan: link.Plan{Count: 1, Every: time.Second, Deadline: time.Second, Size: 40}, A: &bench.Station{Name: "valley"}, B: &bench.Station{Name: "summit"}}
	search.try = func(_ context.Context, every time.Duration) (LoadPoint, error) {
		again[every]++
		p := LoadPoint{EveryMS: float64(every.Microseconds()) / 1000, KeptMS: float64(every.Microseconds()) / 1000, Rate: 1 / every.Seconds(), Verdict: verdict.Passed}
		if every < 40*time.Millisecond && again[every] == 1 {
			p.Verdict, p.Loss.Ratio = verdict.Failed, 0.2
		}
		return p, nil
	}
	res, err := search.Do(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if !res.Unsteady || res.Held == nil || res.Broken == nil || res.Held.EveryMS < 40 || res.Broken.EveryMS >= 40 || strings.Contains(res.String(), "wire") {
		t.Errorf("%s: %+v, %+v", res, res.Held, res.Broken)
	}
}

// What a load leaves in the modules' buffers comes into the next one, and does not count
// against it.
func TestLeftOvers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, valley, summit := simtest.Radios(t, bench.Air{Delay: 10 * time.Millisecond, Rate: 1200, Buffer: 4096}, "2")
		search := &Search{Test: link.Test{A: valley, B: summit, Sleep: time.Sleep, Plan: link.Plan{Count: 1, Every: time.Second, Deadline: 500 * time.Millisecond}}, MaxLoss: 0.05, Trial: 4 * time.Second, Fewest: 20, Most: 1000}
		res, err := search.Do(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range res.Points {
			if p.EveryMS > 170 && p.Lost > 0 { // the air carries one every 160 ms
				t.Errorf("every %v ms: %+v", p.EveryMS, p)
			}
		}
	})
}
