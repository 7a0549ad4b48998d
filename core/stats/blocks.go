package stats

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"math"
	"math/rand/v2"
	"sort"

	"gonum.org/v1/gonum/mathext"
)

// Blocks are values in the order in which they came, in at most 64 consecutive blocks of
// as many values each: enough to tell by how much neighbours resemble each other, in
// memory that does not grow. One that never came, such as the
// latency of a lost frame, is greater than any other: add +Inf.
type Blocks struct {
	// Step is the distance of two values that are told apart; 0 tells apart those that
	// differ by 0.2 %, which must be above 0.
	Step float64

	size int // values in a block
	list []block
}

// block is how often each value came, by its bin.
type block struct {
	n    int
	bins map[int32]int32
}

// mostBlocks bounds how many there are; an even number.
const mostBlocks = 64

// never is the bin of a value that never came.
const never = math.MaxInt32

// binWidth is the logarithm of the ratio of neighbouring bins' values.
const binWidth = 0.002

func (b *Blocks) bin(v float64) int32 {
	switch {
	case math.IsInf(v, 1):
		return never
	case b.Step > 0:
		return int32(math.Round(v / b.Step))
	}
	return int32(math.Round(math.Log(max(v, 1e-9)) / binWidth))
}

// middle is the value of a bin.
func (b *Blocks) middle(bin int32) float64 {
	switch {
	case bin == never:
		return math.Inf(1)
	case b.Step > 0:
		return float64(bin) * b.Step
	}
	return math.Exp(float64(bin) * binWidth)
}

// Add takes in the next value; NaN is none.
func (b *Blocks) Add(v float64) {
	if math.IsNaN(v) {
		return
	}
	if b.size == 0 {
		b.size = 1
	}
	if n := len(b.list); n == 0 || b.list[n-1].n == b.size {
		if n == mostBlocks {
			b.list = merged(b.list, 2)
			b.size *= 2
		}
		b.list = append(b.list, block{bins: map[int32]int32{}})
	}
	last := &b.list[len(b.list)-1]
	last.n++
	last.bins[b.bin(v)]++
}

// merged are blocks put together, so many into one; a rest that is less than half of one
// goes to the last.
func merged(list []block, by int) []block {
	var out []block
	for i := 0; i < len(list); i += by {
		m := block{bins: map[int32]int32{}}
		part := list[i:min(i+by, len(list))]
		short := len(part)*2 < by || len(part) == 1 && i > 0 && part[0].n*2 < list[0].n
		if short && len(out) > 0 {
			m = out[len(out)-1]
			out = out[:len(out)-1]
		}
		for _, p := range part {
			m.n += p.n
			for bin, c := range p.bins {
				m.bins[bin] += c
			}
		}
		out = append(out, m)
	}
	return out
}

// Clone is a copy that grows by itself.
func (b *Blocks) Clone() Blocks {
	c := Blocks{Step: b.Step, size: b.size}
	for _, old := range b.list {
		n := block{n: old.n, bins: make(map[int32]int32, len(old.bins))}
		for bin, count := range old.bins {
			n.bins[bin] = count
		}
		c.list = append(c.list, n)
	}
	return c
}

// N is how many values there are.
func (b *Blocks) N() int {
	n := 0
	for _, one := range b.list {
		n += one.n
	}
	return n
}

// batches are 11 to 20 long ones, or as many as there are values: long, so that they
// resemble each other little.
func (b *Blocks) batches() []block {
	by := 1
	for (len(b.list)+by-1)/by > 20 {
		by *= 2
	}
	return merged(b.list, by)
}

// inflation is by how much dependence between neighbours raises the variance of the mean of
// f over the values, at least 1, by the spread of the means of batches (C. Alexopoulos,
// A. F. Seila, Handbook of Simulation, 1998, section 7.3), and the degrees of freedom.
func inflation(batches []block, f func(bin int32) float64) (by, df float64) {
	var n, sum, squares float64
	means := make([]float64, len(batches))
	for i, b := range batches {
		for bin, count := range b.bins {
			v, c := f(bin), float64(count)
			means[i] += v * c
			sum += v * c
			squares += v * v * c
		}
		n += float64(b.n)
		means[i] /= float64(b.n)
	}
	mean, df := sum/n, float64(len(batches)-1)
	variance := squares/n - mean*mean
	if df < 1 || !(variance > 0) {
		return 1, max(1, df)
	}
	between := 0.0
	for i, b := range batches {
		between += float64(b.n) * (means[i] - mean) * (means[i] - mean)
	}
	return max(1, between/df/variance), df
}

