package stats

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"testing"

	"uparrot/core/verdict"
)

// whole makes 4000 runs a cell and prints the tables of docs/link.md: -args -truth.
var whole = flag.Bool("truth", false, "make 4000 runs a cell, and print the tables")

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

// cells are the links and lengths of tests for which docs/link.md tells how often the interval of loss is right.
func cells() (all []cell) {
	var links []Link
	for _, loss := range []float64{0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.3} {
		links = append(links, Independent(loss))
	}
	for _, loss := range []float64{0.01, 0.05, 0.2} {
		for _, stretch := range []float64{2, 10, 50} {
			links = append(links, TwoStates(0, 1, loss, stretch))
		}
	}
	for _, stretch := range []float64{20, 60, 200} {
		links = append(links, TwoStates(0, 0.2, 0.1, stretch), TwoStates(0, 0.5, 0.1, stretch), TwoStates(0.01, 0.5, 0.1, stretch), TwoStates(0.01, 0.2, 0.3, stretch), TwoStates(0.02, 0.3, 0.2, stretch))
	}
	for _, fade := range []float64{10, 50, 150} {
		links = append(links, Fading(0.02, 1, fade), Fading(0.05, 1, fade), Fading(0.1, 1.5, fade), Fading(0.3, 1, fade))
	}
	for _, loss := range []float64{0.005, 0.01, 0.05} {
		links = append(links, OneBurst(loss, 20), OneBurst(loss, 100))
	}
	for _, l := range links {
		for _, frames := range []int{200, 1000, 5000, 20_000} {
			all = append(all, cell{l, frames})
		}
	}
	return all
}

type cell struct {
	Link
	frames int
}

// met is how often the interval held the truth in a cell, and how often it did not and nothing said so.
func (c cell) met(rounds int, seed uint64, play func(rng *rand.Rand, c cell, lost func(bool))) (covered, unqualified float64) {
	rng := rand.New(rand.NewPCG(seed, uint64(c.frames)))
	truth := c.Loss(c.frames)
	for range rounds {
		var r Runs
		play(rng, c, r.Add)
		if s := r.Share(); s.Low <= truth && truth <= s.High {
			covered++
		} else if r.Doubt() == "" {
			unqualified++
		}
	}
	return covered / float64(rounds), unqualified / float64(rounds)
}

// otherwise makes the losses of a cell in another way than the links do: stretch by stretch, by how long each lasts,
// and fades as the sum of two parts of a state, with the odds looked up.
func otherwise(rng *rand.Rand, c cell, lost func(bool)) {
	var chances []float64
	switch {
	case c.Fade > 0:
		odds := math.Exp(c.middle())
		a, b := rng.NormFloat64(), rng.NormFloat64()
		keep := math.Pow(math.E, -1/c.Fade)
		for range c.frames {
			x := (a + b) / math.Sqrt2
			o := odds * math.Exp(c.Depth*x)
			chances = append(chances, o/(1+o))
			a, b = keep*a+math.Sqrt(1-keep*keep)*rng.NormFloat64(), keep*b+math.Sqrt(1-keep*keep)*rng.NormFloat64()
		}
	case c.Share > 0:
		lasts := func(mean float64) int { // geometric, from 1
			return 1 + int(math.Log(1-rng.Float64())/math.Log(1-1/mean))
		}
		for bad := rng.Float64() < c.Share; len(chances) < c.frames; bad = !bad {
			chance, mean := c.Good, c.Stretch*(1-c.Share)/c.Share
			if bad {
				chance, mean = c.Bad, c.Stretch
			}
			for range lasts(mean) {
				chances = append(chances, chance)
			}
		}
	default:
		for range c.frames {
			chances = append(chances, c.Good)
		}
		if c.Burst > 0 {
			from := rng.IntN(c.frames - c.Burst + 1)
			for i := range c.Burst {
				chances[from+i] = 1
			}
		}
	}
	for _, chance := range chances[:c.frames] {
		lost(rng.Float64() < chance)
	}
}

