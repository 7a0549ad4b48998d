package perform

import (
	"context"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// tells has a module send a line at each of some times after the beginning.
func tells(m io.Writer, line func(i int) string, every time.Duration, n int) {
	for i := range n {
		time.Sleep(every)
		if text := line(i); text != "" {
			fmt.Fprint(m, text+"\r\n")
		}
	}
}

// What a watch finds: values in their limits and out, what never came, what stopped, what
// came too seldom, what could not be used, what ended it.
func TestWatch(t *testing.T) {
	steady := func(i int) string { return fmt.Sprintf("volts %.1f amps %d", 14+float64(i%5)/10, i%3) }
	const judged = "reading a: volts {v:num} amps {c:int}\nlimit v in 13..15 V \"supply\"\nnote c in A \"current\"\n"
	for _, c := range []struct {
		name, body string
		line       func(i int) string
		every      time.Duration
		want       string // rows
		why        string // of the step; "" if it passes
		note       string // that the record tells
	}{
		{"all within", "watch for 9500ms\n" + judged, steady, time.Second, "supply: 9 values, 14 to 14.4, mean 14.1778 V passed; current: 9 values, 0 to 2, mean 1 A measured", "", ""},
		{"one outside", "watch for 9500ms\n" + judged, func(i int) string {
			if i == 3 {
				return "volts 17.5 amps 1"
			}
			return steady(i)
		}, time.Second, "", "supply: 1 of 9 outside 13..15 V, the first 17.5 V", ""},
		{"never", "watch for 9500ms\n" + judged, func(int) string { return "hello" }, time.Second, "", "nothing like volts {v:num} amps {c:int} came in 9.5s", "nothing that is watched"},
		{"in silence", "watch for 9500ms\n" + judged, func(int) string { return "" }, time.Second, "", "nothing like volts", ""},
		{"stops, and is judged", "watch for 60s\n" + judged, func(i int) string {
			if i > 20 {
				return ""
			}
			return steady(i)
		}, time.Second, "", "volts {v:num} amps {c:int} stopped coming at", "has stopped: nothing like it since"},
		{"stops, and is not judged", "watch for 60s\nreading a: volts {v:num} amps {c:int}\nnote v \"supply\"\n", func(i int) string {
			if i > 20 {
				return ""
			}
			return steady(i)
		}, time.Second, "supply: 21 values, 14 to 14.4, mean 14.1905 measured", "", "has stopped: nothing like it since"},
		{"pauses", "watch for 50s\n" + judged, func(i int) string {
			if i > 20 && i < 35 {
				return ""
			}
			return steady(i)
		}, time.Second, "", "", "came again at"},
		{"too seldom", "watch for 9500ms\nreading a within 2s: volts {v:num} amps {}\nlimit v in 13..15 V \"supply\"\n", func(i int) string {
			if i == 4 || i == 5 || i == 6 {
				return ""
			}
			return steady(i)
		}, time.Second, "longest silence of a: 4 s failed; supply: 6 values, 14 to 14.3, mean 14.1833 V passed", "nothing like volts {v:num} amps {} for 4s from", "has stopped"},
		{"often enough", "watch for 9500ms\nreading a within 2s: volts {v:num} amps {}\nlimit v in 13..15 V \"supply\"\n", steady, time.Second, "longest silence of a: 1 s passed; supply: 9 values, 14 to 14.4, mean 14.1778 V passed", "", ""},
		{"until", "watch\nreading a: volts {v:num} amps {}\nuntil v > 14.25\n", steady, time.Second, "", "", ""},
		{"a count", "watch 4 times\n" + judged, steady, time.Second, "supply: 4 values, 14 to 14.3, mean 14.15 V passed; current: 4 values, 0 to 2, mean 0.75 A measured", "", ""},
		{"worked out", "watch 4 times\nreading a: volts {v:num} amps {c:int}\nlet w = v * c\nlimit w in 0..100 W \"power\"\n", steady, time.Second, "power: 4 values, 0 to 28.4, mean 10.625 W passed", "", ""},
		{"a check that fails", "watch 4 times\nreading a: volts {v:num} amps {c:int}\ncheck c != 2 \"2 A\"\n", steady, time.Second, "", "1 of 4 like volts {v:num} amps {c:int} could not be used, the first \"volts 14.2 amps 2\"", ""},
		{"JSON, of which one is none", "watch 4 times\nreading a: {line}\nlimit json(line).v in 1..2 V \"v\"\n", func(i int) string {
			return []string{`{"v": 1.5}`, `{"v": 1.25}`, "banner", `{"v": 2}`}[i%4]
		}, time.Second, "v: 3 values, 1.25 to 2, mean 1.58333 V passed", "1 of 4 like {line} could not be used, the first \"banner\"", ""},
		{"not what came before", "pause 3500ms\nwatch 3 times\n" + judged, steady, time.Second, "supply: 3 values, 14 to 14.4, mean 14.2333 V passed; current: 3 values, 0 to 2, mean 1 A measured", "", "it came before the watch began"},
		{"several sorts", "watch for 8500ms\nreading a: volts {v:num} amps {}\nnote v \"v\"\nreading a: degrees {d:num}\nnote d \"d\"\n", func(i int) string {
			if i%4 == 3 {
				return "degrees 21.5"
			}
			return steady(i)
		}, time.Second, "v: 6 values, 14 to 14.4, mean 14.1333 measured; d: 2 values, all 21.5 measured", "", ""},
		{"limits that are worked out", "let most = 15\nwatch 3 times\nreading a: volts {v:num} amps {}\nlimit v in 13..most V \"supply\"\n", steady, time.Second, "supply: 3 values, 14 to 14.2, mean 14.1 V passed", "", ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines\nstep \"s\"\n"+c.body+"end\nend\n", nil)
			go tells(s.module["a"], c.line, c.every, 60)
			res := s.Do(t.Context())
			s.module["a"].Close()
			time.Sleep(2 * time.Minute)
			var got []string
			for _, m := range res.Limits {
				got = append(got, m.What+": "+m.Shown()+" "+string(m.Verdict))
			}
			if c.want != "" && hourless(strings.Join(got, "; ")) != c.want {
				t.Errorf("%s: %q", c.name, got)
			}
			if why := res.Steps[0].Why; !strings.Contains(why, c.why) || (res.Verdict == verdict.Passed) != (c.why == "") {
				t.Errorf("%s: %s, %s", c.name, res.Verdict, why)
			}
			if !strings.Contains(s.record.String(), c.note) {
				t.Errorf("%s: the record tells no %q", c.name, c.note)
			}
		})
	}
}

