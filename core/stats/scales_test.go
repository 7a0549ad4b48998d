package stats

import (
	"math"
	"math/rand/v2"
	"testing"

	"uparrot/core/verdict"
)

// The fit finds the memory of links of two states with any loss in each: by how much the number lost varies more than
// that of independent losses, 1 + 2 c m / (1 - m) with c = (bad - good)² g b / (p (1 - p)).
func TestMemory(t *testing.T) {
	for i, l := range []Link{TwoStates(0, 1, 0.1, 5), TwoStates(0, 0.5, 0.1, 20), TwoStates(0.01, 0.2, 0.3, 60), TwoStates(0.02, 0.3, 0.2, 20)} {
		m := 1 - 1/l.Stretch - l.Share/(1-l.Share)/l.Stretch
		p := l.Loss(1)
		want := 1 + 2*(l.Bad-l.Good)*(l.Bad-l.Good)*l.Share*(1-l.Share)/(p*(1-p))*m/(1-m)
		rng := rand.New(rand.NewPCG(uint64(i), 1))
		var r Runs
		l.Play(rng, 1_000_000, r.Add)
		got := r.memory()
		if math.Abs(got.inflation-want) > 0.15*want || math.Abs(got.frames-1/(1-m)) > 0.35/(1-m) {
			t.Errorf("%s: %+v, want %.2f over %.1f frames", l.Name, got, want, 1/(1-m))
		}
	}
	// Single losses have none, and what is kept goes on as it was.
	rng := rand.New(rand.NewPCG(1, 1))
	var r Runs
	Independent(0.1).Play(rng, 1_000_000, r.Add)
	if m := r.memory(); m.inflation > 1.1 {
		t.Errorf("%+v", m)
	}
	TwoStates(0, 0.5, 0.1, 20).Play(rng, 5000, r.Add)
	if again := RunsFrom(r.State(), true); again.memory() != r.memory() || again.Share() != r.Share() || again != r {
		t.Errorf("%+v, %+v", again.memory(), r.memory())
	}
	// Of what an earlier version has kept the runs alone tell.
	var bursts Runs
	TwoStates(0, 1, 0.1, 5).Play(rng, 5000, bursts.Add)
	old := bursts.State()
	old.Scales = nil
	if again := RunsFrom(old, true); again.Share().Ratio != bursts.Share().Ratio || math.Abs(again.memory().inflation-bursts.memory().inflation) > 0.3*bursts.memory().inflation {
		t.Errorf("%+v, %+v", again.memory(), bursts.memory())
	}
}

// What is decided and the bounds beside it say the same: a limit that is broken is below them, one that is kept not.
func TestBoundsAgree(t *testing.T) {
	decided := map[verdict.Verdict]int{}
	for i, l := range []Link{Independent(0), Independent(0.01), Independent(0.2), TwoStates(0, 1, 0.2, 5), TwoStates(0, 0.5, 0.3, 20), Fading(0.1, 1, 50)} {
		var r Runs
		l.Play(rand.New(rand.NewPCG(uint64(i), 3)), 7000, func(lost bool) {
			if r.Add(lost); r.Frames()%10 != 0 {
				return
			}
			v, s := r.Sequential(0.05), r.Sequence()
			decided[v]++
			if v != s.Judge(0.05) {
				t.Fatalf("%s, %d frames: %s, and the bounds are %v", l.Name, r.Frames(), v, s)
			}
		})
	}
	if decided[verdict.Passed] < 50 || decided[verdict.Failed] < 50 || decided[verdict.Undecided] < 50 {
		t.Error(decided)
	}
}

// A million frames, and a look at them a thousand times, beside the frames alone.
func BenchmarkRuns(b *testing.B) {
	const frames = 1_000_000
	link := TwoStates(0.01, 0.5, 0.1, 60)
	b.Run("bare", func(b *testing.B) {
		for b.Loop() {
			lost := 0
			link.Play(rand.New(rand.NewPCG(1, 1)), frames, func(is bool) { lost += count(is) })
		}
	})
	b.Run("runs", func(b *testing.B) {
		for b.Loop() {
			var r Runs
			link.Play(rand.New(rand.NewPCG(1, 1)), frames, r.Add)
		}
	})
	b.Run("runs, looked at", func(b *testing.B) {
		for b.Loop() {
			var r Runs
			link.Play(rand.New(rand.NewPCG(1, 1)), frames, func(is bool) {
				if r.Add(is); r.Frames()%(frames/1000) == 0 {
					r.Sequential(0.02)
				}
			})
		}
	})
}
