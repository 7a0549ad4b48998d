package link

import (
	"math"
	"testing"
	"time"
)

// What is foreseen of a test: the worse the link, the less often it passes; a link beyond the limit
// seldom passes, one within it seldom fails; more frames decide more; bursts decide less; and the same seed
// gives the same.
func TestForesee(t *testing.T) {
	if testing.Short() {
		t.Skip("many made-up links take long")
	}
	most := 0.02
	p := Plan{Count: 1000, Every: 100 * time.Millisecond, Deadline: 2 * time.Second, Limits: Limits{MaxLoss: &most}}
	const times = 2000
	before := 2.0
	for _, loss := range []float64{0, 0.005, 0.01, 0.015, 0.02, 0.025, 0.03, 0.05, 0.2, 1} {
		f := p.Foresee(loss, 1, times, 7)
		if f.Passed.Ratio > before+0.02 {
			t.Errorf("a link of %v passes in %v, one better in %v", loss, f.Passed.Ratio, before)
		}
		before = f.Passed.Ratio
		if sum := f.Passed.Ratio + f.Failed.Ratio + f.Undecided.Ratio; math.Abs(sum-1) > 1e-9 {
			t.Errorf("%v: %v in all", loss, sum)
		}
		if loss > most && f.Passed.Ratio > 0.05 || loss < most && f.Failed.Ratio > 0.05 {
			t.Errorf("a link of %v: %+v", loss, f)
		}
		if f.Took != 999*100*time.Millisecond+2*time.Second || f.Frames != 1000 {
			t.Errorf("%v frames take %v", f.Frames, f.Took)
		}
		if again := p.Foresee(loss, 1, times, 7); again != f {
			t.Errorf("the same seed: %+v, %+v", f, again)
		}
	}
	if f := p.Foresee(0, 1, 10, 1); f.Passed.Ratio != 1 {
		t.Errorf("a perfect link: %+v", f)
	}
	if f := p.Foresee(1, 1, 10, 1); f.Failed.Ratio != 1 {
		t.Errorf("a dead link: %+v", f)
	}
	few, bursts := p, p.Foresee(0.01, 8, times, 7)
	few.Count = 200
	if a, b := few.Foresee(0.01, 1, times, 7), p.Foresee(0.01, 1, times, 7); a.Undecided.Ratio <= b.Undecided.Ratio || bursts.Undecided.Ratio <= b.Undecided.Ratio {
		t.Errorf("undecided: 200 frames %v, 1000 %v, in bursts %v", a.Undecided.Ratio, b.Undecided.Ratio, bursts.Undecided.Ratio)
	}
	sure := p
	sure.Sure, sure.Count = true, 20_000
	if f := sure.Foresee(0.06, 1, 200, 7); f.Failed.Ratio != 1 || f.Frames >= 2500 || f.Most < f.Frames {
		t.Errorf("until it is sure: %+v", f)
	}
}
