package probe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/sim"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
)

func frame(s string) uart.Frame {
	f, err := uart.ParseFrame(s)
	if err != nil {
		panic(err)
	}
	return f.Filled()
}

// on probes a stand-in in simulated time.
func on(t *testing.T, family string, line uart.Line, prepare func(*sim.Bench)) (res Result, took time.Duration) {
	b := simtest.New(t, bench.Air{}, bench.Standin{Family: family, Line: line})
	host := b.Host("m")
	if prepare != nil {
		prepare(b.Bench)
	}
	var err error
	began := time.Now()
	if res, err = (&Probe{Port: host}).Run(context.Background()); err != nil {
		t.Fatal(err)
	}
	return res, time.Since(began)
}

// probed are the families that answer AT or plain words; what else a module may
// be is told by other tests.
var probed = []string{"curlew", "dunlin", "redshank"}

// Every family is found at every speed and frame, and never at a wrong one.
func TestFindsEveryFamily(t *testing.T) {
	for _, family := range probed {
		for _, speed := range []int{1200, 9600, 38400, 57600, 76800, 115200, 460800} {
			for _, f := range []string{"8N1", "7E1"} {
				t.Run(fmt.Sprintf("%s/%d/%s", family, speed, f), func(t *testing.T) {
					synctest.Test(t, func(t *testing.T) {
						res, took := on(t, family, uart.Line{Speed: speed, Frame: frame(f)}, nil)
						if res.Kind != Found || res.Speed != speed || res.Frame.Filled() != frame(f) || res.Ending != phrasebook.CR || !res.Sure {
							t.Errorf("%+v", res)
						}
						want := phrasebook.AT
						if family == "redshank" {
							want = phrasebook.Lines
						}
						if res.Dialect != want {
							t.Errorf("dialect %s", res.Dialect)
						}
						limit := 25 * time.Second
						if speed == 9600 || speed == 38400 || speed == 57600 || speed == 115200 {
							limit = 8 * time.Second
							if family == "redshank" { // what it sends by itself is listened to
								limit = 10 * time.Second
							}
						}
						if took > limit {
							t.Errorf("took %v", took)
						}
					})
				})
			}
		}
	}
}

// Where nothing can be found it says what was heard, and names no setting.
func TestFindsNothing(t *testing.T) {
	wired := func(w sim.Wiring) func(*sim.Bench) {
		return func(b *sim.Bench) {
			if err := b.Join("m", w); err != nil {
				t.Error(err)
			}
		}
	}
	for _, c := range []struct {
		name    string
		prepare func(*sim.Bench)
		want    Kind
		point   string
	}{
		{"open", wired(sim.Open), Silence, "Supply"},
		{"straight", wired(sim.Straight), Silence, "Swap the two"},
		{"looped", wired(sim.Looped), Echo, "loopback plug"},
		{"level", wired(sim.Level), Noise, "level converter"},
		{"no power", func(b *sim.Bench) {
			if err := b.Power("m", false); err != nil {
				t.Error(err)
			}
		}, Silence, "powered"},
	} {
		for _, family := range probed {
			if family != "curlew" && c.want == Noise {
				continue // only a module that sends without having understood makes noise
			}
			t.Run(c.name+"/"+family, func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					res, took := on(t, family, uart.DefaultLine, c.prepare)
					if res.Kind != c.want || res.Sure || res.Speed != 0 || !strings.Contains(strings.Join(res.Points, "\n"), c.point) {
						t.Errorf("%+v", res)
					}
					limit := 25 * time.Second
					if c.want == Noise { // each speed is listened to then
						limit = 60 * time.Second
					}
					if took > limit {
						t.Errorf("took %v", took)
					}
				})
			})
		}
	}
}

// Frames with a parity bit beside eight and with two stop bits are found, of modules that
// throw away what comes with another.
func TestFindsFrames(t *testing.T) {
	for _, f := range []string{"8E1", "8O1", "7E1", "7O1", "7N2", "8N2"} {
		for _, speed := range []int{9600, 76800, 115200} {
			for _, family := range probed {
				synctest.Test(t, func(t *testing.T) {
					res, _ := on(t, family, uart.Line{Speed: speed, Frame: frame(f)}, nil)
					want := frame(f)
					if f == "8N2" { // a second stop bit cannot be told from a pause
						want = frame("8N1")
					}
					if res.Kind != Found || res.Speed != speed || res.Frame.Filled() != want || res.Ending != phrasebook.CR {
						t.Errorf("%s at %d %s: %+v", family, speed, f, res)
					}
				})
			}
		}
	}
}

