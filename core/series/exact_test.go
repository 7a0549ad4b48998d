package series

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"testing"
	"time"
)

// after is a moment so many milliseconds behind noon.
func after(ms int) time.Time { return noon.Add(time.Duration(ms) * time.Millisecond) }

// What a summary tells of a few values, worked out by hand.
func TestSummaryByHand(t *testing.T) {
	var s Series
	s.Add(after(0), 2, false)
	one := s.Summary()
	if one.Rate != 0 || one.Spread != nil || one.Silence != 0 || one.Mean != 2 || one.Least != 2 || one.Greatest != 2 {
		t.Errorf("%+v", one)
	}
	s.Add(after(1000), 4, true)
	s.Add(after(3000), 9, true)
	sum := s.Summary()
	if *sum.Spread != Number(math.Sqrt(13)) || sum.Mean != 5 || sum.Least != 2 || sum.Greatest != 9 || sum.Rate != 2.0/3 || sum.Silence != 2 || sum.N != 3 || sum.None != 0 ||
		sum.Outside != 2 || *sum.Worst != (Outside{4, after(1000)}) || sum.Last != 9 || sum.Began != after(0) || sum.Ended != after(3000) {
		t.Errorf("%+v, spread %v", sum, *sum.Spread)
	}
	s.Add(after(4000), math.Inf(1), true)
	if sum := s.Summary(); sum.None != 1 || sum.Mean != 5 || sum.Outside != 3 || sum.Rate != 0.75 {
		t.Errorf("%+v", sum)
	}
	var same Series // all at one moment: there is no rate
	same.Add(after(0), 1, false)
	same.Add(after(0), 1, false)
	if sum := same.Summary(); sum.Rate != 0 || *sum.Spread != 0 {
		t.Errorf("%+v", sum)
	}
	var texts Series
	for i := range MostTexts + 5 {
		texts.AddText(after(i), fmt.Sprint(i))
	}
	texts.AddText(after(2000), "3")
	if sum := texts.Summary(); sum.Texts != MostTexts || sum.LastText != "3" || sum.None != 0 || sum.N != MostTexts+6 || sum.Mean.Finite() || sum.Last.Finite() {
		t.Errorf("%+v", sum)
	}
	texts.Add(after(3000), 7, false) // a number among texts: then the texts are no numbers
	if sum := texts.Summary(); sum.None != MostTexts+6 || sum.Mean != 7 {
		t.Errorf("%+v", sum)
	}
}

// The stretches of a curve, by hand: a millisecond each until there would be 1025, then two.
func TestCurveByHand(t *testing.T) {
	var c Curve
	c.Add(after(5), 1)
	c.Add(after(3), 2) // from before the first
	c.Add(after(5+1023), 4)
	if len(c.Spans()) != 1024 || c.Width() != time.Millisecond || c.Start() != after(5) || c.Spans()[0] != (Span{N: 2, Sum: 3, Least: 1, Greatest: 2}) || c.Spans()[1023] != (Span{N: 1, Sum: 4, Least: 4, Greatest: 4}) {
		t.Errorf("%d of %v: %+v, %+v", len(c.Spans()), c.Width(), c.Spans()[0], c.Spans()[1023])
	}
	c.Add(after(5+1), 8)
	c.Add(after(5+1024), 16)
	if len(c.Spans()) != 513 || c.Width() != 2*time.Millisecond || c.Spans()[0] != (Span{N: 3, Sum: 11, Least: 1, Greatest: 8}) || c.Spans()[511] != (Span{N: 1, Sum: 4, Least: 4, Greatest: 4}) || c.Spans()[512] != (Span{N: 1, Sum: 16, Least: 16, Greatest: 16}) {
		t.Errorf("%d of %v: %+v", len(c.Spans()), c.Width(), c.Spans()[511:])
	}
}

// What rings hold, by hand: 1200 stretches each, those that are gone and those yet to come empty.
func TestRingsByHand(t *testing.T) {
	if got := []time.Duration{Covers(0), Covers(1), Covers(2), Covers(3)}; !reflect.DeepEqual(got, []time.Duration{time.Minute, 20 * time.Minute, 5 * time.Hour, 80 * time.Hour}) {
		t.Error(got)
	}
	var r Rings
	at := func(i int) time.Time { return noon.Add(time.Duration(i) * Width(1)) } // noon begins a second
	sums := func(until, n int) (all []float64) {
		for _, s := range r.Since(1, at(until), n) {
			all = append(all, s.Sum)
		}
		return all
	}
	r.Add(at(0), 1)
	r.Add(at(2), 2)
	r.Add(at(2), 3)
	if got := sums(3, 5); !reflect.DeepEqual(got, []float64{0, 1, 0, 5, 0}) {
		t.Error(got)
	}
	r.Add(at(1200), 7) // the stretch of noon is gone
	r.Add(at(0), 100)  // ... and takes nothing more
	if got := r.Since(1, at(1200), 5000); len(got) != 1200 || got[0].Sum != 0 || got[1].Sum != 5 || got[1199].Sum != 7 {
		t.Errorf("%d, %+v, %+v", len(got), got[:3], got[1199])
	}
	if got := sums(0, 1); got[0] != 0 {
		t.Error("what is gone is told as", got)
	}
	r.Add(at(1201-1200+1), 11) // the oldest that is there
	if got := sums(2, 1); got[0] != 16 {
		t.Error(got)
	}
	r.Add(at(9000), 13)
	if got := sums(9000, 1200); got[1199] != 13 || got[0] != 0 || got[600] != 0 {
		t.Error(got[0], got[600], got[1199])
	}
}

