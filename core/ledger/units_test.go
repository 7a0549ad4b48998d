//go:build unix

package ledger

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// tray is n units.
func tray(n int) (units []BatchUnit) {
	for i := range n {
		units = append(units, BatchUnit{Unit: fmt.Sprintf("LK-%04d", i+1), Line: i + 2, Given: map[string]string{"address": fmt.Sprint(i + 1)}})
	}
	return units
}

// done files a run of a claim that has come to a verdict.
func done(t *testing.T, where, run string, began time.Time, c *record.Claim, v verdict.Verdict, drawn ...record.Drawn) {
	t.Helper()
	o := origin(run, c.Unit)
	o.Claim = c
	f := begin(where, o, "r.record", began, nil, false)
	f.Take(record.Event{Kind: record.Begin, Text: "Commission a radio"})
	if v != verdict.Passed {
		f.Take(record.Event{Kind: record.Step, Step: "power", Try: 1, Verdict: v, Why: "too much"})
	}
	data, err := json.Marshal(record.Outcome{Drawn: drawn})
	if err != nil {
		t.Fatal(err)
	}
	f.Take(record.Event{Kind: record.Verdict, Verdict: v, Data: data})
	if err := f.End(t.Context(), "5u3"); err != nil {
		t.Fatal(err)
	}
}

// A unit goes to one station at a time; what an old claim tells is a conflict and changes nothing.
func TestClaims(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		l, ctx := open(t, where), t.Context()
		b := Batch{Batch: "spring", Columns: []string{"unit", "address"}, Path: "tray.csv", LoadedBy: "A. Rigger"}
		load := func(units []BatchUnit, wantAdded int, wantDiffer string) {
			t.Helper()
			added, differ, err := l.Load(ctx, b, slices.Values(units))
			text := ""
			for _, d := range differ {
				text += d.Unit
			}
			if err != nil || added != wantAdded || text != wantDiffer {
				t.Fatalf("%d added, %s differ, %v", added, text, err)
			}
		}
		load(tray(3), 3, "")
		load(tray(4), 1, "")
		other := tray(5)
		other[1].Given["address"] = "99"
		load(other, 0, "LK-0002")
		stands := func(want string) {
			t.Helper()
			units, err := l.Units(ctx, "spring", "")
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, u := range units {
				got = append(got, strings.TrimRight(fmt.Sprintf("%s/%s/%.1s", u.State, u.Station, u.Run), "/"))
			}
			if text := strings.Join(got, " "); text != want {
				t.Errorf("there stands %s\nwanted %s", text, want)
			}
		}
		claim := func(unit, station string, lease time.Duration) *record.Claim {
			t.Helper()
			c, err := l.Claim(ctx, "spring", unit, station, lease)
			if err != nil || c == nil {
				t.Fatalf("%v, %v", c, err)
			}
			return c
		}
		if err := l.Bind(ctx, "spring", "Commission a radio"); err != nil {
			t.Fatal(err)
		}
		if err := l.Bind(ctx, "spring", "Another"); err == nil || !strings.Contains(err.Error(), `is of the procedure "Commission a radio"`) {
			t.Error(err)
		}
		one, two := claim("", "tower", time.Hour), claim("LK-0002", "hut", time.Hour)
		if c, err := l.Claim(ctx, "spring", "LK-0002", "tower", time.Hour); c != nil || err != nil {
			t.Errorf("claimed twice: %v, %v", c, err)
		}
		done(t, where, "1", noon, one, "failed")
		done(t, where, "2", noon.Add(time.Minute), one, "passed") // again, by the same claim
		done(t, where, "2", noon.Add(time.Minute), one, "passed") // ... filed twice
		done(t, where, "1", noon, one, "failed")                  // ... and the first late
		stands("passed/tower/2 claimed/hut open open")
		if is, err := l.Again(ctx, one, time.Hour); is || err != nil {
			t.Errorf("a unit that has passed is claimed anew: %v", err)
		}

		// A station that is lost: its unit is broken, and goes out again only when it is released.
		lost := claim("LK-0003", "valley", -time.Second)
		if is, err := l.Renew(ctx, lost, -time.Second); !is || err != nil {
			t.Error("a claim that nobody has taken over is lost", err)
		}
		claim("LK-0004", "hut", time.Hour)
		if c, err := l.Claim(ctx, "spring", "", "tower", time.Hour); c != nil || err != nil {
			t.Errorf("%v, %v", c, err)
		}
		stands("passed/tower/2 claimed/hut broken/valley claimed/hut")
		for _, c := range []struct {
			units, states []string
			want          string
		}{{nil, []string{"failed", Claimed}, ""}, {[]string{"LK-0002"}, []string{"broken", Claimed}, ""}, {nil, []string{"broken"}, "LK-0003"}} {
			if out, err := l.Release(ctx, "spring", c.units, c.states); err != nil || strings.Join(out, " ") != c.want {
				t.Errorf("%v: released %v, %v", c, out, err)
			}
		}
		anew := claim("", "tower", time.Hour)
		if anew.Token <= lost.Token {
			t.Errorf("the token has not grown: %d, %d", anew.Token, lost.Token)
		}
		if is, err := l.Renew(ctx, lost, time.Hour); is || err != nil {
			t.Error("an old claim lives on", err)
		}
		done(t, where, "3", noon, lost, "passed")
		done(t, where, "3", noon, lost, "passed")
		stands("passed/tower/2 claimed/hut claimed/tower claimed/hut")
		conflicts, err := l.Conflicts(ctx, "spring")
		if err != nil || len(conflicts) != 1 || conflicts[0].Unit != "LK-0003" || conflicts[0].Station != "valley" || conflicts[0].Verdict != "passed" {
			t.Errorf("%+v, %v", conflicts, err)
		}
		for run, want := range map[string]bool{"3": true, "2": false} {
			if is, err := l.InConflict(ctx, run); is != want || err != nil {
				t.Errorf("run %s: %v, %v", run, is, err)
			}
		}
		done(t, where, "4", noon, anew, "failed")
		if is, err := l.Renew(ctx, anew, time.Hour); is || err != nil {
			t.Error("what has come to its end is claimed again by a late renewal", err)
		}
		if err := l.GiveBack(ctx, two); err != nil {
			t.Fatal(err)
		}
		done(t, where, "5", noon, two, "passed") // it has been given back
		stands("passed/tower/2 open/hut failed/tower/4 claimed/hut")
		units, _ := l.Units(ctx, "spring", "failed")
		if len(units) != 1 || units[0].Why != "power: too much" {
			t.Errorf("%+v", units)
		}

		if is, err := l.Again(ctx, anew, time.Hour); !is || err != nil {
			t.Error("it cannot be done again", err)
		}
		done(t, where, "7", noon.Add(time.Hour), anew, "failed")

		// One that is late, but that nobody has taken over, is a result.
		late := claim("LK-0002", "hut", -time.Second)
		if err := l.Expire(ctx, "spring"); err != nil {
			t.Fatal(err)
		}
		done(t, where, "6", noon, late, "passed")
		stands("passed/tower/2 passed/hut/6 failed/tower/7 claimed/hut")
		if b, err := l.Batch(ctx, "spring"); err != nil || b.States["passed"] != 2 || b.States[Claimed] != 1 {
			t.Errorf("%+v, %v", b, err)
		}
		if _, err := l.Batch(ctx, "autumn"); err == nil || !strings.Contains(err.Error(), `no batch "autumn"`) {
			t.Error(err)
		}
	})
}

