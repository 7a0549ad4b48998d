package report

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"uparrot/core/ledger"
	"uparrot/core/record"
)

// long writes a record of many events: exchanges, and now and then a step with a
// measurement. It returns its path and its bytes.
func long(tb testing.TB, events int) string {
	tb.Helper()
	path := filepath.Join(tb.TempDir(), "long.record")
	f, err := os.Create(path)
	if err != nil {
		tb.Fatal(err)
	}
	out := bufio.NewWriterSize(f, 1<<20)
	w := record.New(out, record.Origin{Began: start, Run: "00000000000000aa", Command: "run", Tool: "uparrot test", Unit: "LK-17"})
	at := start
	w.Event(record.Event{Time: at, Kind: record.Begin, Text: "Soak", Data: []byte(`{"inputs":{}}`)})
	for i := 0; i < events; i++ {
		at = at.Add(time.Millisecond)
		switch i % 100 {
		case 0:
			w.Event(record.Event{Time: at, Kind: record.Step, Step: fmt.Sprintf("round %d", i/100%200)})
		case 98:
			w.Event(record.Event{Time: at, Kind: record.Limit, Step: "round", Verdict: "passed", Try: 1, Data: []byte(`{"what":"power","value":12.5,"low":0,"high":14,"unit":"dBm","step":"round","verdict":"passed"}`)})
		case 99:
			w.Event(record.Event{Time: at, Kind: record.Step, Step: fmt.Sprintf("round %d", i/100%200), Try: 1, Verdict: "passed", TookMS: 99})
		default:
			if i%2 == 0 {
				w.Bytes(at, record.Out, "valley", []byte("AT~POWER?\r"))
			} else {
				w.Bytes(at, record.In, "valley", []byte("\r\n~POWER: 14\r\n\r\nOK\r\n"))
			}
		}
	}
	w.Event(record.Event{Time: at, Kind: record.Verdict, Verdict: "passed", TookMS: 1})
	if err := w.Close(); err != nil {
		tb.Fatal(err)
	}
	if err := out.Flush(); err != nil {
		tb.Fatal(err)
	}
	if err := f.Close(); err != nil {
		tb.Fatal(err)
	}
	return path
}

// files are what is read and what is written.
func files(b *testing.B, path string) (in, out *os.File) {
	b.Helper()
	in, err := os.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	if out, err = os.Create(filepath.Join(b.TempDir(), "out")); err != nil {
		b.Fatal(err)
	}
	return in, out
}

// BenchmarkMillion makes each form out of a million events, and files them, beside
// a bare read and write of the same lines of JSON.
func BenchmarkMillion(b *testing.B) {
	path := long(b, 1_000_000)
	b.Run("bare", func(b *testing.B) {
		for range b.N {
			in, out := files(b, path)
			w := bufio.NewWriterSize(out, 64<<10)
			enc := json.NewEncoder(w)
			lines := bufio.NewScanner(in)
			for lines.Scan() {
				var e record.Event
				if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
					b.Fatal(err)
				}
				if err := enc.Encode(e); err != nil {
					b.Fatal(err)
				}
			}
			if err := w.Flush(); err != nil {
				b.Fatal(err)
			}
			in.Close()
			out.Close()
		}
	})
	for _, form := range Forms() {
		b.Run(form, func(b *testing.B) {
			for range b.N {
				in, out := files(b, path)
				if _, err := View(out, in, form, ""); err != nil {
					b.Fatal(err)
				}
				in.Close()
				out.Close()
			}
		})
	}
	b.Run("filing", func(b *testing.B) {
		for range b.N {
			if _, err := ledger.Add(filepath.Join(b.TempDir(), "l.sqlite"), path); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// Memory does not grow with the record: what is alive at the end of a long one is
// no more than at the end of a short one, give or take.
func TestFlatMemory(t *testing.T) {
	if testing.Short() {
		t.Skip("a long record takes long")
	}
	alive := func(events int) map[string]uint64 {
		path := long(t, events)
		all := map[string]uint64{}
		for _, form := range Forms() {
			in, err := os.Open(path)
			if err != nil {
				t.Fatal(err)
			}
			var most uint64
			_, err = View(writerFunc(func(b []byte) (int, error) {
				if most == 0 || len(b) > 32<<10 {
					var m runtime.MemStats
					runtime.GC()
					runtime.ReadMemStats(&m)
					most = max(most, m.HeapAlloc)
				}
				return len(b), nil
			}), in, form, "")
			in.Close()
			if err != nil {
				t.Fatal(err)
			}
			all[form] = most
		}
		return all
	}
	short, longer := alive(2_000), alive(60_000)
	for form := range short {
		if longer[form] > short[form]+4<<20 {
			t.Errorf("%s: %d bytes alive with a short record, %d with one 30 times as long", form, short[form], longer[form])
		}
	}
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }
