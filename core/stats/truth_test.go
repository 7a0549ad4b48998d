package stats

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"uparrot/core/verdict"
)

// whole makes 4000 runs a cell and prints the tables of docs/link.md: -args -truth.
var whole = flag.Bool("truth", false, "make 4000 runs a cell, and print the tables")

// lossy is a simulated link that loses a share of its frames, in bursts of a mean
// length (the two-state model); 1 is independent.
type lossy struct {
	share, burst float64
	bad          bool
	rng          *rand.Rand
}

func newLossy(rng *rand.Rand, share, burst float64) *lossy {
	return &lossy{share, burst, rng.Float64() < share, rng}
}

// next is whether the next frame is lost.
func (l *lossy) next() bool {
	if l.burst == 1 {
		return l.rng.Float64() < l.share
	}
	was, leave := l.bad, 1/l.burst
	if l.bad {
		l.bad = l.rng.Float64() >= leave
	} else {
		l.bad = l.rng.Float64() < l.share*leave/(1-l.share)
	}
	return was
}

// rounds is how many runs a cell has, and by how much a share of them may miss what it
// is to be: four standard deviations, two of the whole.
func rounds() (n int, slack func(p float64) float64) {
	n = 200
	if *whole {
		n = 4000
	}
	return n, func(p float64) float64 {
		if *whole {
			return 2 * math.Sqrt(p*(1-p)/float64(n))
		}
		return 4 * math.Sqrt(p*(1-p)/float64(n))
	}
}

// The interval of loss covers the truth in 93 to 97 % of runs where there are 20 bursts
// or more to expect. Below that it does so in 90 %, or the run says why not: no loss was
// seen, or few bursts.
func TestTruthOfLoss(t *testing.T) {
	t.Parallel()
	n, slack := rounds()
	sizes := []int{100, 1000, 10_000}
	for _, burst := range []float64{1, 2, 5, 10, 30} {
		for _, share := range []float64{0.001, 0.01, 0.05, 0.1, 0.3} {
			row := fmt.Sprintf("| %v | %v %%", burst, 100*share)
			for i, frames := range sizes {
				rng := rand.New(rand.NewPCG(uint64(1000*burst), uint64(1e6*share)+uint64(i)))
				covered, told, together := 0, 0, 0
				for range n {
					l := newLossy(rng, share, burst)
					var r Runs
					for range frames {
						r.Add(l.next())
					}
					s := r.Share()
					if s.Low <= share && share <= s.High {
						covered++
					} else if r.Few() || r.Lost() == 0 || r.Lost() == frames {
						told++
					}
					if r.Together() {
						together++
					}
				}
				c, with := float64(covered)/float64(n), float64(covered+told)/float64(n)
				row += fmt.Sprintf(" | %.1f %%", 100*c)
				if bursts := float64(frames) * share / burst; bursts >= 20 {
					if c < 0.93-slack(0.93) || c > 0.97+slack(0.97) {
						t.Errorf("bursts of %v, loss %v, %d frames: covered in %.3f", burst, share, frames, c)
					}
				} else if with < 0.9-slack(0.9) {
					t.Errorf("bursts of %v, loss %v, %d frames: covered in %.3f, and said why not in %.3f", burst, share, frames, c, with-c)
				}
				if claimed := float64(together) / float64(n); burst == 1 && claimed > 0.05+max(slack(0.05), 0.01) {
					t.Errorf("loss %v, %d frames: %.3f of independent losses are said to stand together", share, frames, claimed)
				}
			}
			if *whole {
				fmt.Println(row + " |")
			}
		}
	}
}

// However often it is looked at, the sequential test names the wrong side in at most 5 % of
// runs at the limit itself, the bounds leave out the truth in as many, and clear cases
// are decided.
func TestTruthOfDeciding(t *testing.T) {
	t.Parallel()
	n, slack := rounds()
	const limit, most = 0.05, 4000
	for _, burst := range []float64{1, 2, 5, 10} {
		for _, c := range []struct {
			share   float64
			right   verdict.Verdict
			decides float64
		}{{limit, "", 0}, {0.005, verdict.Passed, 0.7}, {0.2, verdict.Failed, 0.95}} {
			rng := rand.New(rand.NewPCG(uint64(1000*burst), uint64(1e6*c.share)))
			wrong, decided, left := 0, 0, 0
			for range n {
				l := newLossy(rng, c.share, burst)
				var r Runs
				out, is := false, verdict.Undecided
				for i := range most {
					r.Add(l.next())
					if is == verdict.Undecided {
						is = r.Sequential(limit)
					}
					if i%64 == 63 {
						s := r.Sequence()
						out = out || c.share < s.Low || c.share > s.High
					}
				}
				decided += count(is != verdict.Undecided)
				wrong += count(is != verdict.Undecided && is != c.right)
				left += count(out)
			}
			at := func(k int) float64 { return float64(k) / float64(n) }
			if at(wrong) > SequentialError+slack(SequentialError) || at(left) > SequentialError+slack(SequentialError) || at(decided) < c.decides-slack(c.decides) {
				t.Errorf("bursts of %v, loss %v: %.3f wrong, %.3f left the bounds, %.3f decided", burst, c.share, at(wrong), at(left), at(decided))
			}
			if *whole && c.share == limit {
				fmt.Printf("| %v | %.1f %% | %.1f %% |\n", burst, 100*at(wrong), 100*at(left))
			}
		}
	}
}

