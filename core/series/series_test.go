package series

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

// Whatever comes, in whatever order of sizes, is what the plain way says of it.
func TestSummary(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		var s Series
		n := rng.IntN(500)
		var all []float64
		at, longest, outside := noon, 0.0, 0
		first := -1
		for i := range n {
			gap := time.Duration(rng.IntN(5_000_000)) * time.Microsecond
			if at = at.Add(gap); i > 0 {
				longest = max(longest, gap.Seconds())
			}
			v := rng.NormFloat64()*3 + 1e6
			out := rng.IntN(40) == 0
			if rng.IntN(50) == 0 {
				v, out = math.NaN(), true
			}
			if out {
				if outside++; first < 0 {
					first = i
				}
			}
			if s.Add(at, v, out); !math.IsNaN(v) {
				all = append(all, v)
			}
		}
		sum := s.Summary()
		mean, m2, least, most := 0.0, 0.0, math.Inf(1), math.Inf(-1)
		for _, v := range all {
			mean += v / float64(len(all))
			least, most = min(least, v), max(most, v)
		}
		for _, v := range all {
			m2 += (v - mean) * (v - mean)
		}
		if sum.N != n || sum.None != n-len(all) || sum.Outside != outside || math.Abs(sum.Silence-longest) > 1e-9 || (sum.Worst != nil) != (first >= 0) {
			t.Fatalf("%+v of %d values, %d numbers, %d outside, %v s", sum, n, len(all), outside, longest)
		}
		if len(all) > 1 {
			sd := math.Sqrt(m2 / float64(len(all)-1))
			if math.Abs(float64(sum.Mean)-mean) > 1e-6 || math.Abs(float64(*sum.Spread)-sd) > 1e-6 || float64(sum.Least) != least || float64(sum.Greatest) != most {
				t.Fatalf("%+v, wanted mean %v, spread %v, %v to %v", sum, mean, sd, least, most)
			}
		}
		of, low, high := 0, math.Inf(1), math.Inf(-1)
		for _, sp := range s.Curve().Spans() {
			if of += sp.N; sp.N > 0 {
				low, high = min(low, sp.Least), max(high, sp.Greatest)
			}
		}
		if of != len(all) || len(all) > 0 && (low != least || high != most) || len(s.Curve().Spans()) > mostSpans {
			t.Fatalf("the curve has %d values from %v to %v", of, low, high)
		}
	}
}

// A series takes no more memory however long it is, and shows where nothing came.
func TestCurveGaps(t *testing.T) {
	var c Curve
	for i := range 200_000 { // a value a second, with an hour of silence
		if i < 100_000 || i > 103_600 {
			c.Add(noon.Add(time.Duration(i)*time.Second), 1)
		}
	}
	empty := 0
	for _, s := range c.Spans() {
		if s.N == 0 {
			empty++
		}
	}
	if wide := time.Duration(empty+2) * c.Width(); wide < time.Hour || empty == 0 || time.Duration(empty)*c.Width() > time.Hour {
		t.Errorf("%d stretches of %v are empty", empty, c.Width())
	}
}

func TestRings(t *testing.T) {
	var r Rings
	at := noon
	for i := range 4000 {
		at = noon.Add(time.Duration(i) * time.Second)
		r.Add(at, float64(i))
	}
	for level := range Levels {
		spans := r.Since(level, at, 100)
		if last := spans[99]; last.N == 0 || last.Greatest != 3999 {
			t.Errorf("level %d ends with %+v", level, last)
		}
	}
	if minute := r.Since(1, at, 60); minute[0].Least != 3940 {
		t.Errorf("a minute begins with %+v", minute[0])
	}
	if later := r.Since(1, at.Add(5*time.Second), 10); later[9].N != 0 || later[4].N != 1 {
		t.Errorf("5 s of silence are %+v", later)
	}
	if none := r.Since(0, at.Add(time.Hour), 100); none[0].N+none[99].N != 0 {
		t.Error("an hour later there is something")
	}
}

// What is packed comes out as it was, and takes little room.
func TestPack(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for _, k := range []struct {
		name string
		v    func(i int) float64
		most float64 // bytes a sample
	}{
		{"volts with two decimals", func(int) float64 { return math.Round(1420+20*rng.NormFloat64()) / 100 }, 6},
		{"counts", func(i int) float64 { return float64(i) }, 6},
		{"what was worked out", func(int) float64 { return rng.NormFloat64() / 3 }, 13},
		{"no numbers", func(i int) float64 {
			return []float64{math.NaN(), math.Inf(1), math.Copysign(0, -1), math.MaxFloat64, 5e-324}[i%5]
		}, 13},
	} {
		var samples []Sample
		at := noon
		for i := range 512 {
			at = at.Add(10*time.Millisecond + time.Duration(rng.IntN(2000)-1000)*time.Microsecond)
			samples = append(samples, Sample{at, k.v(i)})
		}
		b := Pack(samples)
		i := 0
		if err := Unpack(b, func(s Sample, text *string) error {
			if want := samples[i]; text != nil || !s.At.Equal(want.At.Truncate(time.Microsecond)) || math.Float64bits(s.Value) != math.Float64bits(want.Value) {
				t.Fatalf("%s: sample %d is %v, was %v", k.name, i, s, want)
			}
			i++
			return nil
		}); err != nil || i != len(samples) {
			t.Errorf("%s: %d samples, %v", k.name, i, err)
		}
		if each := float64(len(b)) / float64(len(samples)); each > k.most {
			t.Errorf("%s: %.1f bytes a sample", k.name, each)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(Pack([]Sample{{noon, 14.25}, {noon.Add(time.Second), 14.5}}))
	f.Add(Pack([]Sample{{noon, math.Pi}}))
	f.Add(PackTexts([]time.Time{noon}, []string{"ready"}))
	f.Fuzz(func(t *testing.T, b []byte) {
		n := 0
		_ = Unpack(b, func(Sample, *string) error { n++; return nil }) // cut or strange, it ends
		if n > len(b) {
			t.Errorf("%d samples out of %d bytes", n, len(b))
		}
	})
}