// The sentence about loss is wrong, and nothing says that it is not sure, in at most 7 % of tests in each of 200
// cells, and in 5.5 % over all; where 20 stretches of loss or more are to be expected the interval is right in 93 to
// 97 %, but for deep and slow fades, of which docs/link.md tells. Two simulations that share no code agree. Twenty
// cells are drawn, or all.
func TestTruthOfLoss(t *testing.T) {
	if testing.Short() {
		t.Skip("many made-up links take long")
	}
	t.Parallel()
	all := cells()
	if len(all) != 200 {
		t.Fatalf("%d cells", len(all))
	}
	drawn, n := rand.New(rand.NewPCG(34, 1)).Perm(len(all))[:20], 400
	if *whole {
		drawn, n = nil, 2000
		for i := range all {
			drawn = append(drawn, i)
		}
	}
	type row struct{ covered, unqualified, again, both float64 }
	rows := make([]row, len(all))
	var each sync.WaitGroup
	slots := make(chan struct{}, runtime.NumCPU())
	for _, i := range drawn {
		slots <- struct{}{}
		each.Go(func() {
			defer func() { <-slots }()
			r, c := &rows[i], all[i]
			r.covered, r.unqualified = c.met(n, uint64(i), func(rng *rand.Rand, c cell, lost func(bool)) { c.Play(rng, c.frames, lost) })
			r.again, r.both = c.met(n, uint64(1000+i), otherwise)
		})
	}
	each.Wait()
	sum := 0.0
	error := func(p float64) float64 { return 4 * math.Sqrt(max(p*(1-p), 0.01)/float64(n)) }
	for _, i := range drawn {
		r, c := rows[i], all[i]
		sum += r.unqualified / float64(len(drawn))
		if math.Abs(r.covered-r.again) > math.Sqrt2*error(r.covered) || math.Abs(r.unqualified-r.both) > math.Sqrt2*error(r.unqualified) {
			t.Errorf("%s, %d frames: right in %.3f and %.3f, unqualified wrong in %.3f and %.3f", c.Name, c.frames, r.covered, r.again, r.unqualified, r.both)
		}
		if r.unqualified > 0.07+error(0.07)/2 {
			t.Errorf("%s, %d frames: wrong and unqualified in %.3f", c.Name, c.frames, r.unqualified)
		}
		if c.Stretches(c.frames) >= 20 && (r.covered < 0.92-error(0.95)/2 || r.covered > 0.97+error(0.95)/2) {
			t.Errorf("%s, %d frames: right in %.3f", c.Name, c.frames, r.covered)
		}
	}
	if sum > 0.055 {
		t.Errorf("wrong and unqualified in %.4f over all", sum)
	}
	if !*whole {
		return
	}
	fmt.Printf("| link | 200 frames | 1000 | 5000 | 20,000 |\n| --- | --- | --- | --- | --- |\n")
	for i := 0; i < len(all); i += 4 {
		fmt.Printf("| %s", all[i].Name)
		for j := range 4 {
			fmt.Printf(" | %.1f, %.1f", 100*rows[i+j].covered, 100*rows[i+j].unqualified)
		}
		fmt.Println(" |")
	}
	fmt.Printf("over all cells wrong and unqualified in %.2f %%\n", 100*sum)
}

// Of links whose losses come singly it is seldom said that they come in stretches.
func TestTruthOfStretches(t *testing.T) {
	if testing.Short() {
		t.Skip("many made-up links take long")
	}
	t.Parallel()
	n, slack := rounds()
	for _, loss := range []float64{0.01, 0.05, 0.3} {
		for _, frames := range []int{100, 1000, 10_000} {
			rng := rand.New(rand.NewPCG(uint64(1e6*loss), uint64(frames)))
			said := 0
			for range n {
				var r Runs
				Independent(loss).Play(rng, frames, r.Add)
				said += count(strings.Contains(r.Doubt(), "come in stretches"))
			}
			if share := float64(said) / float64(n); share > 0.07+slack(0.07) {
				t.Errorf("loss %v, %d frames: %.3f of independent losses are said to come in stretches", loss, frames, share)
			}
		}
	}
}

// A number of frames that is said to decide does so in four cases of five, over links of all kinds that lose less
// and more than the limit, and whose first test has not decided.
func TestTruthOfFramesInAll(t *testing.T) {
	if testing.Short() {
		t.Skip("many made-up links take long")
	}
	t.Parallel()
	const limit = 0.05
	n := 1000
	if *whole {
		n = 6000
	}
	for kind, link := range map[string]func(loss float64) Link{
		"single losses": Independent,
		"bursts":        func(loss float64) Link { return TwoStates(0, 1, loss, 4) },
		"stretches":     func(loss float64) Link { return TwoStates(0.01, 0.5, max(0.001, (loss-0.01)/0.49), 15) },
	} {
		rng := rand.New(rand.NewPCG(17, uint64(len(kind))))
		decided, promises := 0, 0
		for promises < n {
			l := link(limit * (0.3 + 1.7*rng.Float64()))
			var r, again Runs
			l.Play(rng, []int{500, 2000}[rng.IntN(2)], r.Add)
			if r.Share().Judge(limit) != verdict.Undecided {
				continue
			}
			all := r.FramesInAll(limit)
			if all == 0 || all > 100_000 {
				continue
			}
			l.Play(rng, all, again.Add)
			promises++
			decided += count(again.Share().Judge(limit) != verdict.Undecided)
		}
		if kept := float64(decided) / float64(promises); kept < 0.78 || kept > 0.9 {
			t.Errorf("%s: the number of frames decides in %.3f", kind, kept)
		}
	}
}

