//go:build unix

package ledger

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uparrot/core/record"
	"uparrot/core/series"
)

// A series stands in the ledger with all its values, those of a try that failed do not.
func TestSeries(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		fill(t, where)
		l := open(t, where)
		n := 0
		if err := l.SeriesNamed(t.Context(), "supply", Filter{Unit: "LK-2"}, func(s Series) error {
			n++
			m := s.Series
			if m.N != 3 || m.None != 1 || m.Outside != 1 || m.Mean != 3.625 || m.Least != 3.25 || m.Rate != 1 || m.Worst == nil || !math.IsNaN(float64(m.Worst.Value)) || s.Verdict != "failed" {
				t.Errorf("%+v, %+v", s.Measurement, m)
			}
			var got []string
			err := l.Samples(t.Context(), s.Run.Run, m.Number, func(one series.Sample, text *string) error {
				got = append(got, fmt.Sprint(one.At.Sub(noon), " ", one.Value))
				return nil
			})
			if strings.Join(got, ", ") != "-2s 3.25, -1s 4, 0s NaN" {
				t.Errorf("%q", got)
			}
			return err
		}); err != nil || n != 1 {
			t.Errorf("%d series, %v", n, err)
		}
		var rows []string
		if err := l.Export(t.Context(), "samples", Filter{Unit: "LK-2"}, func(row []any) error {
			rows = append(rows, fmt.Sprint(row[1], " ", row[3], " ", row[4], " ", row[5], " ", row[6]))
			return nil
		}); err != nil || strings.Join(rows, "; ") != "unit what value value_unit outside; LK-2 supply 3.25 V 0; LK-2 supply 4 V 0; LK-2 supply NaN V 1" {
			t.Errorf("%q, %v", rows, err)
		}
	})
}

// Values take at most six bytes each in the ledger; a run that is killed keeps what it had a
// second before.
func TestManySamples(t *testing.T) {
	where := filepath.Join(t.TempDir(), "ledger.sqlite")
	f := begin(where, origin("000000000000000a", "LK-1"), "", noon, nil, true)
	f.Take(record.Event{Kind: record.Step, Step: "soak", Time: noon})
	f.Take(record.Event{Kind: record.Series, Step: "soak", Data: []byte(`{"number":1,"what":"wind","unit":"m/s"}`)})
	const n = 400_000
	rng := rand.New(rand.NewPCG(7, 9))
	at, sum := noon, 0.0
	for range n / 1000 {
		s := record.Samples{Series: 1}
		for range 1000 {
			at = at.Add(10*time.Millisecond + time.Duration(rng.IntN(1000)-500)*time.Microsecond)
			v := math.Round(73+20*rng.NormFloat64()) / 10
			sum += v
			s.At, s.Values = append(s.At, at), append(s.Values, v)
		}
		data, _ := s.MarshalJSON()
		f.Take(record.Event{Kind: record.Sampled, Time: at, Data: data})
	}
	l := open(t, where)
	read := func() (found int, total float64) {
		if err := l.Samples(t.Context(), "000000000000000a", 1, func(s series.Sample, _ *string) error {
			found, total = found+1, total+s.Value
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return found, total
	}
	for until := time.Now().Add(20 * time.Second); ; { // it is not ended, as of a program that is killed
		if found, total := read(); found == n && math.Abs(total-sum) < 1e-6 {
			break
		} else if time.Now().After(until) {
			t.Fatalf("the ledger has %d of %d values", found, n)
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err := f.End(t.Context(), ""); err != nil {
		t.Fatal(err)
	}
	if _, err := l.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(where)
	if err != nil {
		t.Fatal(err)
	}
	if each := float64(info.Size()) / n; each > 6 {
		t.Errorf("a value takes %.2f bytes of the ledger", each)
	} else {
		t.Logf("a value takes %.2f bytes of the ledger", each)
	}
}
