package perform

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// What is measured again and again in a step is one series: its row tells what all came to,
// the record has every value, and one outside its limits fails the step, whatever comes after
// it and however the step is left.
func TestSeries(t *testing.T) {
	for _, c := range []struct {
		name, body string
		want       string // rows
		why        string // of the step; "" if it passes
		samples    int
	}{
		{"a limit in a repetition", "let v = 0\nrepeat 5 times every 1s\nlet v = v + 1\nlimit v in 0..9 V \"supply\"\nend", "supply: 5 values, 1 to 5, mean 3 V passed", "", 5},
		{"one outside", "let v = 0\nrepeat 5 times every 1s\nlet v = v + 1\nlimit v in 0..4 V \"supply\"\nend", "supply: 5 values, 1 to 5, mean 3 V; 1 outside, the first 5 at 00:04 failed", "supply: 1 of 5 outside 0..4 V, the first 5 V at 00:04.000", 5},
		{"outside at first, and good in the end", "let v = 9\nrepeat 3 times every 1s\nlimit v in 0..4 V \"supply\"\nlet v = 1\nend", "supply: 3 values, 1 to 9, mean 3.66667 V; 1 outside, the first 9 at 00:00 failed", "1 of 3 outside", 3},
		{"outside, then left", "let v = 9\nrepeat 3 times\nlimit v in 0..4 \"supply\"\nif v == 9\nskip \"no more\"\nend\nend", "supply: 9 failed", "supply: 1 of 1 outside 0..4", 1},
		{"outside, then something worse", "repeat 3 times\nlimit 9 in 0..4 \"supply\"\ncheck 1 == 2\nend", "supply: 9 failed", "check 1 == 2 is false", 1},
		{"no number", "repeat 2 times\nlimit 0.0/0.0 in 0..4 \"supply\"\nend", "supply: 2 values, none of them a number; 2 outside, the first NaN at 00:00 failed", "supply: 2 of 2 outside", 2},
		{"once is no series", "repeat 1 times\nlimit 3 in 0..4 V \"supply\"\nend", "supply: 3 V passed", "", 1},
		{"a note in a for", "for v in [3, 4, 8]\nnote v in A \"current\"\nend", "current: 3 values, 3 to 8, mean 5 A measured", "", 3},
		{"texts", "for v in [\"on\", \"off\", \"on\"]\nnote v \"lamp\"\nend", "lamp: 3 values, 2 different, the last on measured", "", 3},
		{"limits that move", "for v in [3, 4]\nlimit v in 0..v \"share\"\nend", "share: 2 values, 3 to 4, mean 3.5 passed", "", 2},
		{"a repetition in one", "for v in 1..3\nrepeat 2 times\nlimit v in 0..2 \"x\"\nend\nend", "x: 6 values, 1 to 3, mean 2; 2 outside, the first 3 at 00:00 failed", "x: 2 of 6 outside 0..2", 6},
		{"a routine done twice", "do measure(3)\ndo measure(4)", "m: 2 values, 3 to 4, mean 3.5 V passed", "", 2},
		{"a routine done once", "do measure(3)", "m: 3 V passed", "", 0},
		{"a routine fails at once", "do measure(30)\ndo measure(4)", "m: 30 V failed", "30 V, wanted 0..9 V", 1},
		{"two repetitions, the first is bad", "repeat 2 times\nlimit 5 in 0..4 \"x\"\nend\nrepeat 2 times\nlimit 1 in 0..4 \"y\"\nend", "x: 2 values, all 5; 2 outside, the first 5 at 00:00 failed", "x: 2 of 2 outside", 2},
		{"none", "for v in [5]\nif v == 4\nlimit v in 0..4 \"x\"\nend\nend", "", "", 0},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines\nroutine measure(v)\nlimit v in 0..9 V \"m\"\nend\nstep \"s\"\n"+c.body+"\nend\n", nil)
			res := s.Do(t.Context())
			s.module["a"].Close()
			var got []string
			for _, m := range res.Limits {
				got = append(got, strings.TrimSuffix(m.What+": "+m.Shown(), " ")+" "+string(m.Verdict))
			}
			if hourless(strings.Join(got, "; ")) != c.want {
				t.Errorf("%s: %q", c.name, got)
			}
			if why := res.Steps[0].Why; !strings.Contains(hourless(why), c.why) || (res.Verdict == verdict.Passed) != (c.why == "") {
				t.Errorf("%s: %s, %s", c.name, res.Verdict, why)
			}
			if n := samplesIn(t, s.record.String()); n != c.samples {
				t.Errorf("%s: the record has %d values", c.name, n)
			}
		})
	}
}

// hourless leaves out what a time owes to the zone, and of a series how much and how often.
func hourless(text string) string {
	text = regexp.MustCompile(`, (spread [^ ,;]+|[^ ,;]+ a second|one every [^ ,;]+ s)`).ReplaceAllString(text, "")
	return regexp.MustCompile(`\d\d:(\d\d:\d\d)`).ReplaceAllString(text, "$1")
}

// samplesIn counts the values of all series of a record, which must be declared.
func samplesIn(t *testing.T, rec string) (n int) {
	t.Helper()
	known := map[int]bool{}
	if _, err := record.Read(strings.NewReader(rec), func(e record.Event) error {
		switch e.Kind {
		case record.Series:
			b, err := record.Decode[record.SeriesBegins](e)
			known[b.Number] = true
			return err
		case record.Sampled:
			s, err := record.SamplesOf(e)
			if n += len(s.At); !known[s.Series] {
				t.Errorf("series %d was not told of", s.Series)
			}
			return err
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	return n
}

// What was measured is in the record within a second, also where nothing more comes, and what
// is tried again is measured again.
func TestSeriesKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines\nstep \"s\"\nrepeat 3 times\nnote elapsed() \"time\"\npause 300ms\nend\nrepeat 1 times\nnote 4 \"last\"\npause 10m\nend\nend\n", nil)
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan Result)
		go func() { done <- s.Do(ctx) }()
		time.Sleep(1900 * time.Millisecond)
		synctest.Wait()
		soFar := s.record.String()
		if n := samplesIn(t, soFar); n != 4 {
			t.Errorf("after 1.9 s the record has %d of 4 values", n)
		}
		cancel()
		if res := <-done; res.Verdict != verdict.Broken || len(res.Limits) != 2 {
			t.Errorf("%s with %v", res.Verdict, res.Limits)
		}
		s.module["a"].Close()
	})
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines\nstep \"s\" tries 2\nrepeat 3 times\nhear a within 1s: v {v:num}\nlimit v in 0..4 \"x\"\nend\nend\n", nil)
		go func() {
			for _, v := range []float64{1, 9, 2, 1, 2, 3} {
				time.Sleep(100 * time.Millisecond)
				fmt.Fprintf(s.module["a"], "v %v\r\n", v)
			}
		}()
		res := s.Do(t.Context())
		s.module["a"].Close()
		if len(res.Limits) != 1 || res.Limits[0].Series.N != 3 || res.Limits[0].Series.Outside != 0 || res.Steps[0].Tries != 2 || res.Verdict != verdict.Passed {
			t.Errorf("%s, %+v", res.Verdict, res.Limits)
		}
	})
}