// effective is how many independent values would tell as much of the mean of f; the
// uncertainty of the batches is in it.
func (b *Blocks) effective(f func(bin int32) float64) float64 {
	by, df := inflation(b.batches(), f)
	t := student(df)
	return max(1, min(float64(b.N()), float64(b.N())/by*(z/t)*(z/t)))
}

// Quantile is a quantile with the order statistics between which it lies with 95 %
// confidence. A bound that so few values do not give is 0 or +Inf; so is a value that
// never came.
type Quantile struct {
	Value, Low, High float64
	Effective        float64 // so many independent values would tell as much
}

// Quantile is the least value that a share q of the values does not exceed (its place is
// q n, rounded up), with its interval.
func (b *Blocks) Quantile(q float64) Quantile {
	n := b.N()
	if n == 0 {
		return Quantile{High: math.Inf(1)}
	}
	all := merged(b.list, len(b.list))[0]
	bins := make([]int32, 0, len(all.bins))
	for bin := range all.bins {
		bins = append(bins, bin)
	}
	sort.Slice(bins, func(i, j int) bool { return bins[i] < bins[j] })
	at := func(place int) float64 { // the place-th value
		for _, bin := range bins {
			if place -= int(all.bins[bin]); place <= 0 {
				return b.middle(bin)
			}
		}
		return math.Inf(1)
	}
	place := int(math.Ceil(q*float64(n) - 1e-9))
	out := Quantile{Value: at(max(1, place)), High: math.Inf(1)}
	threshold := b.bin(out.Value)
	out.Effective = b.effective(func(bin int32) float64 {
		if bin > threshold {
			return 1
		}
		return 0
	})
	m := int(out.Effective)
	low, high := ranks(q, m)
	if low > 0 {
		out.Low = at(max(1, low*n/m))
	}
	if high <= m {
		out.High = at((high*n + m - 1) / m)
	}
	return out
}

// Interval is a mean with its 95 % interval.
type Interval struct {
	Mean, Low, High float64
	Effective       float64 // so many independent values would tell as much
}

// Came are the values without those that never came.
func (b *Blocks) Came() Blocks {
	came := Blocks{Step: b.Step, size: b.size}
	for _, one := range b.list {
		c := block{n: one.n - int(one.bins[never]), bins: map[int32]int32{}}
		for bin, count := range one.bins {
			if bin != never {
				c.bins[bin] = count
			}
		}
		if c.n > 0 {
			came.list = append(came.list, c)
		}
	}
	return came
}

// Mean is the mean of the values that came, with Student's interval over batches. Under
// three values nothing is known of it: Low is -Inf and High +Inf.
func (b *Blocks) Mean() Interval {
	came := b.Came()
	n := float64(came.N())
	var sum, squares float64
	for _, one := range came.list {
		for bin, count := range one.bins {
			v := b.middle(bin)
			sum += v * float64(count)
			squares += v * v * float64(count)
		}
	}
	mean := sum / n
	if n < 3 {
		return Interval{mean, math.Inf(-1), math.Inf(1), n}
	}
	by, df := inflation(came.batches(), b.middle)
	half := student(df) * math.Sqrt(max(0, squares-n*mean*mean)/(n-1)*by/n)
	return Interval{mean, mean - half, mean + half, n / by}
}

