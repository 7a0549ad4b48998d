package families

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/sim"
)

// wheatear is a sensor mast, made up for the Larkfell cableway. Its sensors have numbers, and
// some have two channels. Its commands are lines that end with CR:
//
//	who                      "wheatear 3.1 mast 6"
//	sensors                  a line "sensor N NAME on, T ms" each
//	sensor N on, sensor N off    "sensor N is on"
//	start, stop              "started every T ms", "stopped"
//	status                   one line of XML
//
// Started, it tells its values line after line, each line with its number:
//
//	m6 123 s1=a7.3,b7.9 s2=a214 s3=a-4.5
//
// as often as the slowest of its sensors can. A sensor under ice tells nothing. Anything else
// is answered with "no word: " and the line.
type wheatear struct {
	*sim.Unit
	bench  *sim.Bench
	mast   int
	every  time.Duration // over what the sensors can; 0 is as they can
	on     [5]bool
	ice    [5]bool
	values [5]float64
	line   int // told so far
	going  bool
	round  int // counts starts and stops, so that old plans are dropped
	typed  typed
}

var wheatearSensors = []struct {
	name, unit string
	takes      time.Duration
	at, swing  float64
	two        bool // a second channel, the greatest of a while
}{
	{"wind", "m/s", 200 * time.Millisecond, 7.3, 0.8, true},
	{"direction", "deg", 200 * time.Millisecond, 214, 6, false},
	{"temperature", "degC", time.Second, -4.5, 0.2, false},
	{"load", "kN", 500 * time.Millisecond, 41.9, 0.6, false},
	{"rime", "mm", 2 * time.Second, 2.0, 0.1, false},
}

func newWheatear(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	w := &wheatear{Unit: u, bench: b, mast: 6}
	for key, v := range u.Settings {
		switch n, err := strconv.Atoi(v); {
		case key == "mast" && err == nil && n >= 0 && n <= 99:
			w.mast = n
		case key == "every" && err == nil && n >= 1 && n <= 60_000:
			w.every = time.Duration(n) * time.Millisecond
		default:
			return nil, fmt.Errorf("a Wheatear has the settings mast, 0 to 99, and every, 1 to 60000 ms, not %s = %s", key, v)
		}
	}
	w.Power(time.Time{}, true)
	return w, nil
}

func (w *wheatear) Power(_ time.Time, on bool) {
	w.typed, w.going, w.line = typed{}, false, 0
	w.round++
	if on {
		w.on = [5]bool{true, true}
		for i, s := range wheatearSensors {
			w.values[i] = s.at
		}
	}
}

// pace is how often it tells its values: as the slowest sensor that is on can.
func (w *wheatear) pace() time.Duration {
	if w.every > 0 {
		return w.every
	}
	pace := 100 * time.Millisecond
	for i, s := range wheatearSensors {
		if w.on[i] {
			pace = max(pace, s.takes)
		}
	}
	return pace
}

func (w *wheatear) tellLater(at time.Time, round int) {
	w.bench.Later(w.Unit, at, func(at time.Time) {
		if w.round != round {
			return
		}
		w.line++
		var b strings.Builder
		fmt.Fprintf(&b, "m%d %d", w.mast, w.line)
		for i, s := range wheatearSensors {
			if !w.on[i] || w.ice[i] {
				continue
			}
			w.drift(i)
			fmt.Fprintf(&b, " s%d=a%.1f", i+1, w.values[i])
			if s.two {
				fmt.Fprintf(&b, ",b%.1f", w.values[i]+float64(w.bench.Noise.IntN(10))/10)
			}
		}
		w.Say(at, b.String()+"\r\n")
		w.tellLater(at.Add(w.pace()), round)
	})
}

// drift lets a value go on a little, and back towards where it was.
func (w *wheatear) drift(i int) {
	s := wheatearSensors[i]
	w.values[i] += s.swing*float64(w.bench.Noise.IntN(201)-100)/100 + (s.at-w.values[i])/20
}

func (w *wheatear) Heard(at time.Time, b []byte) {
	for _, c := range b {
		if line, over := w.typed.take(c); over && line != "" {
			w.obey(at, line)
		}
	}
}

func (w *wheatear) obey(at time.Time, line string) {
	words := strings.Fields(line)
	say := func(format string, args ...any) { w.Say(at, fmt.Sprintf(format, args...)+"\r\n") }
	switch {
	case line == "who":
		say("wheatear 3.1 mast %d", w.mast)
	case line == "sensors":
		for i, s := range wheatearSensors {
			say("sensor %d %s %s, %d ms", i+1, s.name, onOff(w.on[i]), s.takes.Milliseconds())
		}
	case line == "status":
		say("%s", w.status())
	case line == "start":
		w.going = true
		w.round++
		say("started every %d ms", w.pace().Milliseconds())
		w.tellLater(at.Add(w.pace()), w.round)
	case line == "stop":
		w.going = false
		w.round++
		say("stopped")
	case len(words) == 3 && words[0] == "sensor" && (words[2] == "on" || words[2] == "off"):
		n, err := strconv.Atoi(words[1])
		if err != nil || n < 1 || n > len(w.on) {
			say("no sensor %s", words[1])
			return
		}
		w.on[n-1] = words[2] == "on"
		say("sensor %d is %s", n, words[2])
	default:
		say("no word: %s", line)
	}
}

func onOff(on bool) string { return map[bool]string{true: "on", false: "off"}[on] }

// status is all that it knows, as XML.
func (w *wheatear) status() string {
	var b strings.Builder
	fmt.Fprintf(&b, `<status mast="%d" lines="%d" every="%d">`, w.mast, w.line, w.pace().Milliseconds())
	for i, s := range wheatearSensors {
		w.drift(i)
		value := ""
		if !w.ice[i] {
			value = fmt.Sprintf("%.1f", w.values[i])
		}
		fmt.Fprintf(&b, `<sensor n="%d" name="%s" unit="%s" state="%s">%s</sensor>`, i+1, s.name, s.unit, onOff(w.on[i]), value)
	}
	fmt.Fprintf(&b, `<supply unit="V">%.1f</supply></status>`, 24+float64(w.bench.Noise.IntN(9)-4)/10)
	return b.String()
}

func (w *wheatear) Hand(_ time.Time, words []string) error {
	n := 0
	if len(words) == 3 && words[0] == "ice" && scanned(words[1], &n) && n >= 1 && n <= len(w.ice) && (words[2] == "on" || words[2] == "off") {
		w.ice[n-1] = words[2] == "on"
		return nil
	}
	return errors.New("a sensor of a Wheatear can be under ice: ice N on, ice N off")
}
