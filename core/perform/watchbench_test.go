package perform

import (
	"bytes"
	"io"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// mastLines are lines of a sensor mast with five values each.
var mastLines = []byte(strings.Repeat("m6 123 s1=a7.3,b7.9 s2=a214.2 s3=a-4.5\r\nm6 124 s1=a7.4,b8.1 s2=a215.0 s3=a-4.6\r\n", 50))

const linesInChunk = 100

// flood is a port on which so many lines come as fast as they are used.
type flood struct {
	port.Port
	left int
	used *atomic.Int64 // values
	come int64         // lines
	done chan struct{}
}

func (f *flood) Read(b []byte) (int, error) {
	for f.left > 0 && f.come-f.used.Load()/5 > 12_000 {
		select {
		case <-f.done:
			return 0, io.EOF
		case <-time.After(20 * time.Microsecond):
		}
	}
	if f.left <= 0 {
		<-f.done
		return 0, io.EOF
	}
	f.left -= linesInChunk
	f.come += linesInChunk
	return copy(b, mastLines), nil
}

func (f *flood) Close() error { close(f.done); return nil }

// BenchmarkWatch is a watch of lines with five values each, two of them held against limits,
// with a record and without, beside a loop that splits the same lines, parses the numbers
// and sums them.
func BenchmarkWatch(b *testing.B) {
	const text = "procedure \"B\"\nport a: dialect lines\ninput n: int = 1\nstep \"s\"\nwatch n times\nreading a: m{} {line:int} s1=a{v:num},b{g:num} s2=a{d:num} s3=a{t:num}\nnote line \"line\"\nlimit v in 0..60 m/s \"wind\"\nlimit g in 0..60 m/s \"gust\"\nnote d in deg \"direction\"\nnote t in degC \"temperature\"\nend\nend\n"
	proc, err := procedure.Parse("b", text)
	if err != nil {
		b.Fatal(err)
	}
	run := func(b *testing.B, w *record.Writer) {
		lines := (b.N + linesInChunk - 1) / linesInChunk * linesInChunk
		host, module := port.Pipe("a", proc.Ports[0].Setup.Line())
		defer module.Close()
		f := &flood{Port: host, left: lines, used: &atomic.Int64{}, done: make(chan struct{})}
		st := &bench.Station{Name: "a", Setup: proc.Ports[0].Setup, Address: port.Address{Where: "a"}, Dial: func() (port.Port, error) { return f, nil }}
		events := record.NewStream(w, func(e record.Event) {
			if s, ok := e.Value.(record.Samples); ok {
				f.used.Add(int64(len(s.At)))
			}
		})
		r := &Run{Procedure: proc, Stations: map[string]*bench.Station{"a": st}, Values: map[string]any{"n": lines}, Events: events}
		b.ResetTimer()
		if res := r.Do(b.Context()); res.Verdict != "passed" || len(res.Limits) != 5 || lines > 1 && res.Limits[1].Series.N != lines {
			b.Fatalf("%s, %v, %d lines", res.Verdict, res.Err, lines)
		}
	}
	b.Run("watch", func(b *testing.B) { run(b, nil) })
	b.Run("recorded", func(b *testing.B) { run(b, record.New(io.Discard, record.Origin{Tool: "bench"})) })
	b.Run("bare", func(b *testing.B) {
		sum, n := 0.0, 0
		for n < b.N {
			for rest := mastLines; len(rest) > 0; n++ {
				i := bytes.IndexByte(rest, '\n')
				for _, field := range strings.FieldsFunc(string(rest[:i]), func(r rune) bool { return r == ' ' || r == '=' || r == ',' }) {
					if v, err := strconv.ParseFloat(strings.TrimLeft(field, "abms"), 64); err == nil {
						sum += v
					}
				}
				rest = rest[i+1:]
			}
		}
		if sum == 0 {
			b.Fatal("nothing was summed")
		}
	})
}
