package report

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"runtime"
	"strings"
	"testing"
	"time"

	"uparrot/core/record"
	"uparrot/core/series"
)

// polled is the record of a procedure that asks for a value once a second, with one that is
// outside its limits.
func polled(t testing.TB, rounds, bad int) []byte {
	t.Helper()
	var buf bytes.Buffer
	buf.Grow(rounds * 500)
	w := record.New(&buf, record.Origin{Began: start, Tool: "uparrot test", Run: "0123456789abcdef", Command: "run", Unit: "LK-17"})
	at := start
	put := func(e record.Event) {
		e.Time = at
		w.Event(e)
	}
	put(record.Event{Kind: record.Begin, Text: "A day of supply", Data: []byte(`{"inputs":{}}`)})
	put(record.Event{Kind: record.Step, Step: "supply"})
	low, high := 22.0, 28.0
	put(record.Event{Kind: record.Series, Value: record.SeriesBegins{Number: 1, What: "supply", Unit: "V", Low: &low, High: &high, Judged: true}})
	var s series.Series
	for i := range rounds {
		at = start.Add(time.Duration(i) * time.Second)
		put(record.Event{Kind: record.Round, Step: "supply", Value: record.RoundMark{Number: i + 1, Outside: i > 0 && i-1 == bad}})
		w.Bytes(at, record.Out, "brakes", []byte("supply\r"))
		v := math.Round(250+8*math.Sin(float64(i)/9000)) / 10
		if i == bad {
			v = 31.4
		}
		w.Bytes(at.Add(20*time.Millisecond), record.In, "brakes", fmt.Appendf(nil, "supply %.1f V\r\n", v))
		s.Add(at, v, v > high)
		batch := record.Samples{Series: 1, At: []time.Time{at}, Values: []float64{v}}
		if v > high {
			batch.Outside = []int{0}
		}
		put(record.Event{Kind: record.Sampled, Value: batch})
	}
	put(record.Event{Kind: record.Round, Step: "supply", Value: record.RoundMark{Number: rounds, Over: true}})
	sum := s.Summary()
	sum.Number = 1
	m := record.Measurement{What: "supply", Unit: "V", Low: &low, High: &high, Step: "supply", Verdict: "failed", Value: sum.Mean, Series: &sum}
	put(record.Event{Kind: record.Limit, Step: "supply", Try: 1, Verdict: "failed", Value: m})
	put(record.Event{Kind: record.Step, Step: "supply", Try: 1, Verdict: "failed", Why: "supply: 1 outside", TookMS: 1000})
	put(record.Event{Kind: record.Verdict, Verdict: "failed", TookMS: 1000})
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return buf.Bytes()
}

// A day asked once a second is a page that opens: its rounds are folded to the first, the
// last and the one that was outside; the text has all of them, the table all values.
func TestDay(t *testing.T) {
	rec := polled(t, 86_400, 40_000)
	page := made(t, rec, "html", "")
	if len(page) > 3<<20/4 {
		t.Errorf("the page has %d bytes", len(page))
	}
	for _, want := range []string{"86400 values, 24.2 to 31.4, mean ", "1 outside, the first 31.4 at 23:06:40", "supply 31.4 V", "39997 times more like that", "46398 times more like that", "Values over time"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page has no %q", want)
		}
	}
	steps, _, _ := strings.Cut(page, `id="measurements"`)
	if said := strings.Count(steps, ">said<"); said != roundsShown+2 {
		t.Errorf("the step shows %d rounds", said)
	}
	rec = polled(t, 5000, 4000)
	if text := made(t, rec, "text", ""); strings.Count(text, "said    supply") != 5000 || strings.Contains(text, "round") {
		t.Error("the text has not the whole dialogue")
	}
	table := made(t, rec, "csv", "samples")
	if n := strings.Count(table, "\r\n"); n != 5001 || !strings.Contains(table, ",supply,31.4,V,1\r\n") {
		t.Errorf("the table has %d rows", n)
	}
	if row := made(t, rec, "csv", ""); !strings.Contains(row, ",5000,25,31.4,") || !strings.Contains(row, ",1,31.4,2026-11-02T13:06:40") {
		t.Errorf("the row is %s", row)
	}
}

// A record that ends within a round shows that round, and what was measured until then.
func TestRoundCutShort(t *testing.T) {
	rec := polled(t, 10, -1)
	i := bytes.LastIndex(rec, []byte(`supply 25.`))
	page := made(t, rec[:i+bytes.IndexByte(rec[i:], '\n')+1], "html", "")
	steps, _, _ := strings.Cut(page, `id="series"`)
	if strings.Count(steps, ">said<") != roundsShown+1 || !strings.Contains(page, "6 times more like that") || !strings.Contains(page, "9 values") {
		t.Error(page)
	}
}

// A million values take no more memory in a report than a few.
func TestSamplesFlat(t *testing.T) {
	if testing.Short() {
		t.Skip("a long record takes long")
	}
	use := func(batches int) uint64 {
		var buf bytes.Buffer
		buf.Grow(batches * 30_000)
		w := record.New(&buf, record.Origin{Began: start, Run: "0123456789abcdef", Tool: "uparrot test"})
		w.Event(record.Event{Time: start, Kind: record.Series, Data: []byte(`{"number":1,"what":"wind","unit":"m/s"}`)})
		at := start
		for range batches {
			s := record.Samples{Series: 1}
			for i := range 1000 {
				at = at.Add(time.Millisecond)
				s.At, s.Values = append(s.At, at), append(s.Values, float64(i%89)/10)
			}
			w.Event(record.Event{Time: at, Kind: record.Sampled, Value: s})
		}
		_ = w.Close()
		if each := float64(buf.Len()) / float64(1000*batches); each > 20 {
			t.Errorf("a value takes %.1f bytes of the record", each)
		}
		r := &peak{Reader: bytes.NewReader(buf.Bytes())}
		runtime.GC()
		var before runtime.MemStats
		runtime.ReadMemStats(&before)
		if _, err := View(&bytes.Buffer{}, r, "html", ""); err != nil {
			t.Fatal(err)
		}
		return r.most - min(r.most, before.HeapAlloc)
	}
	few, many := use(20), use(1000)
	if many > few+4<<20 {
		t.Errorf("20,000 values take %d KiB, a million %d KiB", few>>10, many>>10)
	}
}

// peak measures the heap while it is read.
type peak struct {
	*bytes.Reader
	reads int
	most  uint64
}

func (p *peak) Read(b []byte) (int, error) {
	if p.reads++; p.reads%300 == 0 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		p.most = max(p.most, m.HeapAlloc)
	}
	return p.Reader.Read(b)
}

// A series of texts, or of what are no numbers, has a row and no picture.
func TestTextsHaveNoPicture(t *testing.T) {
	for _, data := range []string{`{"series":1,"us":[0,5],"texts":["on","off"]}`, `{"series":1,"us":[0,5],"values":["NaN","+Inf"]}`, `{"series":1,"us":[],"values":[]}`} {
		var buf bytes.Buffer
		w := record.New(&buf, record.Origin{Began: start, Run: "0123456789abcdef"})
		w.Event(record.Event{Time: start, Kind: record.Series, Data: []byte(`{"number":1,"what":"lamp"}`)})
		w.Event(record.Event{Time: start, Kind: record.Sampled, Data: json.RawMessage(data)})
		_ = w.Close()
		if page := made(t, buf.Bytes(), "html", ""); strings.Contains(page, "<figure>") {
			t.Errorf("%s has a picture", data)
		}
	}
}

// What is wrong with samples is told, not passed over.
func TestSamplesDamaged(t *testing.T) {
	for _, data := range []string{`{"series":2,"us":[0],"values":[1]}`, `{"series":1,"us":[0,1],"values":[1]}`, `{"series":1,"us":[0],"values":[1],"outside":[7]}`, `{"series":1,"us":[0],"values":[1],"texts":["x"]}`} {
		var buf bytes.Buffer
		w := record.New(&buf, record.Origin{Began: start, Run: "0123456789abcdef"})
		w.Event(record.Event{Time: start, Kind: record.Series, Data: []byte(`{"number":1,"what":"wind"}`)})
		w.Event(record.Event{Time: start, Kind: record.Sampled, Data: json.RawMessage(data)})
		_ = w.Close()
		if _, err := View(&bytes.Buffer{}, bytes.NewReader(buf.Bytes()), "csv", "samples"); err == nil {
			t.Errorf("%s is taken", data)
		}
	}
}
