package session

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/sim/simtest"
)

// gaugeBook is a family with all that settings can have: a secret, an order, one that only
// newer firmware has, one that cannot be written, one that takes effect at a restart.
const gaugeBook = `family = "Gauge"
dialect = "lines"
[line]
ending = "cr"
[refusal]
heard = ["no ..."]
[setup]
save = ["say {port}: keep", "hear {port}: kept"]
restart = ["say {port}: restart", "hear {port} within 5s: up"]
[[identity]]
name = "firmware"
read = "fw"
answer = "fw {value}"
[[setting]]
name = "span"
type = "int"
range = [0, 99]
after = ["zero"]
read = "span"
answer = "span {value:int}"
write = "span {value}"
[[setting]]
name = "zero"
type = "int"
read = "zero"
answer = "zero {value:int}"
write = "zero {value}"
[[setting]]
name = "filter"
type = "int"
firmware = "2.10"
read = "filter"
answer = "filter {value:int}"
write = "filter {value}"
[[setting]]
name = "code"
type = "text"
secret = true
write = "code {value}"
written = "code taken"
[[setting]]
name = "serial"
type = "text"
read = "serial"
answer = "serial {value}"
[[setting]]
name = "unit"
type = "text"
effect = "restart"
pair = "equal"
read = "unit"
answer = "unit {value}"
write = "unit {value}"
`

// gauge plays such a module. Each answer takes a while.
type gauge struct {
	mu     sync.Mutex
	fw     string
	now    map[string]string
	next   map[string]string
	said   []string
	takes  time.Duration
	sticks string // a setting that never changes
}

func newGauge(fw string) *gauge {
	return &gauge{fw: fw, now: map[string]string{"span": "10", "zero": "1", "filter": "3", "serial": "G-17", "unit": "m/s"}, next: map[string]string{}, takes: 100 * time.Millisecond}
}

func (g *gauge) answer(line string) string {
	time.Sleep(g.takes)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.said = append(g.said, line)
	name, v, write := strings.Cut(line, " ")
	switch {
	case line == "fw":
		return "fw " + g.fw + "\r\n"
	case line == "keep":
		return "kept\r\n"
	case line == "restart":
		for k, v := range g.next {
			g.now[k] = v
		}
		return "up\r\n"
	case name == "code":
		return "code taken\r\n"
	case g.now[name] == "":
		return "no " + line + "\r\n"
	case write && name == "unit":
		g.next[name] = v
		return ""
	case write:
		if name != g.sticks {
			g.now[name] = v
		}
		return ""
	}
	return name + " " + g.now[name] + "\r\n"
}

// modulesOf are gauges as modules of a session without evidence.
func modulesOf(t *testing.T, gauges ...*gauge) (*Modules, func()) {
	t.Helper()
	pb, err := phrasebook.Parse("gauge.toml", gaugeBook)
	if err != nil {
		t.Fatal(err)
	}
	m := &Modules{}
	var mu sync.Mutex
	var closers []io.Closer
	for i, g := range gauges {
		name := fmt.Sprint("g", i+1)
		st := &bench.Station{Name: name, Setup: pb.Setup(), Phrasebook: pb}
		st.Dial = func() (port.Port, error) {
			played, module := simtest.Played(name, pb.Setup(), pb)
			mu.Lock()
			closers = append(closers, module)
			mu.Unlock()
			simtest.Answer(module, g.answer)
			return played.Dial()
		}
		m.Stations = append(m.Stations, st)
	}
	if m.Session, err = Begin(context.Background(), Keep{NoLedger: true, Record: filepath.Join(t.TempDir(), "s.record")}, About{Command: "settings", Stations: m.Stations[:0]}); err != nil {
		t.Fatal(err)
	}
	return m, func() {
		if err := m.Session.End(); err != nil {
			t.Error(err)
		}
		for _, c := range closers {
			c.Close()
		}
		time.Sleep(time.Second)
	}
}

// Eight modules are read in the time of the slowest.
func TestSettingsAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var all []*gauge
		for i := range 8 {
			g := newGauge("2.10")
			g.takes = time.Duration(i+1) * 50 * time.Millisecond
			all = append(all, g)
		}
		m, end := modulesOf(t, all...)
		defer end()
		began := time.Now()
		mods, err := m.Read(t.Context(), "as found")
		if took := time.Since(began); err != nil || len(mods) != 8 || took > 6*8*50*time.Millisecond+time.Second {
			t.Errorf("%d modules in %v, %v", len(mods), took, err)
		}
	})
}