// A poll asks at its pace, waits for an answer that goes on, says so, and asks on where one
// did not end; what is refused fails the step at its end.
func TestWatchPolls(t *testing.T) {
	for _, c := range []struct {
		name   string
		answer func(n int) (string, time.Duration) // and how long after
		asked  int
		why    string
		note   string
	}{
		{"as it should", func(n int) (string, time.Duration) { return "\r\n+V: 14.5\r\n\r\nOK\r\n", 50 * time.Millisecond }, 10, "", ""},
		{"slow", func(n int) (string, time.Duration) { return "\r\n+V: 14.5\r\n\r\nOK\r\n", 1500 * time.Millisecond }, 5, "", "a was not asked 5 times"},
		{"one end is lost", func(n int) (string, time.Duration) {
			if n == 3 {
				return "\r\n+V: 14.5\r\n", 50 * time.Millisecond
			}
			return "\r\n+V: 14.5\r\n\r\nOK\r\n", 50 * time.Millisecond
		}, 9, "1 answers of a did not end within 2s", ""},
		{"refused once", func(n int) (string, time.Duration) {
			if n == 3 {
				return "\r\nERROR\r\n", 50 * time.Millisecond
			}
			return "\r\n+V: 14.5\r\n\r\nOK\r\n", 50 * time.Millisecond
		}, 10, "a refused 1 times, first:", ""},
		{"never answered", func(int) (string, time.Duration) { return "", 0 }, 5, "nothing like +V: {v:num} came in 9.5s", ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect at\nanswers within 2s\nstep \"s\"\nwatch for 9500ms\npoll a every 1s: AT+V?\nreading a: +V: {v:num}\nlimit v in 14..15 V \"supply\"\nend\nend\n", nil)
			n := 0
			m := s.module["a"]
			go func() {
				buf := make([]byte, 100)
				for {
					k, err := m.Read(buf)
					if err != nil {
						return
					}
					for range strings.Count(string(buf[:k]), "\r") {
						n++
						if text, after := c.answer(n); text != "" {
							time.Sleep(after)
							fmt.Fprint(m, text)
						}
					}
				}
			}()
			res := s.Do(t.Context())
			m.Close()
			synctest.Wait()
			if n != c.asked || !strings.Contains(res.Steps[0].Why, c.why) || (res.Verdict == verdict.Passed) != (c.why == "") || !strings.Contains(s.record.String(), c.note) {
				t.Errorf("%s: asked %d times, %s, %s", c.name, n, res.Verdict, res.Steps[0].Why)
			}
		})
	}
}

// heldPort takes nothing until a channel is closed, so that whoever says something waits.
type heldPort struct {
	port.Port
	until chan struct{}
}

func (p heldPort) Write(ctx context.Context, b []byte) (int, error) {
	<-p.until
	return p.Port.Write(ctx, b)
}

