package ledger

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"uparrot/core/record"
	"uparrot/core/series"
	"uparrot/core/verdict"
)

// What a trend says of values that were worked out by hand, to five digits.
func TestTrendByHand(t *testing.T) {
	limit := func(v float64) *float64 { return &v }
	low, high := limit(0), limit(14)
	at := func(s int) time.Time { return noon.Add(time.Duration(s) * time.Second) }
	values := func(low, high *float64, xs ...float64) (list []Value) {
		for i, x := range xs {
			v := Value{Run: Run{Unit: fmt.Sprintf("LK-%d", i%3), Began: noon}, Measurement: record.Measurement{Value: record.Number(x), Low: low, High: high, Unit: "dBm", Step: "power", Verdict: "passed", At: at([]int{0, 10, 30, 40, 60}[i])}}
			if low == nil && high == nil {
				v.Verdict = verdict.Measured
			} else if high != nil && x > *high {
				v.Verdict = verdict.Failed
			}
			list = append(list, v)
		}
		return list
	}
	change := func(list []Value, do func(list []Value)) []Value { do(list); return list }
	// Of 10, 12, 13, 11, 14: mean 12, squares 4+0+1+1+4 = 10, spread √(10/4) = 1.58114, moving range (2+1+2+3)/4 = 2.
	// Over 0, 10, 30, 40, 60 s: xx = 2280, xy = 56+0+2-12+64 = 110, so the line rises by 60·110/2280 = 2.89474; what is
	// left is 10 - 110²/2280 = 4.69298, and Student's t of 3 is 3.18245: half = 60·3.18245·√(4.69298/3/2280) = 5.00159.
	for name, c := range map[string]struct {
		values []Value
		want   string
	}{
		"nearer the upper limit": {values(low, high, 10, 12, 13, 11, 14), "5 at 3 dBm, 5 judged 0 failed 0 none, 12 10..14 sd 1.5811 limits 0..14 ppk 0.42164 cpk 0.376 drift 2.8947 -2.1069..7.8963 over 60"},
		"nearer the lower limit": {values(limit(9), limit(20), 10, 12, 13, 11, 14), "5 at 3 dBm, 5 judged 0 failed 0 none, 12 10..14 sd 1.5811 limits 9..20 ppk 0.63246 cpk 0.564 drift 2.8947 -2.1069..7.8963 over 60"},
		"a lower limit alone":    {values(limit(9), nil, 10, 12, 13, 11, 14), "5 at 3 dBm, 5 judged 0 failed 0 none, 12 10..14 sd 1.5811 limits 9.. ppk 0.63246 cpk 0.564 drift 2.8947 -2.1069..7.8963 over 60"},
		"an upper limit alone":   {values(nil, limit(13), 10, 12, 13, 11, 14), "5 at 3 dBm, 5 judged 1 failed 0 none, 12 10..14 sd 1.5811 limits ..13 ppk 0.21082 cpk 0.188 drift 2.8947 -2.1069..7.8963 over 60"},
		"no limit":               {values(nil, nil, 10, 12, 13, 11, 14), "5 at 3 dBm, 0 judged 0 failed 0 none, 12 10..14 sd 1.5811 limits .. drift 2.8947 -2.1069..7.8963 over 60"},
		"limits that moved": {change(values(low, high, 10, 12, 13, 11, 14), func(l []Value) { l[4].Low = limit(1) }),
			"5 at 3 dBm, 5 judged 0 failed 0 none, 12 10..14 sd 1.5811 limits .. moved drift 2.8947 -2.1069..7.8963 over 60"},
		"no number among them": {change(values(low, high, 10, 12, 13, 11, 14), func(l []Value) { l[4].Value = record.Number(math.Inf(1)) }),
			"5 at 3 dBm, 5 judged 0 failed 1 none, 11.5 10..13 sd 1.291 limits 0..14"},
		"two": {values(low, high, 10, 12), "2 at 2 dBm, 2 judged 0 failed 0 none, 11 10..12 sd 1.4142 limits 0..14 ppk 0.70711 cpk 0.564"},
		"one": {values(low, high, 10), "1 at 1 dBm, 1 judged 0 failed 0 none, 10 10..10 limits 0..14"},
		"the same": {values(low, high, 12, 12, 12, 12, 12),
			"5 at 3 dBm, 5 judged 0 failed 0 none, 12 12..12 sd 0 limits 0..14 drift 0 0..0 over 60"},
		"of runs that do not tell when": {change(values(low, high, 10, 12, 13, 11, 14), func(l []Value) {
			for i := range l {
				l[i].Run.Began, l[i].At = l[i].At.Add(time.Hour), time.Time{}
			}
		}), "5 at 3 dBm, 5 judged 0 failed 0 none, 12 10..14 sd 1.5811 limits 0..14 ppk 0.42164 cpk 0.376 drift 2.8947 -2.1069..7.8963 over 60"},
		"in two steps": {change(values(low, limit(13), 10, 12, 13, 11, 14), func(l []Value) { l[1].Step, l[1].Value = "again", record.Number(math.NaN()) }),
			"5 at 3 , 5 judged 1 failed 1 none, NaN NaN..NaN limits .. parts 4 1"},
	} {
		tr := NewTrend("power", c.values)
		got := fmt.Sprintf("%d at %d %s, %d judged %d failed %d none, %.5g %.5g..%.5g", tr.N, tr.Units, tr.Unit, tr.Judged, tr.Failed, tr.None, float64(tr.Mean), float64(tr.Min), float64(tr.Max))
		if tr.SD != nil {
			got += fmt.Sprintf(" sd %.5g", float64(*tr.SD))
		}
		got += " limits " + record.Measurement{Low: tr.Low, High: tr.High}.Range()
		if tr.Moved {
			got += " moved"
		}
		if tr.Ppk != nil {
			got += fmt.Sprintf(" ppk %.5g", tr.Ppk.Value)
		}
		if tr.Cpk != nil {
			got += fmt.Sprintf(" cpk %.5g", tr.Cpk.Value)
		}
		if d := tr.Drift; d != nil {
			got += fmt.Sprintf(" drift %.5g %.5g..%.5g over %g", d.Value, d.Low, d.High, d.OverS)
			if d.Shown() {
				t.Errorf("%s: a drift of %v is shown", name, *d)
			}
		}
		for i, p := range tr.Parts {
			got += map[bool]string{true: " parts"}[i == 0] + fmt.Sprintf(" %d", p.N)
		}
		if got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, c.want)
		}
	}
	for d, want := range map[Drift]bool{{Low: 0, High: 2}: false, {Low: 0.1, High: 2}: true, {Low: -2, High: 0}: false, {Low: -2, High: -0.1}: true, {Low: -1, High: 1}: false} {
		if d.Shown() != want {
			t.Errorf("%v shown: %v", d, !want)
		}
	}
}