// counted is a port whose receiver counts an error for each byte that came with another frame than the
// module's, and hands the byte on all the same, as many do.
type counted struct {
	port.Port
	right uart.Frame
	n     int
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Port.Read(b)
	if c.Line().Frame.Filled() != c.right.Filled() {
		c.n += n
	}
	return n, err
}

func (c *counted) Counters() (port.Counters, error) { return port.Counters{Frame: c.n}, nil }

// A frame at which all can be read, and errors are counted, is not sure; the right one is.
func TestCountedErrors(t *testing.T) {
	for _, f := range []string{"8E1", "8O1", "8N1"} {
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			defer host.Close()
			c := &counted{Port: host, right: frame(f)}
			simtest.Answer(module, func(line string) string {
				if strings.Trim(line, "\n") != "AT" {
					return ""
				}
				return "\r\nOK\r\n"
			})
			r, err := (&Probe{Port: c, Speeds: []int{115200}}).Run(t.Context())
			if err != nil || r.Kind != Found || !r.Sure || r.Frame.Filled() != frame(f).Filled() {
				t.Errorf("%s: %s sure %v, %v, %v", f, r.Frame, r.Sure, r.Why, err)
			}
		})
	}
}

// strict is a console with a parity bit beside eight, which throws away each byte whose parity does not fit,
// and echoes the others, or says nothing but its prompt. What it says can be read with any parity, as most
// receivers have it.
func TestStrictParity(t *testing.T) {
	for _, f := range []string{"8E1", "8O1", "8N1", "8E1 mute", "8O1 mute", "8N1 mute"} {
		f, _, mute := strings.Cut(f, " ")
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			defer host.Close()
			takes := func(c byte) bool {
				even := bits.OnesCount8(c)%2 == 0
				switch used := host.Line().Frame.Filled(); {
				case f == "8N1" || used == frame(f):
					return true
				case used == frame("8N1"): // the stop bit is taken for the parity bit: 1
					return even == (f == "8O1")
				}
				return false
			}
			go func() {
				buf, line := make([]byte, 1), ""
				for {
					if _, err := module.Read(buf); err != nil {
						return
					}
					switch c := buf[0]; {
					case !takes(c):
					case c == '\r':
						out := "\r\n"
						if line != "" {
							out += "no such word\r\n"
						}
						if mute {
							out = "\r\n"
						}
						io.WriteString(module, out+"tower> ")
						line = ""
					case c != '\n':
						if !mute {
							module.Write(buf)
						}
						line += string(buf)
					}
				}
			}()
			r, err := (&Probe{Port: host, Speeds: []int{115200}}).Run(t.Context())
			want, sure := frame(f), true
			if mute && f != "8O1" { // nothing tells; with odd parity not even Enter is taken
				want, sure = frame("8N1"), false
			}
			if err != nil || r.Kind != Found || r.Sure != sure || r.Frame.Filled() != want || r.Prompt != "tower>" {
				t.Errorf("%s, mute %v: %s sure %v, prompt %s, %v, %v", f, mute, r.Frame, r.Sure, r.Prompt, r.Why, err)
			}
		})
	}
}

