package families_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/record/conversation"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/uart"
)

// recorded is the conversation of a record made of lines: milliseconds since the
// beginning, then > said or < heard, or = a speed that was changed to.
func recorded(t *testing.T, lines ...string) *conversation.Talk {
	t.Helper()
	noon := time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)
	var buf bytes.Buffer
	w := record.New(&buf, record.Origin{Began: noon})
	w.Event(record.Event{Time: noon, Kind: record.Open, Port: "valley", Data: []byte(`{"dialect":"at","speed":115200,"frame":"8N1"}`)})
	for _, l := range lines {
		i := strings.IndexAny(l, "<>=")
		var ms int
		if _, err := fmt.Sscan(l[:i], &ms); err != nil {
			t.Fatal(err)
		}
		at, text := noon.Add(time.Duration(ms)*time.Millisecond), l[i+1:]
		switch l[i] {
		case '>':
			w.Bytes(at, record.Out, "valley", []byte(text))
		case '<':
			w.Bytes(at, record.In, "valley", []byte(text))
		case '=':
			w.Event(record.Event{Time: at, Kind: record.Changed, Port: "valley", Data: fmt.Appendf(nil, `{"speed":%s,"frame":"8N1"}`, text)})
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	talks, _, err := conversation.Read(&buf)
	if err != nil || len(talks) != 1 {
		t.Fatalf("%d conversations, %v", len(talks), err)
	}
	return talks[0]
}

// A module made of a record answers as it did then, at the same moments after it
// was spoken to; what the record does not know it leaves unanswered and tells.
func TestAgain(t *testing.T) {
	talk := recorded(t,
		"5<boot\r\n",
		"100>AT\r", "104<AT\r\r\nOK\r\n",
		"200>AT~RESTART\r", "203<\r\nOK\r\n", "1700<\r\nDUNLIN ", "1702<UP\r\n",
		"3000>A", "3001<A", "3010>T\r\n", "3015<\r\nOK again\r\n",
		"4000>AT~PASS=2\r", "4003<> ", "4100>hi", "4105<\r\nsent\r\n",
		"5000>AT~SPEED=9600\r", "5003<\r\nOK\r\n", "5010=9600", "5100>AT\r", "5120<slow\r\n",
	)
	synctest.Test(t, func(t *testing.T) {
		var strange []string
		b, err := sim.New(sim.Config{Families: families.All, Sleep: time.Sleep, Modules: []bench.Standin{{Name: "valley", Again: talk, Line: talk.Line}}, Strange: func(module, said string) { strange = append(strange, module+": "+said) }})
		if err != nil {
			t.Fatal(err)
		}
		host, module := port.Pipe("valley", talk.Line)
		if _, err := b.Attach("valley", module); err != nil {
			t.Fatal(err)
		}
		type piece struct {
			at   time.Time
			text string
		}
		pieces := make(chan piece, 1000)
		go func() {
			buf := make([]byte, 256)
			for {
				n, err := host.Read(buf)
				if err != nil {
					close(pieces)
					return
				}
				pieces <- piece{time.Now(), string(buf[:n])}
			}
		}()
		// say says something and returns what comes within a time, and when the
		// last of it came.
		say := func(text string, within time.Duration) (string, time.Duration) {
			t.Helper()
			began := time.Now()
			if _, err := host.Write(t.Context(), []byte(text)); err != nil {
				t.Fatal(err)
			}
			time.Sleep(within)
			heard, last := "", time.Duration(0)
			for {
				select {
				case p := <-pieces:
					heard, last = heard+p.text, p.at.Sub(began)
					continue
				default:
				}
				return heard, last
			}
		}
		for _, c := range []struct {
			said   string
			within time.Duration
			want   string
			at     time.Duration // in the record, from saying to the last of the answer
		}{
			{"", 50 * time.Millisecond, "boot\r\n", 5 * time.Millisecond},
			{"AT\r", time.Second, "AT\r\r\nOK\r\n", 4 * time.Millisecond},
			{"AT~RESTART\r\n", 2 * time.Second, "\r\nOK\r\n\r\nDUNLIN UP\r\n", 1502 * time.Millisecond},
			{"AT\r", time.Second, "A\r\nOK again\r\n", 5 * time.Millisecond}, // the next of its kind
			{"AT~NOED?\r", time.Second, "", 0},
			{"AT~PASS=2\r", 50 * time.Millisecond, "> ", 3 * time.Millisecond},
			{"hi", time.Second, "\r\nsent\r\n", 5 * time.Millisecond},
			{"AT~RESTART\r", 2 * time.Second, "\r\nOK\r\n\r\nDUNLIN UP\r\n", 1502 * time.Millisecond}, // back in the record
			{"AT~SPEED=9600\r", time.Second, "\r\nOK\r\n", 3 * time.Millisecond},
		} {
			got, at := say(c.said, c.within)
			if off := (at - c.at).Abs(); got != c.want || off > time.Millisecond {
				t.Errorf("%q: heard %q after %v, want %q after %v", c.said, got, at, c.want, c.at)
			}
		}
		if err := host.SetLine(uart.Line{Speed: 9600}); err != nil {
			t.Fatal(err)
		}
		if got, _ := say("AT\r", time.Second); got != "slow\r\n" {
			t.Errorf("at the other speed: heard %q", got)
		}
		if err := b.Power("valley", false); err != nil {
			t.Fatal(err)
		}
		if err := b.Power("valley", true); err != nil {
			t.Fatal(err)
		}
		if err := host.SetLine(talk.Line); err != nil {
			t.Fatal(err)
		}
		if got, _ := say("", time.Second); !strings.HasSuffix(got, "boot\r\n") {
			t.Errorf("after power: heard %q", got)
		}
		if want := "valley: AT~NOED?"; len(strange) != 1 || strange[0] != want {
			t.Errorf("strange: %q, want %q", strange, want)
		}
		host.Close()
		b.Close()
	})
}