// However often it is looked at, the sequential test names the wrong side in at most 5 % of runs at the limit itself,
// the bounds leave out the truth in as many, and clear cases are decided; a link that loses half as much again in
// stretches of its own is passed in at most 7 %.
func TestTruthOfDeciding(t *testing.T) {
	if testing.Short() {
		t.Skip("many made-up links take long")
	}
	t.Parallel()
	n, slack := rounds()
	n = min(n, 1000) // each looks at its frames many times
	const limit, most, every = 0.05, 8000, 100
	links := []Link{Independent(limit), TwoStates(0, 1, limit, 2), TwoStates(0, 1, limit, 10), TwoStates(0, 0.5, 0.1, 20), TwoStates(0.01, 0.5, 0.0816, 60), Fading(limit, 1, 50)}
	for i, l := range links {
		for _, c := range []struct {
			times   float64 // of the limit
			decides float64
		}{{1, 0}, {1.5, 0}, {0.1, 0.7}, {4, 0.95}} {
			own := l
			own.Good *= c.times
			if own.Share > 0 {
				own.Good, own.Share = l.Good, (limit*c.times-l.Good)/(l.Bad-l.Good)
			}
			if own.Share < 0 || i > 3 && c.decides > 0 {
				continue
			}
			rng := rand.New(rand.NewPCG(uint64(i), uint64(1e6*c.times)))
			wrong, decided, left := 0, 0, 0
			for range n {
				var r Runs
				out, is := false, verdict.Undecided
				own.Until(rng, most, func(lost bool) bool {
					if r.Add(lost); r.Frames()%every == 0 {
						is = r.Sequential(limit)
						s := r.Sequence()
						out = out || limit*c.times < s.Low || limit*c.times > s.High
					}
					return is == verdict.Undecided
				})
				decided += count(is != verdict.Undecided)
				wrong += count(is == verdict.Passed && c.times >= 1 || is == verdict.Failed && c.times <= 1)
				left += count(out)
			}
			at := func(k int) float64 { return float64(k) / float64(n) }
			if at(wrong) > 0.07+slack(0.07) || at(left) > 0.07+slack(0.07) || at(decided) < c.decides-slack(c.decides) {
				t.Errorf("%s, %v of the limit: %.3f wrong, %.3f left the bounds, %.3f decided", own.Name, c.times, at(wrong), at(left), at(decided))
			}
			if *whole {
				fmt.Printf("| %s | %v %% | %.1f %% | %.1f %% | %.1f %% |\n", own.Name, 100*own.Loss(1), 100*at(wrong), 100*at(left), 100*at(decided))
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
	if testing.Short() {
		t.Skip("many made-up links take long")
	}
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

// Equal links are called different in a twentieth of comparisons, also where one test is far shorter than the other,
// and where losses come in stretches; and so many frames show a difference as it is said, in four cases of five.
func TestTruthOfComparing(t *testing.T) {
	if testing.Short() {
		t.Skip("many made-up links take long")
	}
	t.Parallel()
	n, slack := rounds()
	for _, c := range []struct{ short, long int }{{60, 20_000}, {200, 5000}, {1000, 1000}} {
		rng := rand.New(rand.NewPCG(uint64(c.short), uint64(c.long)))
		different := 0
		for range n {
			var a, b Blocks
			for range c.short {
				a.Add(50 * math.Exp(0.3*rng.NormFloat64()))
			}
			for range c.long {
				b.Add(50 * math.Exp(0.3*rng.NormFloat64()))
			}
			different += count(Permutation(&a, &b).P < 0.05)
		}
		if d := float64(different) / float64(n); d > 0.07+slack(0.07) {
			t.Errorf("%d and %d frames: equal latencies are different in %.3f", c.short, c.long, d)
		}
	}
	for _, l := range []Link{Independent(0.05), TwoStates(0, 0.5, 0.1, 20), TwoStates(0.01, 0.5, 0.1, 60)} {
		rng := rand.New(rand.NewPCG(7, uint64(1e6*l.Loss(1))))
		different, shown := 0, 0
		for range n {
			var a, b, worse Runs
			l.Play(rng, 5000, a.Add)
			l.Play(rng, 5000, b.Add)
			different += count(Newcombe(a.Share(), b.Share()).Shown())
			size := 0.02
			frames := FramesToShow(l.Loss(1), size, float64(a.Frames())/a.Effective())
			more := l
			if more.Share > 0 {
				more.Share += size / (l.Bad - l.Good)
			} else {
				more.Good += size
			}
			var first Runs
			l.Play(rng, frames, first.Add)
			more.Play(rng, frames, worse.Add)
			shown += count(Newcombe(worse.Share(), first.Share()).Low > 0)
		}
		if d := float64(different) / float64(n); d > 0.06+slack(0.06) {
			t.Errorf("%s: equal losses are different in %.3f", l.Name, d)
		}
		if s := float64(shown) / float64(n); s < 0.78-slack(0.8) || s > 0.9+slack(0.9) {
			t.Errorf("%s: so many frames show a difference in %.3f", l.Name, s)
		}
	}
}