// What only talks has not answered, whatever time lies between two of its lines. Where they come at random, and
// eight times in a row in time, that cannot be told from answers: of these, once.
func TestOnlyTalks(t *testing.T) {
	lucky := 0
	for every := 40; every < 3000; every += 1 + every/9 {
		for i, say := range []string{"hut 3.1 C\r\n", "lamp on\r\n", "> ", "hut 3.1 C\r\n", "rope 17 kN\r\nrope 18 kN\r\n", "lamp on\r\nOK\r\n"} {
			synctest.Test(t, func(t *testing.T) {
				host, module := port.Pipe("m", uart.DefaultLine)
				defer time.Sleep(7 * time.Second) // until it has seen that nobody is there
				defer host.Close()
				go io.Copy(io.Discard, module)
				go func() {
					draw := rand.New(rand.NewPCG(uint64(every), uint64(i)))
					for {
						pause := time.Duration(every) * time.Millisecond
						if i > 2 { // not at a beat
							pause = time.Duration(draw.Int64N(int64(2 * pause)))
						}
						time.Sleep(pause)
						if _, err := io.WriteString(module, say); err != nil {
							return
						}
					}
				}()
				r, err := (&Probe{Port: host, Speeds: []int{115200, 9600}}).Run(t.Context())
				if i > 2 && r.Kind == Found && r.Sure && r.Notices == nil && r.Ending != phrasebook.EndingNotSaid {
					lucky++
				} else if why := strings.Join(r.Why, "\n"); err != nil || r.Kind == Found && (r.Sure && r.Prompt != "" || strings.Contains(why, "it answers") && i < 3) {
					t.Errorf("%q every %d ms: %v sure %v, ending %s, prompt %q, final %q, %s, %v", say, every, r.Kind, r.Sure, r.Ending, r.Prompt, r.Final, why, err)
				}
			})
		}
	}
	if lucky > 1 {
		t.Errorf("%d were taken for an answer, and sure", lucky)
	}
}

// What a module is like that answers nothing, or in its own way, is found as well, and
// nothing is left in its buffer.
func TestFindsWhatItIs(t *testing.T) {
	for name, c := range map[string]struct {
		by      string // what it says by itself
		every   time.Duration
		repeats bool
		end     string // of a line
		answer  func(line string) string
		want    string
	}{
		"it only talks":   {by: "gust 7 of 9\r\n", every: time.Second, want: "9600 8N1, ending not said, lines, prompt , final , sure false"},
		"it talks much":   {by: "gust 7 of 9, bearing 210\r\n", every: 100 * time.Millisecond, want: "9600 8N1, ending not said, lines, prompt , final , sure true"},
		"it only repeats": {repeats: true, want: "9600 8N1, ending not said, lines, prompt , final , sure false"},
		"a console":       {end: "\r", answer: func(l string) string { return l + "\r\nno such word\r\ntower> " }, want: "9600 8N1, ending cr, console, prompt tower>, final , sure true"},
		"a console that sends by itself": {by: "beat 7\r\n", every: 700 * time.Millisecond, end: "\r", answer: func(l string) string { return l + "\r\nno such word\r\ntower> " },
			want: "9600 8N1, ending cr, console, prompt tower>, final , sure true"},
		"a console that sends often by itself": {by: "beat 7\r\n", every: 310 * time.Millisecond, end: "\r", answer: func(l string) string { return l + "\r\nno such word\r\ntower> " },
			want: "9600 8N1, ending cr, console, prompt tower>, final , sure true"},
		"its own final result": {end: "\r", answer: func(l string) string { return "got " + l + "\r\nfine\r\n" }, want: "9600 8N1, ending cr, lines, prompt , final fine, sure true"},
		"OK within a word":     {end: "\r", answer: func(l string) string { return "BROKEN LINE OK?\r\n" }, want: "9600 8N1, ending cr, lines, prompt , final , sure true"},
		"results of V.250": {end: "\r", answer: func(l string) string {
			if strings.Trim(l, "\n") != "AT" {
				return "\r\nERROR\r\n"
			}
			return "\r\nOK\r\n"
		}, want: "9600 8N1, ending cr, at, prompt , final , sure true"},
		"ERROR to everything": {end: "\r", answer: func(l string) string { return "\r\nERROR\r\n" }, want: "9600 8N1, ending cr, lines, prompt , final , sure true"},
		"an LF spoils its lines": {end: "\r", answer: func(l string) string {
			if strings.Contains(l, "\n") {
				return ""
			}
			return "\r\nOK\r\n"
		}, want: "9600 8N1, ending cr, at, prompt , final , sure true"},
	} {
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			defer host.Close()
			right := func() bool { return host.Line().Speed == 9600 && host.Line().Frame.Filled() == frame("8N1") }
			done := make(chan struct{})
			defer close(done)
			if c.by != "" {
				go func() {
					for {
						select {
						case <-done:
							return
						case <-time.After(c.every):
						}
						if right() {
							io.WriteString(module, c.by)
						} else {
							io.WriteString(module, "\xf0\x80")
						}
					}
				}()
			}
			line := ""
			go func() {
				buf := make([]byte, 100)
				for {
					n, err := module.Read(buf)
					if err != nil {
						return
					}
					if !right() {
						line += "?"
						continue
					}
					if c.repeats {
						module.Write(buf[:n])
					}
					line += string(buf[:n])
					for c.end != "" && strings.Contains(line, c.end) {
						var one string
						if one, line, _ = strings.Cut(line, c.end); one != "" {
							io.WriteString(module, c.answer(one))
						}
					}
				}
			}()
			r, err := (&Probe{Port: host, Speeds: []int{115200, 9600, 57600, 38400}}).Run(t.Context())
			ending := "not said"
			if r.Ending != phrasebook.EndingNotSaid {
				ending = r.Ending.String()
			}
			got := fmt.Sprintf("%v, ending %s, %s, prompt %s, final %s, sure %v", r.Line(), ending, r.Dialect, r.Prompt, r.Final, r.Sure)
			if err != nil || r.Kind != Found || got != c.want {
				t.Errorf("%s:\ngot  %s\nwant %s\n%+v, %v", name, got, c.want, r, err)
			}
			if synctest.Wait(); line != "" && c.end != "" {
				t.Errorf("%s: left %q in its buffer", name, line)
			}
		})
	}
}