// Packed samples, byte by byte, from the form that docs/ledger.md tells; and cut at each byte.
func TestPackByHand(t *testing.T) {
	us := func(n int64, v float64) Sample { return Sample{time.UnixMicro(n).UTC(), v} }
	for name, c := range map[string]struct {
		samples []Sample
		packed  string
	}{
		// Two decimals. Times 3, 5, 9: changes 3, 2, 4, less the ones before 3, -1, 2: zigzag 6, 1, 4. Values 150, 125,
		// 125: changes 150, -25, 0: zigzag 300 (two bytes), 49, 0.
		"decimals":      {[]Sample{us(3, 1.5), us(5, 1.25), us(9, 1.25)}, "02" + "06ac02" + "0131" + "0400"},
		"nine decimals": {[]Sample{us(0, 1e-9)}, "09" + "0002"},
		"ten decimals":  {[]Sample{us(0, 1e-10)}, "fe00bcb7fbd9bff3fadedd01"},
		"whole numbers": {[]Sample{us(0, -1)}, "00" + "0001"},
		// The bits of the value, the first last, seven a byte.
		"minus nought":  {[]Sample{us(0, math.Copysign(0, -1))}, "fe" + "0001"},
		"2^52 less one": {[]Sample{us(0, 1<<52-1)}, "00" + "00" + "feffffffffffff0f"},
		"2^52":          {[]Sample{us(0, 1<<52)}, "fe" + "00" + "c219"},
	} {
		got := Pack(c.samples)
		if hex.EncodeToString(got) != c.packed {
			t.Errorf("%s: %x, want %s", name, got, c.packed)
		}
		var again []Sample
		if err := Unpack(got, func(s Sample, text *string) error { again = append(again, s); return nil }); err != nil || !reflect.DeepEqual(again, c.samples) || len(again) > 0 && math.Signbit(again[0].Value) != math.Signbit(c.samples[0].Value) {
			t.Errorf("%s: %v, %v", name, again, err)
		}
		for n := range len(got) {
			whole := 0
			err := Unpack(got[:n], func(Sample, *string) error { whole++; return nil })
			if ends := n == 1 || name == "decimals" && (n == 4 || n == 6); ends != (err == nil) || err != nil && !errors.Is(err, errCut) {
				t.Errorf("%s, cut to %d bytes: %d samples, %v", name, n, whole, err)
			}
		}
	}
	stop := errors.New("enough")
	if err := Unpack(Pack([]Sample{us(0, 1)}), func(Sample, *string) error { return stop }); err != stop {
		t.Error(err)
	}
	if err := Unpack(PackTexts([]time.Time{after(0)}, []string{"hut"}), func(s Sample, text *string) error {
		if *text != "hut" || !math.IsNaN(s.Value) || !s.At.Equal(after(0)) {
			t.Error(s, *text)
		}
		return stop
	}); err != stop {
		t.Error(err)
	}
	if err := Unpack([]byte{10}, nil); err == nil || errors.Is(err, errCut) {
		t.Error(err)
	}
}

// Numbers as data: what JSON has no number for is its word.
func TestNumbersInJSON(t *testing.T) {
	for n, want := range map[Number]string{1.5: "1.5", Number(math.Inf(1)): `"+Inf"`, Number(math.Inf(-1)): `"-Inf"`} {
		text, err := json.Marshal(n)
		var again Number
		if err == nil {
			err = json.Unmarshal(text, &again)
		}
		if string(text) != want || again != n || err != nil {
			t.Errorf("%v: %s, %v, %v", n, text, again, err)
		}
	}
	var n Number
	if json.Unmarshal([]byte(`"hut"`), &n) == nil || json.Unmarshal([]byte(`true`), &n) == nil {
		t.Error("read a word as a number")
	}
	if text, err := json.Marshal(Number(math.NaN())); string(text) != `"NaN"` || err != nil || json.Unmarshal(text, &n) != nil || !math.IsNaN(float64(n)) {
		t.Error(string(text), err, n)
	}
}