// Yields of runs that are laid out here: who passed at first, in the end, after a try by hand, and where they failed.
func TestYieldsByHand(t *testing.T) {
	where := filepath.Join(t.TempDir(), "l.sqlite")
	n := 0
	run := func(title, unit string, v verdict.Verdict, byHand bool, failed ...string) {
		f := begin(where, origin(fmt.Sprintf("%016x", n), unit), "", noon.Add(time.Duration(n)*time.Hour), nil, false)
		n++
		f.Take(record.Event{Kind: record.Begin, Text: title})
		for _, step := range failed {
			if byHand {
				f.Take(record.Event{Kind: record.Try, Step: step, Try: 1, Verdict: "failed", Value: record.Further{ByHand: true}, Data: []byte(`{"by_hand":true}`)})
				continue
			}
			f.Take(record.Event{Kind: record.Step, Step: step, Try: 1, Verdict: "failed", Why: "no"})
		}
		f.Take(record.Event{Kind: record.Verdict, Verdict: v})
		if err := f.End(t.Context(), "5u3"); err != nil {
			t.Fatal(err)
		}
	}
	run("Tray", "LK-1", "passed", false)
	run("Tray", "LK-2", "failed", false, "power", "name")
	run("Tray", "LK-2", "failed", false, "power")
	run("Tray", "LK-3", "failed", false, "code")
	run("Tray", "LK-3", "passed", false)
	run("Tray", "LK-4", "passed", true, "power") // only after a further try by hand: no first pass
	run("Tray", "", "passed", false)
	run("Brake", "BR-1", "passed", false)
	run("Brake", "BR-1", "failed", false, "lever")
	run("Brake", "BR-2", "measured", false)
	l := open(t, where)
	list, err := l.Yields(t.Context(), Filter{})
	if err != nil {
		t.Fatal(err)
	}
	var got strings.Builder
	for _, y := range list {
		fmt.Fprintf(&got, "%s: %d units in %d runs, %d unnamed; first %g, final %g;", y.Title, y.Units, y.Runs, y.Unnamed, y.First.Ratio, y.Final.Ratio)
		for _, s := range y.Steps {
			fmt.Fprintf(&got, " %s %d at %d", s.Title, s.Runs, s.Units)
		}
		got.WriteString("\n")
	}
	const want = "Brake: 1 units in 2 runs, 0 unnamed; first 1, final 0; lever 1 at 1\n" +
		"Tray: 4 units in 7 runs, 1 unnamed; first 0.25, final 0.75; power 2 at 1 code 1 at 1 name 1 at 1\n"
	if got.String() != want {
		t.Errorf("\n%swant\n%s", got.String(), want)
	}
}