// What is written, in which order, and what is found of it: a secret is said and shown
// nowhere, what newer firmware has is left alone, what waits for a restart gets one, and what
// does not take is told with both values.
func TestSettingsWritten(t *testing.T) {
	for _, c := range []struct {
		name    string
		gauge   func() *gauge
		wanted  map[string]string
		restart bool
		said    string // what was written, saved and restarted
		want    string // of each change: whether it took, and why not
	}{
		{"in their order", func() *gauge { return newGauge("2.10") }, map[string]string{"span": "20", "zero": "2"}, true, "zero 2, span 20, keep, restart", "zero took, span took"},
		{"as they are", func() *gauge { return newGauge("2.10") }, map[string]string{"span": "10", "zero": "01"}, true, "", ""},
		{"a secret", func() *gauge { return newGauge("2.10") }, map[string]string{"code": "gr4nite"}, true, "code gr4nite, keep, restart", "code took"},
		{"at a restart", func() *gauge { return newGauge("2.10") }, map[string]string{"unit": "kn"}, true, "unit kn, keep, restart", "unit took"},
		{"at a restart that is not wanted", func() *gauge { return newGauge("2.10") }, map[string]string{"unit": "kn"}, false, "unit kn, keep", "unit took"},
		{"does not take", func() *gauge { g := newGauge("2.10"); g.sticks = "span"; return g }, map[string]string{"span": "20"}, true, "span 20, keep, restart", "span: span has not taken the value: wanted 20, is 10"},
		{"cannot be written", func() *gauge { return newGauge("2.10") }, map[string]string{"serial": "G-18"}, true, "", "serial: it can be read alone"},
		{"of newer firmware", func() *gauge { g := newGauge("2.9"); delete(g.now, "filter"); return g }, map[string]string{"filter": "4"}, true, "", "filter: not before 2.10"},
	} {
		synctest.Test(t, func(t *testing.T) {
			g := c.gauge()
			m, end := modulesOf(t, g)
			found, err := m.Read(t.Context(), "as found")
			if err != nil {
				t.Fatal(c.name, err)
			}
			g.said = nil
			w := Wanted{"": c.wanted}
			if err := m.Check(w); err != nil {
				t.Fatal(c.name, err)
			}
			changes := m.Changes(found, w)
			if len(changes) > 0 {
				if _, err = m.Write(t.Context(), changes, c.restart); err != nil {
					t.Fatal(c.name, err)
				}
			}
			var wrote, came []string
			for _, line := range g.said {
				if strings.Contains(line, " ") || line == "keep" || line == "restart" {
					wrote = append(wrote, line)
				}
			}
			for _, ch := range changes {
				if ch.Took {
					came = append(came, ch.Name+" took")
				} else {
					came = append(came, ch.Name+": "+ch.WhyNot)
				}
			}
			if strings.Join(wrote, ", ") != c.said {
				t.Errorf("%s: said %q", c.name, wrote)
			}
			if got := strings.Join(came, ", "); !strings.HasPrefix(got, c.want) || c.want == "" && got != "" {
				t.Errorf("%s: %q", c.name, got)
			}
			path := m.Session.Record
			end()
			if rec := readFile(t, path); strings.Contains(rec, "gr4nite") {
				t.Errorf("%s: the record shows a secret", c.name)
			}
		})
	}
}

// A file of settings is read as it was written, whatever stands in it.
func TestSettingsFile(t *testing.T) {
	pb, err := phrasebook.Parse("gauge.toml", gaugeBook)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "s.toml")
	mods := []*Module{{record.Settings{Name: "tower 3", Family: "Gauge", When: "as found", Identity: []record.SettingValue{{Name: "firmware", Value: "2.10"}},
		Settings: []record.SettingValue{{Name: "span", Value: "20"}, {Name: "unit", Value: "a \"b\" \\ \x1b[31m \u00b5 = #"}, {Name: "code", Not: "a secret\nx = 1"}, {Name: "serial", Value: "0017"}}}, pb}}
	var b strings.Builder
	if err := WriteSettings(&b, mods); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	got, err := ReadSettings(path)
	if err != nil || len(got) != 1 || got[0].Name != "tower 3" || got[0].Family != "Gauge" {
		t.Fatalf("%v, %+v\n%s", err, got, b.String())
	}
	for _, v := range mods[0].Settings.Settings {
		back, is := got[0].Setting(v.Name)
		if is != (v.Not == "") || back.Value != v.Value {
			t.Errorf("%+v became %+v, %v", v, back, is)
		}
	}
	if _, is := got[0].Setting("x"); is {
		t.Error("a reason became a setting")
	}
}

func readFile(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func TestOlder(t *testing.T) {
	for _, c := range []struct {
		version, than string
		want          bool
	}{{"2.9", "2.10", true}, {"2.10", "2.9", false}, {"2.4.1", "2.4.1", false}, {"R2.4", "2.4.1", true}, {"", "1", true}, {"3", "2.9.9", false}} {
		if older(c.version, c.than) != c.want {
			t.Errorf("%s before %s is %v", c.version, c.than, !c.want)
		}
	}
}