// Permutation tells whether two samples differ by how great the difference of their mean
// ranks is among all ways of dealing their blocks out to the two (E. J. G. Pitman, 1937):
// all of them where they are few, else 9999 drawn ones. Blocks, since neighbours may
// resemble each other. P is how likely a difference as great or greater is if there is
// none; effect how often a value of the first is greater than one of the second, ties
// counting half.
func Permutation(a, b *Blocks) Ranks {
	if a.N() == 0 || b.N() == 0 {
		return Ranks{P: 1, Corrected: 1, Effect: 0.5}
	}
	la, lb := a.batches(), b.batches()
	if wa, wb := perBlock(la), perBlock(lb); max(wa, wb) >= 2*min(wa, wb) { // blocks of unequal size are not dealt out alike
		return welch(a, b, la, lb)
	}
	for size := max(perBlock(la), perBlock(lb)); perBlock(la)*2 <= size && len(la) > 1; {
		la = merged(la, 2)
	}
	for size := max(perBlock(la), perBlock(lb)); perBlock(lb)*2 <= size && len(lb) > 1; {
		lb = merged(lb, 2)
	}
	list := append(append([]block{}, la...), lb...)
	rank := midranks(list)
	sums, ns := make([]float64, len(list)), make([]float64, len(list))
	for i, one := range list {
		for bin, count := range one.bins {
			sums[i] += rank[bin] * float64(count)
		}
		ns[i] = float64(one.n)
	}
	total, n := 0.0, 0.0
	for i := range list {
		total, n = total+sums[i], n+ns[i]
	}
	apart := func(first []int) float64 {
		s, m := 0.0, 0.0
		for _, i := range first {
			s, m = s+sums[i], m+ns[i]
		}
		return math.Abs(s/m - (total-s)/(n-m))
	}
	first := make([]int, len(la))
	for i := range first {
		first[i] = i
	}
	r := Ranks{Effect: effect(sums[:len(la)], a.N(), b.N())}
	r.P = dealt(len(list), len(la), apart(first)*(1-1e-12), apart)
	r.Corrected = r.P
	qa, qb := a.Quantile(0.5).Value, b.Quantile(0.5).Value
	if r.Shift = qa - qb; math.IsInf(qa, 0) || math.IsInf(qb, 0) {
		r.Shift = 0
	}
	return r
}

// welch tells two samples apart whose blocks are of unequal size: their mean ranks, with the variance of each by its
// own batches, and Student's t with the degrees of freedom of B. L. Welch (Biometrika 34, 1947).
func welch(a, b *Blocks, la, lb []block) Ranks {
	rank := midranks(append(append([]block{}, la...), lb...))
	of := func(list []block) (mean, variance, df float64) {
		by, df := inflation(list, func(bin int32) float64 { return rank[bin] })
		var n, sum, squares float64
		for _, one := range list {
			for bin, count := range one.bins {
				sum, squares, n = sum+rank[bin]*float64(count), squares+rank[bin]*rank[bin]*float64(count), n+float64(count)
			}
		}
		mean = sum / n
		return mean, max(0, squares/n-mean*mean) * by / max(1, n-1), max(1, df)
	}
	ma, va, fa := of(la)
	mb, vb, fb := of(lb)
	na := 0.0
	for _, one := range la {
		na += float64(one.n)
	}
	r := Ranks{P: 1, Effect: effect([]float64{ma * na}, a.N(), b.N())}
	if v := va + vb; v > 0 {
		df := v * v / (va*va/fa + vb*vb/fb)
		t := (ma - mb) / math.Sqrt(v)
		r.P = mathext.RegIncBeta(df/2, 0.5, df/(df+t*t)) // both sides
	} else if ma != mb {
		r.P = 0
	}
	r.Corrected = r.P
	if qa, qb := a.Quantile(0.5).Value, b.Quantile(0.5).Value; !math.IsInf(qa, 0) && !math.IsInf(qb, 0) {
		r.Shift = qa - qb
	}
	return r
}

// perBlock is how many values the first block has.
func perBlock(list []block) int { return list[0].n }

// effect is how often a value of the first sample is the greater, from its rank sums.
func effect(sums []float64, na, nb int) float64 {
	s := 0.0
	for _, v := range sums {
		s += v
	}
	return (s - float64(na)*float64(na+1)/2) / (float64(na) * float64(nb))
}

// midranks are the ranks of the bins among all values, ties in the middle.
func midranks(list []block) map[int32]float64 {
	all := merged(list, len(list))[0]
	bins := make([]int32, 0, len(all.bins))
	for bin := range all.bins {
		bins = append(bins, bin)
	}
	sort.Slice(bins, func(i, j int) bool { return bins[i] < bins[j] })
	rank, below := map[int32]float64{}, 0.0
	for _, bin := range bins {
		c := float64(all.bins[bin])
		rank[bin] = below + (c+1)/2
		below += c
	}
	return rank
}