// everything asks a ledger all that can be asked: the answers, or the error, by the name of the question.
func everything(ctx context.Context, l *Ledger) map[string]string {
	told := map[string]string{}
	put := func(name string, v any, err error) {
		if err != nil {
			told[name] = "error"
			return
		}
		text, err := json.MarshalIndent(v, "", "\t")
		if err != nil {
			text = []byte(err.Error())
		}
		told[name] = string(text)
	}
	all := func(name string, ask any, args ...any) {
		in := []reflect.Value{reflect.ValueOf(ctx)}
		for _, a := range args {
			in = append(in, reflect.ValueOf(a))
		}
		out := reflect.ValueOf(ask).Call(in)
		err, _ := out[len(out)-1].Interface().(error)
		var answers []any
		for _, o := range out[:len(out)-1] {
			answers = append(answers, o.Interface())
		}
		put(name, answers, err)
	}
	var runs []Run
	put("runs", &runs, l.Runs(ctx, Filter{}, func(r Run) error { runs = append(runs, r); return nil }))
	var values []Value
	put("values", &values, l.Values(ctx, "power", Filter{}, func(v Value) error { values = append(values, v); return nil }))
	var named []Series
	put("series", &named, l.SeriesNamed(ctx, "supply", Filter{}, func(s Series) error { named = append(named, s); return nil }))
	var others []Series
	put("series of another name", &others, l.SeriesNamed(ctx, "wind", Filter{}, func(s Series) error { others = append(others, s); return nil }))
	const first, last = "000000000000000a", "400000000000000a"
	for _, run := range []string{first, last, "c0000000000000ff", "e0000000000000ff"} {
		all("steps of "+run, l.Steps, run)
		all("measurements of "+run, l.Measurements, run)
		all("inputs of "+run, l.Inputs, run)
		all("links of "+run, l.Links, run)
		all("files of "+run, l.Files, run)
		all("conflict "+run, l.InConflict, run)
	}
	var samples []string
	put("samples", &samples, l.Samples(ctx, last, 2, func(s series.Sample, text *string) error {
		samples = append(samples, fmt.Sprint(s.At.UTC(), s.Value, text == nil))
		return nil
	}))
	all("names", l.Names)
	all("module settings", l.ModuleSettings, Filter{})
	all("find", l.Find, Filter{}, "4")
	all("find the last", l.Find, Filter{}, "last")
	all("yields", l.Yields, Filter{})
	all("trend", l.Trend, "power", Filter{})
	all("batches", l.Batches)
	all("states", l.States, "spring")
	all("units", l.Units, "spring", "")
	all("first", l.First, "spring", "open", 1)
	all("conflicts", l.Conflicts, "spring")
	all("pool", l.Pool, "")
	all("done as", l.DoneAs, "Commission a 100 % radio", "DL-1", "LK-9")
	all("claim holds", l.Holds, &record.Claim{Batch: "spring", Unit: "LK-0001", Station: "one", Token: 1})
	for _, table := range Tables() {
		var rows [][]any
		put("table "+table, &rows, l.Export(ctx, table, Filter{}, func(row []any) error { rows = append(rows, slices.Clone(row)); return nil }))
	}
	return told
}