// However many stations there are, each unit goes to one of them, and each value to one unit.
func TestManyClaim(t *testing.T) {
	if testing.Short() {
		t.Skip("many claims take long")
	}
	onBoth(t, func(t *testing.T, where string) {
		const units, stations = 120, 8
		l, ctx := open(t, where), t.Context()
		if _, _, err := l.Load(ctx, Batch{Batch: "spring", Columns: []string{"unit"}}, slices.Values(tray(units))); err != nil {
			t.Fatal(err)
		}
		var values []string
		for i := range units {
			values = append(values, fmt.Sprint(i+1))
		}
		if n, err := l.Fill(ctx, "addresses", values); n != units || err != nil {
			t.Fatal(n, err)
		}
		var mu sync.Mutex
		claimed, drawn := map[string]int{}, map[string]int{}
		var all sync.WaitGroup
		for i := range stations {
			all.Go(func() {
				own, err := Open(ctx, where) // as another process has one
				if err != nil {
					t.Error(err)
					return
				}
				defer own.Close()
				for {
					c, err := own.Claim(ctx, "spring", "", fmt.Sprint(i), time.Hour)
					if err != nil || c == nil {
						if err != nil {
							t.Error(err)
						}
						return
					}
					d, _, err := own.Draw(ctx, Wanted{Pool: "addresses", Unit: c.Unit, Name: "address"})
					if err != nil {
						t.Error(err)
					}
					mu.Lock()
					claimed[c.Unit]++
					drawn[d.Value]++
					mu.Unlock()
				}
			})
		}
		all.Wait()
		for _, m := range []map[string]int{claimed, drawn} {
			if len(m) != units || slices.Max(slices.Collect(maps.Values(m))) != 1 {
				t.Errorf("%d different, one %d times", len(m), slices.Max(slices.Collect(maps.Values(m))))
			}
		}
		if _, _, err := l.Draw(ctx, Wanted{Pool: "addresses", Unit: "LK-9999", Name: "address"}); err == nil || !strings.Contains(err.Error(), "has no value left") {
			t.Error(err)
		}
	})
}