func count(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Where the effective number is 30 or more, means and percentiles are within their
// intervals in at least 90 % of runs, however much neighbours resemble each other, and
// equal links are called different in about 5 %.
func TestTruthOfLatency(t *testing.T) {
	t.Parallel()
	n, slack := rounds()
	n /= 2
	for _, phi := range []float64{0, 0.5, 0.9} {
		for _, frames := range []int{100, 1000, 10_000} {
			rng := rand.New(rand.NewPCG(uint64(10*phi), uint64(frames)))
			mean, median, p95, different := 0, 0, 0, 0
			var last Blocks
			for i := range n {
				var b Blocks
				x := rng.NormFloat64()
				for range frames {
					x = phi*x + math.Sqrt(1-phi*phi)*rng.NormFloat64()
					b.Add(50 * math.Exp(0.3*x))
				}
				in := func(low, high, truth float64) int {
					return count(low <= truth*1.001 && truth*0.999 <= high) // as far as values are told apart
				}
				m, q, r := b.Mean(), b.Quantile(0.5), b.Quantile(0.95)
				mean += in(m.Low, m.High, 50*math.Exp(0.3*0.3/2))
				median += in(q.Low, q.High, 50)
				p95 += in(r.Low, r.High, 50*math.Exp(0.3*normalQuantile(0.95)))
				if i%8 == 1 {
					different += count(Permutation(&b, &last).P < 0.05)
				}
				last = b
			}
			effective := float64(frames) * (1 - phi) / (1 + phi)
			at := func(k int) float64 { return float64(k) / float64(n) }
			if least := 0.9 - 1.5*slack(0.9); effective >= 30 && min(at(mean), at(median), at(p95)) < least {
				t.Errorf("autocorrelation %v, %d frames: mean %.3f, median %.3f, 95th percentile %.3f", phi, frames, at(mean), at(median), at(p95))
			}
			if d := 8 * at(different); effective >= 100 && d > 0.05+max(0.05, 3*slack(0.05)) {
				t.Errorf("autocorrelation %v, %d frames: equal links are different in %.3f", phi, frames, d)
			}
			if *whole {
				fmt.Printf("| %v | %d | %.0f | %.1f %% | %.1f %% | %.1f %% | %.1f %% |\n", phi, frames, effective, 100*at(mean), 100*at(median), 100*at(p95), 800*at(different))
			}
		}
	}
}

// Blocks are written and read without a loss.
func TestBlocksInFiles(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	for _, step := range []float64{0, 0.01} {
		for _, n := range []int{0, 1, 63, 64, 65, 1000} {
			b := Blocks{Step: step}
			for i := range n {
				v := 50 * math.Exp(rng.NormFloat64())
				if step > 0 {
					v = -v
				}
				if i%10 == 3 {
					v = math.Inf(1)
				}
				b.Add(v)
			}
			text, err := b.MarshalJSON()
			var c Blocks
			if err == nil {
				err = c.UnmarshalJSON(text)
			}
			p, q := b.Quantile(0.5), c.Quantile(0.5)
			if err != nil || c.N() != n || p.Value != q.Value || p.Low != q.Low || p.High != q.High || n > 0 && math.Abs(c.Mean().Mean-b.Mean().Mean) > 1e-9*math.Abs(b.Mean().Mean) {
				t.Errorf("%d values, step %v: %v, %d", n, step, err, c.N())
			}
		}
	}
	for _, text := range []string{`{`, `{"size":-1}`, `{"blocks":"!"}`, `{"blocks":"/w=="}`, `{"blocks":"AQ=="}`, `{"blocks":"AA=="}`} {
		var b Blocks
		if b.UnmarshalJSON([]byte(text)) == nil {
			t.Errorf("read %s", text)
		}
	}
}