// What falls out of the inbox before it is read is told, and fails the watch; bytes between
// packets are told.
func TestWatchTellsWhatItMissed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines\nstep \"s\"\nwatch for 2s\npoll a every 3s: v\nreading a: v {v:num}\nnote v \"v\"\nend\nend\n", nil)
		all := make(chan struct{})
		s.Stations["a"].Dial = func() (port.Port, error) { return heldPort{s.host["a"], all}, nil }
		go func() {
			io.WriteString(s.module["a"], strings.Repeat("v 1\r\n", 60_000))
			time.Sleep(time.Millisecond)
			close(all)
		}()
		res := s.Do(t.Context())
		s.module["a"].Close()
		if n := res.Limits[0].Series.N; n == 60_000 || res.Verdict != verdict.Failed || !strings.Contains(res.Steps[0].Why, fmt.Sprintf("%d lines of a came faster", 60_000-n)) {
			t.Errorf("%d values, %s, %s", n, res.Verdict, res.Steps[0].Why)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect bytes\nstep \"s\"\nwatch for 5s\nreading bytes a: {hex A7}{v:u8}\nlimit v in 0..9 \"v\"\nend\nend\n", nil)
		go func() {
			for i := range 4 {
				time.Sleep(time.Second)
				s.module["a"].Write([]byte{0x01, 0x02, 0xA7, byte(i)}[2*(i%2):])
			}
		}()
		res := s.Do(t.Context())
		s.module["a"].Close()
		if res.Verdict != verdict.Passed || res.Limits[0].Series.N != 4 || !strings.Contains(s.record.String(), "4 bytes between those like {hex A7}{v:u8} were nothing that is watched") {
			t.Errorf("%s %s, %+v", res.Verdict, res.Steps[0].Why, res.Limits)
		}
	})
}

// A day of a value twice a second: none is lost, a value outside is found whenever it comes,
// and the memory that is used does not grow.
func TestWatchDay(t *testing.T) {
	if testing.Short() {
		t.Skip("a day takes long")
	}
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines\nstep \"s\"\nwatch for 24h\nreading a within 2s: v {v:num} w {}\nlimit v in 0..10 V \"v\"\nend\nend\n", nil)
		s.Events = record.NewStream(record.New(io.Discard, record.Origin{Tool: "test"}), func(record.Event) {})
		const n = 24*3600*2 - 2
		heap := func() uint64 {
			var m runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&m)
			return m.HeapAlloc
		}
		var early, late uint64
		go tells(s.module["a"], func(i int) string {
			switch i {
			case n / 10:
				early = heap()
			case n - 10:
				late = heap()
			case n / 2:
				return "v 11.5 w x"
			}
			return fmt.Sprintf("v %.2f w %d", 5+float64(i%400)/100, i)
		}, 500*time.Millisecond, n)
		res := s.Do(t.Context())
		s.module["a"].Close()
		time.Sleep(time.Minute)
		if len(res.Limits) != 2 || res.Verdict != verdict.Failed {
			t.Fatalf("%s, %+v", res.Verdict, res.Limits)
		}
		if m := res.Limits[1].Series; m.N != n || m.Outside != 1 || m.Worst.Value != 11.5 {
			t.Errorf("%+v", m)
		}
		if late > early+1<<20 {
			t.Errorf("the heap has %d KiB after two hours, %d KiB after a day", early>>10, late>>10)
		}
	})
}

// Several ports are read at once; a watch can be ended from outside in good order, and not by
// what has been read for it before.
func TestWatchSeveral(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: dialect lines\nport b: dialect lines\nstep \"s\"\nwatch for 10m\nreading a: v {v:num}\nnote v \"a\"\nreading b: v {w:num}\nnote w \"b\"\nend\nsay a: bye\nend\n", nil)
		enough := make(chan struct{})
		s.Enough = enough
		go tells(s.module["a"], func(i int) string { return fmt.Sprint("v ", i) }, 100*time.Millisecond, 100)
		go tells(s.module["b"], func(i int) string { return fmt.Sprint("v ", i) }, 250*time.Millisecond, 40)
		go io.Copy(io.Discard, s.module["a"])
		time.AfterFunc(5050*time.Millisecond, func() { close(enough) })
		res := s.Do(t.Context())
		s.module["a"].Close()
		s.module["b"].Close()
		time.Sleep(time.Minute)
		if res.Verdict != verdict.Passed || len(res.Limits) != 2 || res.Limits[0].Series.N != 50 || res.Limits[1].Series.N != 20 {
			t.Errorf("%s %s, %+v", res.Verdict, res.Steps[0].Why, res.Limits)
		}
		if n := samplesIn(t, s.record.String()); n != 70 {
			t.Errorf("the record has %d values", n)
		}
	})
}