// A value comes back to its pool only where it is known that no line with it was said.
func TestPools(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		l, ctx := open(t, where), t.Context()
		if n, err := l.Fill(ctx, "addresses", []string{"11", "12", "13"}); n != 3 || err != nil {
			t.Fatal(n, err)
		}
		if n, err := l.Fill(ctx, "addresses", []string{"13", "14"}); n != 1 || err != nil {
			t.Fatal(n, err)
		}
		draw := func(unit, want string) record.Drawn {
			t.Helper()
			d, _, err := l.Draw(ctx, Wanted{Pool: "addresses", Unit: unit, Name: "address"})
			if err != nil || d.Value != want {
				t.Fatalf("%s got %s, wanted %s: %v", unit, d.Value, want, err)
			}
			return d
		}
		stands := func(want string) {
			t.Helper()
			list, err := l.Pool(ctx, "addresses")
			got := ""
			for _, v := range list {
				got += fmt.Sprintf("%s %s %s, ", v.Value, v.State, v.Unit)
			}
			if err != nil || got != want {
				t.Errorf("there stands %s, %v\nwanted %s", got, err, want)
			}
		}
		run := 0
		ends := func(d record.Drawn, unused bool) {
			run++
			d.Unused = unused
			done(t, where, fmt.Sprint(run), noon, &record.Claim{Batch: "none", Unit: d.Unit}, "failed", d)
		}
		first := draw("LK-1", "11")
		ends(draw("LK-2", "12"), true) // nothing was said with it
		stands("11 given LK-1, 12 free , 13 free , 14 free , ")
		ends(draw("LK-3", "12"), false)
		stands("11 given LK-1, 12 said LK-3, 13 free , 14 free , ")

		// The first run of LK-1 was killed: it may have said the value, so no later run of it can
		// give the value back, and neither can the first, filed late.
		again := draw("LK-1", "11")
		ends(again, true)
		ends(first, true)
		stands("11 said LK-1, 12 said LK-3, 13 free , 14 free , ")
	})
}

// One value goes to one unit, however it is written; one that does not fit stops nobody.
func TestOneValueOneUnit(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		l, ctx := open(t, where), t.Context()
		for _, c := range []struct {
			values []string
			added  int
			why    string
		}{
			{[]string{"5", "6"}, 2, ""},
			{[]string{"05"}, 0, "05 is 5 in another writing"},
			{[]string{"7", "+6"}, 0, "+6 is 6 in another writing"},
			{[]string{"8", "08"}, 0, "08 is 8 in another writing"},
			{[]string{"6", "7"}, 1, ""},
		} {
			if n, err := l.Fill(ctx, "addresses", c.values); n != c.added || (err == nil) != (c.why == "") || err != nil && !strings.Contains(err.Error(), c.why) {
				t.Errorf("%q: %d, %v", c.values, n, err)
			}
		}
		if n, err := l.Fill(ctx, "mixed", []string{"hut", "5", "05", "+5", "5000", "6", "006", "9"}); n != 8 || err != nil {
			t.Error(n, err) // of texts, which are what they are
		}
		number := func(value string) (string, error) {
			n, err := strconv.Atoi(value)
			if err != nil || n > 100 {
				return "", fmt.Errorf("%q does not fit", value)
			}
			return strconv.Itoa(n), nil
		}
		for i, want := range []string{"5", "6", "9"} {
			d, passed, err := l.Draw(ctx, Wanted{Pool: "mixed", Unit: fmt.Sprint("LK-", i), Name: "address", Same: number})
			if err != nil || d.Value != want {
				t.Errorf("%s, want %s: %v, %q", d.Value, want, err, passed)
			}
		}
		_, passed, err := l.Draw(ctx, Wanted{Pool: "mixed", Unit: "LK-9", Name: "address", Same: number})
		if told := strings.Join(passed, "|"); err == nil || !strings.Contains(err.Error(), "has no value left that fits") || told != `"hut" does not fit|05 is 5, which LK-0 has|+5 is 5, which LK-0 has|"5000" does not fit|006 is 6, which LK-1 has` {
			t.Errorf("%v: %s", err, told)
		}
		if d, _, err := l.Draw(ctx, Wanted{Pool: "mixed", Unit: "LK-9", Name: "name"}); err != nil || d.Value != "hut" {
			t.Error(d.Value, err) // a text takes it
		}
	})
}