// filled is a ledger of plain files in which each table has rows.
func filled(t *testing.T) string {
	t.Helper()
	where := filepath.Join(t.TempDir(), "l.sqlite")
	fill(t, where)
	l, ctx := open(t, where), t.Context()
	if _, _, err := l.Load(ctx, Batch{Batch: "spring", Columns: []string{"unit", "address"}, Path: "tray.csv", LoadedBy: "A. Rigger"}, slices.Values(tray(3))); err != nil {
		t.Fatal(err)
	}
	one, err := l.Claim(ctx, "spring", "", "one", time.Hour)
	two, err2 := l.Claim(ctx, "spring", "", "two", time.Hour)
	if errors.Join(err, err2) != nil {
		t.Fatal(err, err2)
	}
	if _, err := l.Fill(ctx, "nodes", []string{"7", "8"}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := l.Draw(ctx, Wanted{Pool: "nodes", Unit: "LK-0002", Name: "address"}); err != nil {
		t.Fatal(err)
	}
	done(t, where, "a00000000000000a", noon.Add(9*time.Hour), two, "failed")
	old := *one
	old.Token = 0
	done(t, where, "b00000000000000a", noon.Add(10*time.Hour), &old, "passed")
	// A link test, a talk, and a run whose unit the module itself names: none of them has the usual beginning.
	for i, list := range [][]record.Event{
		{{Kind: record.Link, Verdict: "passed", Data: []byte(`{"kind":"link test","directions":[{"from":"valley","to":"summit","sent":200,"lost":3,"late":2,"strength_dbm":{"mean":-81.5},"verdict":"passed"},{"from":"summit","to":"valley","sent":100,"lost":1,"verdict":"failed"}]}`)}},
		{{Kind: record.Open, Port: "valley"}, {Kind: record.Open, Port: "hut"}, {Kind: record.Open, Port: "valley"}},
		{{Kind: record.Begin, Text: "Tower", Data: []byte(`{"inputs":{"b":1234567.5,"a":"x"}}`)},
			{Kind: record.Value, Step: "who", Try: 1, Verdict: "measured", Data: []byte(`{"what":"serial","value":0,"text":"DL-7","identity":true,"step":"who","verdict":"measured"}`)},
			{Kind: record.Step, Step: "who", Try: 1, Verdict: "skipped"},
			{Kind: record.Step, Step: "power", Try: 1, Verdict: "passed", TookMS: 3},
			{Kind: record.Result, Text: record.SettingsKind, Data: []byte(`{"module":"radio","family":"Dunlin","when":"as left","identity":[{"name":"serial","value":"DL-1"}],"settings":[{"name":"power","value":"5"}]}`)},
			{Kind: record.Result, Text: "another", Data: []byte(`{"module":"none"}`)},
			{Kind: record.Step, Step: "code", Try: 1, Verdict: "failed", Why: "no"}, {Kind: record.Step, Step: "name", Try: 1, Verdict: "broken", Why: "gone"}},
	} {
		o := origin(fmt.Sprintf("%x0000000000000ff", 12+i), "")
		o.Command = []string{"link test", "talk", "run"}[i]
		f := begin(where, o, "", noon.Add(time.Duration(20+i)*time.Hour), nil, false)
		for k, e := range append(list, record.Event{Kind: record.Verdict, Verdict: "passed", TookMS: 4}) {
			e.Time = noon.Add(time.Duration(20+i)*time.Hour + time.Duration(k)*time.Second)
			f.Take(e)
		}
		if err := f.End(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
	}
	if err := l.Close(); err != nil { // all of it stands in the one file then
		t.Fatal(err)
	}
	return where
}

// All that a ledger answers of a folder of runs, batches and pools stands in testdata/everything.txt, which was read
// against what is filed.
func TestEverything(t *testing.T) {
	l := open(t, filled(t))
	told := everything(t.Context(), l)
	var got strings.Builder
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for n := range told {
			if !yield(n) {
				return
			}
		}
	}) {
		fmt.Fprintf(&got, "== %s\n%s\n", name, told[name])
	}
	// What the clock and the folder say is not the same twice.
	text := regexpTimes.ReplaceAllStringFunc(got.String(), func(s string) string {
		if at, err := time.Parse(`"2006-01-02T15:04:05.999999999Z"`, s); err == nil && math.Abs(time.Until(at).Minutes()) < 61 {
			if time.Until(at) > 30*time.Minute {
				return `"in an hour"`
			}
			return `"now"`
		}
		return s
	})
	if cwd, err := os.Getwd(); err == nil {
		text = strings.ReplaceAll(text, cwd, "HERE")
	}
	golden := filepath.Join("testdata", "everything.txt")
	if *update {
		if err := os.WriteFile(golden, []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	if text != string(want) {
		a, b := strings.Split(text, "\n"), strings.Split(string(want), "\n")
		for i := range min(len(a), len(b)) {
			if a[i] != b[i] {
				t.Fatalf("line %d:\n%s\nwant\n%s", i+1, strings.Join(a[max(0, i-3):min(len(a), i+3)], "\n"), strings.Join(b[max(0, i-3):min(len(b), i+3)], "\n"))
			}
		}
		t.Fatalf("%d lines, want %d", len(a), len(b))
	}
}

// A ledger that has lost a table says so: what it answers still is what it answered before.
func TestNothingLostIsSilent(t *testing.T) {
	whole := filled(t)
	before := open(t, whole)
	want := everything(t.Context(), before)
	if err := before.Close(); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(whole)
	if err != nil {
		t.Fatal(err)
	}
	for _, table := range append(slices.Clone(tables), "units", "batches", "pools", "conflicts") {
		where := filepath.Join(t.TempDir(), "l.sqlite")
		if err := os.WriteFile(where, text, 0o600); err != nil {
			t.Fatal(err)
		}
		l := open(t, where)
		conn, err := l.db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, do := range []string{"PRAGMA foreign_keys = OFF", "DROP TABLE " + table} {
			if _, err := conn.ExecContext(t.Context(), do); err != nil {
				t.Fatal(err)
			}
		}
		conn.Close()
		failed := 0
		for name, told := range everything(t.Context(), l) {
			if told == "error" {
				failed++
			} else if told != want[name] {
				t.Errorf("without the table %s %s is\n%s\nwant\n%s", table, name, told, want[name])
			}
		}
		if failed == 0 {
			t.Errorf("nothing needs the table %s", table)
		}
		for name, do := range changes(t.Context(), l) {
			if err := do(); err == nil && strings.Contains(name, " "+table+" ") {
				t.Errorf("without the table %s, %s came to no error", table, name)
			}
		}
		l.Close()
		for name, told := range everything(t.Context(), l) {
			if told != "error" {
				t.Errorf("a closed ledger tells %s: %s", name, told)
			}
		}
		for name, do := range changes(t.Context(), l) {
			if err := do(); err == nil {
				t.Errorf("of a closed ledger, %s came to no error", name)
			}
		}
	}
}

// What is said of a pool, word for word, and of one number in two writings.
func TestPoolsByHand(t *testing.T) {
	for want, err := range map[string]error{
		`the pool "p" has no value left`:                                                                 &PoolEmpty{"p", nil},
		`the pool "p" has no value left that fits: a`:                                                    &PoolEmpty{"p", []string{"a"}},
		`the pool "p" has no value left that fits: a; b; c`:                                              &PoolEmpty{"p", []string{"a", "b", "c", "d"}},
		`the values of the pool "p" are secrets, and what is added would be shown`:                       &MixedPool{"p", true},
		`the pool "p" has values that are shown, and what is added is a secret`:                          &MixedPool{"p", false},
		`05 is 5 in another writing, which the pool "p" has: one value would go to two units`:            &SameNumber{"p", "05", "5"},
		`the pool "p" holds secrets, and the input code is shown: write secret code from pool "p"`:       &SecretPool{"p", "code"},
		`the batch spring is of the procedure "A", not of "B": load the table under another name for it`: &OtherProcedure{"spring", "A", "B"},
		`the ledger has no batch "spring"`:                                                               &NoBatch{Batch: "spring"},
	} {
		if err.Error() != want {
			t.Errorf("%s\nwant\n%s", err, want)
		}
	}
	for as, want := range map[string]string{"5": "%5", "-5": "%5", "0": "%", "-0": "%", "x": "%", "12": "%12"} {
		if got := writings(as); got != want {
			t.Errorf("%s: %s, want %s", as, got, want)
		}
	}
	l, ctx := open(t, filepath.Join(t.TempDir(), "l.sqlite")), t.Context()
	key := KeyFile(filepath.Join(t.TempDir(), "key"))
	if made, err := key.Make(); !made || err != nil {
		t.Fatal(made, err)
	}
	for _, c := range []struct {
		pool   string
		secret bool
		values []string
		added  int
		wrong  string
	}{
		{"nodes", false, []string{"5", "6"}, 2, ""},
		{"nodes", false, []string{"5", "7"}, 1, ""},
		{"nodes", false, []string{"07"}, 0, "another writing"},
		{"nodes", true, []string{"8"}, 0, "is a secret"},
		{"names", false, []string{"5", "a"}, 2, ""},
		{"names", false, []string{"05"}, 1, ""}, // of texts, which are what they are
		{"codes", true, []string{"1", "2"}, 2, ""},
		{"codes", true, []string{"2", "3"}, 1, ""},
		{"codes", false, []string{"4"}, 0, "would be shown"},
	} {
		fill := func() (int, error) { return l.Fill(ctx, c.pool, c.values) }
		if c.secret {
			fill = func() (int, error) { return l.FillSecrets(ctx, c.pool, c.values, key) }
		}
		if added, err := fill(); err == nil && (added != c.added || c.wrong != "") || err != nil && (c.wrong == "" || !strings.Contains(err.Error(), c.wrong)) {
			t.Errorf("%v: %d added, %v", c, added, err)
		}
	}
	for i, want := range []string{"5", "6", "7", ""} { // in their order, each once
		d, _, err := l.Draw(ctx, Wanted{Pool: "nodes", Unit: fmt.Sprintf("LK-%d", i), Name: "node"})
		if _, empty := errors.AsType[*PoolEmpty](err); d.Value != want && want != "" || empty != (want == "") {
			t.Errorf("draw %d: %+v, %v", i, d, err)
		}
	}
}

// The key's uses and a digest, computed by hand from RFC 5869 and RFC 2104 with another language's library.
func TestKeyByHand(t *testing.T) {
	whole := make([]byte, 32)
	for i := range whole {
		whole[i] = byte(i)
	}
	k, err := derive(whole)
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprintf("%x %x %s %s", k.seal, k.mac, k.id, k.digest("codes", "0815"))
	if got != keyByHand {
		t.Errorf("%s\nwant\n%s", got, keyByHand)
	}
	a, b := k.encrypt("codes", "0815"), k.encrypt("codes", "0815")
	id, box, _ := strings.Cut(a, ":")
	if raw, err := base64.StdEncoding.DecodeString(box); err != nil || id != k.id || len(raw) != 24+16+len("codes\x000815") || a == b {
		t.Errorf("%s, %s: %v", a, b, err)
	}
}

// changes are the ways to change a ledger; a name tells of the tables that each needs.
func changes(ctx context.Context, l *Ledger) map[string]func() error {
	claim := &record.Claim{Batch: "spring", Unit: "LK-0001", Station: "one", Token: 1}
	just := func(_ any, err error) error { return err }
	return map[string]func() error{
		"load of units batches ": func() error {
			_, _, err := l.Load(ctx, Batch{Batch: "spring"}, slices.Values(tray(4)))
			return err
		},
		"bind of batches ":  func() error { return l.Bind(ctx, "spring", "Commission a radio") },
		"expire of units ":  func() error { return l.Expire(ctx, "spring") },
		"claim of units ":   func() error { return just(l.Claim(ctx, "spring", "", "one", time.Minute)) },
		"renew of units ":   func() error { return just(l.Renew(ctx, claim, time.Minute)) },
		"again of units ":   func() error { return just(l.Again(ctx, claim, time.Minute)) },
		"give back units ":  func() error { return l.GiveBack(ctx, claim) },
		"settle of units ":  func() error { return l.Settle(ctx, claim, "broken", "it is") },
		"release of units ": func() error { return just(l.Release(ctx, "spring", nil, []string{"failed"})) },
		"fill of pools ":    func() error { return just(l.Fill(ctx, "nodes", []string{"9"})) },
		"draw of pools ": func() error {
			_, _, err := l.Draw(ctx, Wanted{Pool: "nodes", Unit: "LK-0003", Name: "address"})
			return err
		},
		"return of pools ": func() error {
			return l.Return(ctx, record.Drawn{Pool: "nodes", Value: "7", Unit: "LK-0002", Name: "address", Draw: 1})
		},
		"hide of pools ": func() error { return just(l.Hide(ctx, "nodes", "")) },
	}
}

var (
	update      = flag.Bool("update", false, "write testdata/everything.txt anew")
	regexpTimes = regexp.MustCompile(`"20[0-9-]+T[0-9:.]+Z"`)
)

const keyByHand = "bbc3e0f48f61aa75c692f335b2dc4f32ded7180dd3c98474d6569b46b7d2b514 " +
	"8bb95074b26e812a0d14125a2941460a1f2bd5a518a01e97d6ff2f3bae229ebb " +
	"112c883d hmac-sha256:6ca4a77efe08d3a0cb2fad82997f5d18f13a3b16ecc3e403f68a9542b95d7dfa"