// mostDeals is up to how many ways of dealing all are tried, and drawnDeals how many are
// drawn else.
const (
	mostDeals  = 20_000
	drawnDeals = 9999
)

// dealt is the share of ways to deal n out, k to the first, that are at least so far
// apart.
func dealt(n, k int, far float64, apart func([]int) float64) float64 {
	ways := 1.0
	for i := range k {
		ways = ways * float64(n-i) / float64(i+1)
	}
	hits, all := 0, 0
	count := func(first []int) {
		if all++; apart(first) >= far {
			hits++
		}
	}
	if ways <= mostDeals {
		first := make([]int, k)
		var deal func(at, from int)
		deal = func(at, from int) {
			if at == k {
				count(first)
				return
			}
			for i := from; i <= n-(k-at); i++ {
				first[at] = i
				deal(at+1, i+1)
			}
		}
		deal(0, 0)
		return float64(hits) / float64(all)
	}
	rng := rand.New(rand.NewPCG(1937, uint64(n)))
	for range drawnDeals {
		count(rng.Perm(n)[:k])
	}
	return float64(hits+1) / float64(all+1)
}

// Holm corrects several p-values for being several (S. Holm, Scandinavian Journal of
// Statistics 6, 1979): they stay in their order.
func Holm(ps []float64) []float64 {
	order := make([]int, len(ps))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(i, j int) bool { return ps[order[i]] < ps[order[j]] })
	out, least := make([]float64, len(ps)), 0.0
	for i, at := range order {
		least = min(1, max(least, ps[at]*float64(len(ps)-i)))
		out[at] = least
	}
	return out
}

// written is the form of blocks in files.
type written struct {
	Size   int     `json:"size"`
	Step   float64 `json:"step,omitempty"`
	Blocks string  `json:"blocks"` // base64 of varints: for each block its number of bins, and for each of these the step from the last one and the count
}

// MarshalJSON writes the blocks compactly.
func (b Blocks) MarshalJSON() ([]byte, error) {
	var raw []byte
	for _, one := range b.list {
		bins := make([]int32, 0, len(one.bins))
		for bin := range one.bins {
			bins = append(bins, bin)
		}
		sort.Slice(bins, func(i, j int) bool { return bins[i] < bins[j] })
		raw = binary.AppendUvarint(raw, uint64(len(bins)))
		last := int64(0)
		for _, bin := range bins {
			raw = binary.AppendVarint(raw, int64(bin)-last)
			raw = binary.AppendUvarint(raw, uint64(one.bins[bin]))
			last = int64(bin)
		}
	}
	return json.Marshal(written{b.size, b.Step, base64.StdEncoding.EncodeToString(raw)})
}

// UnmarshalJSON reads them.
func (b *Blocks) UnmarshalJSON(text []byte) error {
	var w written
	if err := json.Unmarshal(text, &w); err != nil {
		return err
	}
	wrong := errors.New("the blocks of latencies cannot be read")
	raw, err := base64.StdEncoding.DecodeString(w.Blocks)
	if err != nil || w.Size < 0 || w.Step < 0 {
		return wrong
	}
	*b = Blocks{Step: w.Step, size: w.Size}
	take := func(n int, v int64) (int64, bool) {
		if n <= 0 {
			return 0, false
		}
		raw = raw[n:]
		return v, true
	}
	unsigned := func() (int64, bool) {
		v, n := binary.Uvarint(raw)
		return take(n, int64(min(v, math.MaxInt32)))
	}
	for len(raw) > 0 {
		bins, ok := unsigned()
		if !ok || bins == 0 || len(b.list) == mostBlocks {
			return wrong
		}
		one, bin := block{bins: map[int32]int32{}}, int64(0)
		for range bins {
			v, n := binary.Varint(raw)
			step, ok1 := take(n, v)
			count, ok2 := unsigned()
			if bin += step; !ok1 || !ok2 || count == 0 || bin < math.MinInt32 || bin > never {
				return wrong
			}
			one.bins[int32(bin)] += int32(count)
			one.n += int(count)
		}
		b.list = append(b.list, one)
	}
	return nil
}