// A module played by hand: only what is allowed is sent, and line endings are
// told apart.
func TestEndingsAndWake(t *testing.T) {
	for _, c := range []struct {
		end, want string
		wake      []string
	}{
		{"\r", "cr", nil}, {"\n", "lf", nil}, {"\r\n", "crlf", nil}, {"\n", "lf", []string{"who"}},
	} {
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			defer host.Close()
			var sent strings.Builder
			go func() {
				var line string
				buf := make([]byte, 100)
				for {
					n, err := module.Read(buf)
					if err != nil {
						return
					}
					sent.Write(buf[:n])
					if host.Line().Speed != 9600 {
						continue
					}
					line += string(buf[:n])
					for strings.Contains(line, c.end) {
						var one string
						one, line, _ = strings.Cut(line, c.end)
						if one = strings.Trim(one, "\r\n"); one != "" {
							io.WriteString(module, "unknown: "+one+"\r\n")
						}
					}
				}
			}()
			res, err := (&Probe{Port: host, Wake: c.wake}).Run(context.Background())
			if err != nil || res.Kind != Found || res.Speed != 9600 || res.Ending.String() != c.want {
				t.Errorf("ends with %q: %+v, %v", c.end, res, err)
			}
			allowed := "AT"
			if c.wake != nil {
				allowed = c.wake[0]
			}
			if rest := strings.Trim(strings.ReplaceAll(sent.String(), allowed, ""), "\r\n"); rest != "" {
				t.Errorf("sent %q, which nobody allowed", rest)
			}
		})
	}
}

// A port without a line of its own: endings and dialects are tried, and what cannot be
// tried is said.
func TestNoLine(t *testing.T) {
	for _, c := range []struct {
		name, answer, up string
		kind             Kind
		dialect, prompt  string
		point            string
	}{
		{"a console", "no such word\r\ntower# ", "", Found, "console", "tower#", ""},
		{"results of V.250", "\r\nOK\r\n", "", Found, "at", "", ""},
		{"lines", "unknown\r\n", "", Found, "lines", "", ""},
		{"a console whose prompt is another each time", "what?\r\n%d> ", "", Found, "lines", "", ""},
		{"nothing", "", "", Silence, "", "", "may be another service"},
		{"bytes", "\x80\x01\xff\x90\x02", "", Noise, "", "", "at the serial side"},
		{"only a greeting", "", "\x01\x80\x90\x93hm", Burst, "", "", "wait for its banner"},
	} {
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			defer host.Close()
			io.WriteString(module, c.up)
			n := 0
			simtest.Answer(module, func(line string) string {
				if line == "" || line == "\n" {
					return ""
				}
				n++
				return strings.ReplaceAll(c.answer, "%d", fmt.Sprint(n))
			})
			res, err := (&Probe{Port: host, NoLine: true}).Run(t.Context())
			dialect := ""
			if res.Kind == Found {
				dialect = res.Dialect.String()
			}
			if err != nil || res.Kind != c.kind || dialect != c.dialect || res.Prompt != c.prompt || res.Speed != 0 || !strings.Contains(strings.Join(res.Points, "\n"), c.point) || len(res.Untried) != 1 {
				t.Errorf("%s: %+v, %v", c.name, res, err)
			}
			if host.Line() != uart.DefaultLine {
				t.Errorf("%s: the line was set to %v", c.name, host.Line())
			}
		})
	}
}

