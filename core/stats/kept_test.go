package stats

import (
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

var update = flag.Bool("update", false, "write testdata/kept.txt anew")

// What the simulations beside this file vouch for, of some links: each figure to nine digits, so that no formula changes
// without being seen. After a change that the simulations bear out it is written anew with -update.
func TestFiguresAreKept(t *testing.T) {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	links := []Link{
		Independent(0), Independent(0.02), Independent(0.5), Independent(1), TwoStates(0, 1, 0.05, 10), TwoStates(0.01, 0.5, 0.1, 20),
		TwoStates(0.02, 0.3, 0.2, 60), Fading(0.05, 1.5, 100), Fading(0.3, 2, 40), OneBurst(0.01, 25), OneBurst(0, 7),
	}
	for i, l := range links {
		say("%s: loss %.9g, stretches %.9g", l.Name, l.Loss(3000), l.Stretches(3000))
		for _, frames := range []int{1, 2, 20, 39, 40, 200, 1000, 5999, 6000, 12_000} {
			if frames < l.Burst {
				continue
			}
			var r Runs
			l.Play(rand.New(rand.NewPCG(uint64(i), uint64(frames))), frames, r.Add)
			n, together := r.Stretches()
			s, q := r.Share(), r.Sequence()
			say("%d frames, %d lost, longest %d, together %v: effective %.9g of %d, stretches %.9g %v, share %.9g %.9g %.9g, sequence %.9g %.9g, every %d, %s %s %s, in all %d %d, %q",
				frames, r.Lost(), r.Longest(), r.Together(), r.Effective(), r.Frames(), n, together, s.Ratio, s.Low, s.High, q.Low, q.High, r.Every(), r.Sequential(0.01), r.Sequential(0.05), r.Sequential(0.4), r.FramesInAll(0.01), r.FramesInAll(0.1), r.Doubt())
			say("%+v", r.Bursts())
			text, err := json.Marshal(r.State())
			if err != nil {
				t.Fatal(err)
			}
			var state RunsState
			if err := json.Unmarshal(text, &state); err != nil {
				t.Fatal(err)
			}
			again := RunsFrom(state, true)
			again.Add(true)
			r.Add(true)
			if a, b := again.State(), r.State(); fmt.Sprint(a) != fmt.Sprint(b) || again.Share() != r.Share() {
				t.Errorf("%s, %d frames: a state that was kept goes on as %v, not %v", l.Name, frames, a, b)
			}
		}
	}
	for _, most := range []float64{0, 0.001, 0.01, 0.05, 0.5, 1} {
		say("limit %v: to pass %d, to decide %d, to show %d %d", most, FramesToPass(most), FramesToDecide(most), FramesToShow(most, 0.02, 1), FramesToShow(most, 0.1, 2.5))
	}
	waits := func(seed uint64, n int, base, drift, lost float64) *Blocks {
		b := &Blocks{}
		dice := rand.New(rand.NewPCG(seed, 9))
		slow := 0.0
		for range n {
			slow = 0.95*slow + dice.NormFloat64()
			if dice.Float64() < lost {
				b.Add(math.Inf(1))
				continue
			}
			b.Add(base + drift*slow + dice.ExpFloat64())
		}
		return b
	}
	all := []*Blocks{waits(1, 12, 40, 0, 0), waits(2, 100, 40, 2, 0), waits(3, 100, 41, 2, 0.05), waits(4, 3000, 40, 0.5, 0.2), waits(5, 9000, 40.2, 0.5, 0), waits(6, 700, 12, 0, 1), {}}
	for i, b := range all {
		came := b.Came()
		m := came.Mean()
		say("waits %d: %d, of them came %d, mean %.9g..%.9g of %.9g", i, b.N(), came.N(), m.Low, m.High, m.Effective)
		for _, q := range []float64{0, 0.01, 0.5, 0.9, 0.99, 1} {
			x := b.Quantile(q)
			say("  %v: %.9g, %.9g..%.9g by %.9g", q, x.Value, x.Low, x.High, x.Effective)
		}
		text, err := json.Marshal(b)
		if err != nil {
			t.Fatal(err)
		}
		var again Blocks
		if err := json.Unmarshal(text, &again); err != nil || again.N() != b.N() || fmt.Sprint(again.Quantile(0.9)) != fmt.Sprint(b.Quantile(0.9)) {
			t.Errorf("waits %d are %d of %d again, %v", i, again.N(), b.N(), err)
		}
		for k, c := range all {
			r := Permutation(b, c)
			say("  against %d: p %.9g, corrected %.9g, effect %.9g, shift %.9g", k, r.P, r.Corrected, r.Effect, r.Shift)
		}
	}
	var s Sample
	for _, v := range []float64{-80, -81.5, math.NaN(), -79.25, -90, math.Inf(-1)} {
		s.Add(v)
		text, err := json.Marshal(s.Spread())
		say("sample %s %v", text, err)
	}
	c := s.Clone()
	c.Add(-100)
	say("sample %d %d", s.N, c.N)
	golden := filepath.Join("testdata", "kept.txt")
	if *update {
		if err := os.WriteFile(golden, []byte(out.String()), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(want), "\n")
	for i, l := range strings.Split(out.String(), "\n") {
		if i >= len(lines) || l != lines[i] {
			t.Fatalf("line %d is\n%s\nwant\n%s", i+1, l, lines[min(i, len(lines)-1)])
		}
	}
}

// Figures that a standard or a few lines of arithmetic give.
func TestFiguresByHand(t *testing.T) {
	near := func(what string, got, want float64) {
		if math.Abs(got-want) > 5e-6*max(1, math.Abs(want)) && !(math.IsNaN(got) && math.IsNaN(want)) {
			t.Errorf("%s is %v, want %v", what, got, want)
		}
	}
	// RFC 3550, section 6.4.1: J += (|D| - J)/16, D of 16 ms, 32 ms, 0.
	var j Jitter
	near("the mean of no jitter", j.Mean(), 0)
	for i, want := range []float64{0, 1, 2.9375, 2.75390625} {
		j.Add([]time.Duration{100, 116, 84, 84}[i] * time.Millisecond)
		near("the jitter in ms", j.Value/1e6, want)
	}
	near("the mean of |D| in ms", j.Mean()/1e6, 16)
	// Wilson (1927): 2 of 200, 0 of 10, 10 of 10, none.
	for _, c := range []struct {
		hits, n              int
		ratio, lower, higher float64
	}{{2, 200, 0.01, 0.002746, 0.035726}, {0, 10, 0, 0, 0.277533}, {10, 10, 1, 0.722467, 1}, {0, 0, 0, 0, 1}} {
		s := Wilson(c.hits, c.n)
		near("the share", s.Ratio, c.ratio)
		if math.Abs(s.Low-c.lower) > 1e-5 || math.Abs(s.High-c.higher) > 1e-5 {
			t.Errorf("%d of %d: %v", c.hits, c.n, s)
		}
	}
	if a, b := Thinned(20, 2000, 0.1), Wilson(2, 200); math.Abs(a.High-b.High) > 1e-12 || a.Ratio != 0.01 {
		t.Errorf("a tenth of 2000 tells as much as 200: %v, %v", a, b)
	}
	for _, c := range []struct {
		s    Share
		most float64
		want string
	}{{Share{0.01, 0, 0.05}, 0.05, "passed"}, {Share{0.01, 0, 0.0501}, 0.05, "undecided"}, {Share{0.06, 0.05, 0.1}, 0.05, "undecided"}, {Share{0.06, 0.0501, 0.1}, 0.05, "failed"}} {
		if got := c.s.Judge(c.most); string(got) != c.want {
			t.Errorf("%v of %v is %s", c.s, c.most, got)
		}
	}
	for text, want := range map[string]float64{"2%": 0.02, " 2 %": 0.02, "0.02": 0.02, "100%": 1, "1": 1, "0": 0, "0 %": 0, "101%": -1, "1.01": -1, "-1%": -1, "x": -1, "": -1, "NaN": -1} {
		if got, err := ParseShare(text); (err != nil) != (want < 0) || err == nil && got != want || err != nil && got != 0 {
			t.Errorf("%q: %v, %v", text, got, err)
		}
	}
	for d, want := range map[Difference]bool{{Low: 0, High: 1}: false, {Low: 0.1, High: 1}: true, {Low: -1, High: 0}: false, {Low: -1, High: -0.1}: true} {
		if d.Shown() != want {
			t.Errorf("%v is shown: %v", d, !want)
		}
	}
	for p, want := range map[float64]bool{0.05: false, 0.0499: true} {
		if (Ranks{Corrected: p}).Shown() != want {
			t.Errorf("%v is shown: %v", p, !want)
		}
	}
	// 10, 12, 13, 11, 14 over 0, 10, 30, 40, 60: the slope is 110/2280, t of 3 is 3.182446.
	near("the mean", Mean([]float64{10, 12, 13, 11, 14}), 12)
	near("the spread", StdDev([]float64{10, 12, 13, 11, 14}), 1.5811388)
	near("the spread of one", StdDev([]float64{1}), math.NaN())
	xs := []float64{0, 10, 30, 40, 60}
	slope, low, high, known := Line(xs, []float64{10, 12, 13, 11, 14})
	near("the slope", slope, 0.04824561)
	near("its low end", low, 0.04824561-3.182446*math.Sqrt(4.692982/3/2280))
	near("its high end", high, 0.04824561+3.182446*math.Sqrt(4.692982/3/2280))
	if _, _, _, few := Line(xs[:4], xs[:4]); !known || few {
		t.Error("a line of five is not known, or one of four is")
	}
	for name, xs := range map[string][]float64{"one place": {1, 1, 1, 1, 1}} {
		if s, l, h, known := Line(xs, []float64{1, 2, 3, 4, 5}); known || s != 0 || l != 0 || h != 0 {
			t.Errorf("%s has a line", name)
		}
	}
	if _, _, _, known := Line(xs, []float64{1, 2, math.Inf(1), 3, 4}); known {
		t.Error("infinite values have a line")
	}
	// Bissell (1990), for 25 values and an index of 1: 1.96 sqrt(1/225 + 1/48) = 0.311659; of the moving range
	// 1.96 sqrt(1/225 + (0.8264·25 - 1.082)/24²) = 0.386222.
	near("Ppk", Capability(3, 1, 25).Value, 1)
	near("its half width", Capability(3, 1, 25).High-1, 1.959964*math.Sqrt(1.0/225+1.0/48))
	near("its other half", 1-Capability(3, 1, 25).Low, 1.959964*math.Sqrt(1.0/225+1.0/48))
	near("that of Cpk", CapabilityOfRange(3, 1, 25).High-1, 1.959964*math.Sqrt(1.0/225+19.578/576))
}