// Who talks without being asked has not answered: its line ending is not known.
func TestTalker(t *testing.T) {
	for _, speed := range []int{300, 9600} {
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			defer host.Close()
			done := make(chan struct{})
			defer close(done)
			go func() {
				for {
					select {
					case <-done:
						return
					case <-time.After(150 * time.Millisecond):
					}
					if host.Line().Speed == speed {
						io.WriteString(module, "position 46.1 7.2 fix 3\r\n")
					}
				}
			}()
			res, err := (&Probe{Port: host, Speeds: []int{speed}}).Run(t.Context())
			why := strings.Join(res.Why, "; ")
			if err != nil || res.Kind != Found || res.Ending != phrasebook.EndingNotSaid || !strings.Contains(why, "it speaks by itself") || strings.Contains(why, "answered once more") {
				t.Errorf("%+v, %v", res, err)
			}
		})
	}
}

func TestJudge(t *testing.T) {
	even := func(s string) (b []byte) {
		for _, c := range []byte(s) {
			ones := 0
			for x := c; x != 0; x &= x - 1 {
				ones++
			}
			b = append(b, c|byte(ones%2)<<7)
		}
		return b
	}
	if low, p := stripParity(even("~NODE: 17\r\n")); p != uart.Even || string(low) != "~NODE: 17\r\n" {
		t.Errorf("%v %q", p, low)
	}
	for _, b := range [][]byte{[]byte("plain text"), {0x80, 0xff, 0x13, 0xaa, 0x55}, nil, {0xc3, 0xa4, 'a', 'b', 'c'}} {
		if _, p := stripParity(b); p != uart.None {
			t.Errorf("%q has %v parity", b, p)
		}
	}
	high := func(s string) (b []byte) { // as a second stop bit is read as the eighth
		for _, c := range []byte(s) {
			b = append(b, c|0x80)
		}
		return b
	}
	for _, c := range []struct {
		got   []byte
		frame string
	}{
		{high("OK\r\n"), "7N2"}, {even("~NODE: 17\r\n"), "7E1"}, {[]byte("─────"), ""}, {[]byte("❯ "), ""}, {[]byte("plain"), ""},
	} {
		want := uart.Frame{}
		if c.frame != "" {
			want = frame(c.frame)
		}
		if _, f := unframed(c.got); f != want {
			t.Errorf("%q is %v, want %s", c.got, f, c.frame)
		}
	}
	for got, want := range map[string]bool{"0\r": true, "AT\r0\r": true, "\rAT\r\n0\r": true, "\rAT\r\n0\r\n": false, "\r\n0\r": false, "7\r": true, "5 \r": false, "9\r": false} {
		if is := asNumber("AT", []byte(got)); is != want {
			t.Errorf("%q is a result as a number: %v", got, is)
		}
	}
	for text, want := range map[string]float64{"── tower ready, all is well ──": 1, "❯ ls the lower station": 1, "\xf0\x80": 0, "wwwww": 0, "ü 3": 0.5} {
		if got := readable([]byte(text)); got != want {
			t.Errorf("%q is %v readable, want %v", text, got, want)
		}
	}
	for got, want := range map[string]string{"\x00\xff\x80\x13\r\nCURLEW 3.1\r\n": "4 CURLEW 3.1", "inputs 0\r\n": "0 inputs 0", "\xff\xfe": "2 ", "": "0 "} {
		if n, text := banner([]byte(got)); fmt.Sprintf("%d %s", n, text) != want {
			t.Errorf("%q: %d %q, want %s", got, n, text, want)
		}
	}
	for _, c := range []struct{ got, sent, want string }{
		{"AT\r\r\nOK\r\n", "AT\r\n", "\r\r\nOK\r\n"},
		{"\r\nOK\r\n", "AT", "\r\nOK\r\n"},
		{"ATTENTION", "AT", "ATTENTION"},
		{"> ", "", "> "},
	} {
		if got := string(withoutEcho([]byte(c.got), c.sent)); got != c.want {
			t.Errorf("%q without %q is %q", c.got, c.sent, got)
		}
	}
}

// A plug at an adapter that can do one speed alone is no module that repeats.
func TestPlugAtOneSpeed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		host, module := port.Pipe("m", uart.DefaultLine)
		defer host.Close()
		go io.Copy(module, module)
		r, err := (&Probe{Port: stuck{host}, Speeds: []int{9600, 115200, 57600}}).Run(t.Context())
		if err != nil || r.Kind != Echo {
			t.Errorf("%+v, %v", r, err)
		}
	})
}

// stuck is a port that has one speed.
type stuck struct{ port.Port }

func (s stuck) SetLine(l uart.Line) error {
	if l.Speed != 115200 {
		return errors.New("there is no such speed")
	}
	return s.Port.SetLine(l)
}

// A module that starts is stopped by a text, and its prompt found.
func TestInterrupt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		host, module := port.Pipe("m", uart.DefaultLine)
		defer host.Close()
		stopped := make(chan struct{})
		go func() { // it is switched on after a while
			time.Sleep(4 * time.Second)
			for i := range 50 {
				select {
				case <-stopped:
					io.WriteString(module, "\r\nstopped\r\nmonitor> ")
					return
				case <-time.After(100 * time.Millisecond):
				}
				fmt.Fprintf(module, "winding rope %d\r\n", i)
			}
		}()
		go func() {
			buf, up := make([]byte, 100), false
			for {
				n, err := module.Read(buf)
				if err != nil {
					return
				}
				switch {
				case !up && strings.Contains(string(buf[:n]), "\x03") && time.Since(time.Date(2000, 1, 1, 0, 0, 5, 0, time.UTC)) > 0:
					up = true
					close(stopped)
				case up && strings.ContainsAny(string(buf[:n]), "\x03\r"):
					io.WriteString(module, "\r\nmonitor> ")
				}
			}
		}()
		r, err := (&Probe{Port: host, Speeds: []int{115200}, Break: "\x03"}).Run(t.Context())
		if err != nil || r.Kind != Found || r.Prompt != "monitor>" || r.Dialect != phrasebook.Console || !strings.Contains(strings.Join(r.Why, "; "), "it stopped as it started") {
			t.Errorf("%+v, %v", r, err)
		}
	})
}

// Nothing goes out but what the plan tells: the words allowed, with the line ends that it
// names, whatever answers.
func TestNothingElseIsSent(t *testing.T) {
	allowed := map[string]bool{"\r": true, "\r\n": true}
	for _, w := range []string{"", "who"} {
		for _, one := range []string{"\r" + w + "\r\n", "\r\n" + w + "\r\n", "\n" + w + "\n", w + "\r", w + "\n"} {
			allowed[one] = true
		}
	}
	for name, answer := range map[string]func(line string) string{
		"silent":  func(string) string { return "" },
		"answers": func(l string) string { return "got " + l + "\r\ndone\r\n" },
		"prompt":  func(l string) string { return "tower> " },
		"noise":   func(l string) string { return "\xfe\x81\x00\xff\x92" },
		"echo":    func(l string) string { return l + "\r\n" },
	} {
		synctest.Test(t, func(t *testing.T) {
			host, module := port.Pipe("m", uart.DefaultLine)
			defer host.Close()
			go func() {
				buf := make([]byte, 1000)
				for {
					n, err := module.Read(buf)
					if err != nil {
						return
					}
					if !allowed[string(buf[:n])] {
						t.Errorf("%s: sent %q", name, buf[:n])
					}
					for _, line := range strings.Split(string(buf[:n]), "\r") {
						if line = strings.Trim(line, "\n"); line != "" {
							io.WriteString(module, answer(line))
						}
					}
				}
			}()
			if _, err := (&Probe{Port: host, Wake: []string{"", "who"}}).Run(t.Context()); err != nil {
				t.Error(err)
			}
		})
	}
}
