package families_test

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
)

// play sets up a bench of Dunlins in simulated time. The returned function says
// commands to one of them and returns all that came in the next second.
func play(t *testing.T, air bench.Air, modules ...bench.Standin) (*sim.Bench, func(name, say string) string) {
	for i := range modules {
		modules[i].Family = "dunlin"
	}
	b := simtest.New(t, air, modules...)
	heard := map[string]*simtest.Listener{}
	for _, m := range modules {
		heard[m.Name] = b.Listen(m.Name)
	}
	return b.Bench, func(name, say string) string {
		heard[name].After(0) // what came before
		if say == "" {
			return heard[name].After(time.Second)
		}
		return heard[name].Say(say)
	}
}

func TestDunlinCommands(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, say := play(t, bench.Air{}, bench.Standin{Name: "north", Settings: map[string]string{"node": "7", "name": "tower 1"}})
		for _, c := range []struct{ say, want string }{
			{"AT\r\n", "|OK|"},
			{"at\r", "|OK|"},
			{"AT\n", ""}, // the wrong line ending: silence
			{"\r", "|OK|"},
			{"hello\r", ""},
			{"ATI\r", "|Larkfell Works||Dunlin||2.4.1||OK|"},
			{"AT~NODE?\r", "|~NODE: 7||OK|"},
			{"AT~node=65534\r", "|OK|"},
			{"AT~NODE?\r", "|~NODE: 65534||OK|"},
			{"AT~NODE=65535\r", "|~REFUSED: 32|"},
			{"AT~NODE=0\r", "|~REFUSED: 32|"},
			{"AT~NODE=3 \r", "|~REFUSED: 32|"}, // a blank at the end
			{"AT~NODE=?\r", "|~NODE: (1-65534)||OK|"},
			{"AT~GROUP=255\r", "|OK|"},
			{"AT~CHANNEL=80\r", "|~REFUSED: 32|"},
			{"AT~POWER=-4\r", "|OK|"},
			{"AT~NAME?\r", `|~NAME: "tower 1"||OK|`},
			{"AT~NAME=\"a,b\"\r", "|OK|"},
			{"AT~NAME=plain\r", "|~REFUSED: 32|"},
			{"AT~NOED?\r", "|~REFUSED: 31|"},
			{"AT~NODE\r", "|~REFUSED: 31|"},
			{"ATX\r", "|~REFUSED: 31|"},
			{"AT~TELL=1,5,hello\r", "|OK|"},
			{"AT~TELL=1,4,hello\r", "|~REFUSED: 34|"},
			{"AT~TELL=1,5\r", "|~REFUSED: 33|"},
			{"AT~TELL=x,5,hello\r", "|~REFUSED: 32|"},
			{"AT~TELL=1,97," + strings.Repeat("x", 97) + "\r", "|~REFUSED: 35|"},
			{"AT" + strings.Repeat("x", 500) + "\r", "|~REFUSED: 35|"},
			{"ATE1\r", "|OK|"},
			{"AT\r", "AT\r|OK|"},
			{"AT&F\r", "AT&F\r|OK|"},
			{"AT~NODE?\r", "|~NODE: 1||OK|"},
			{"AT~SERIAL?\r", "|~SERIAL: DL-363332||OK|"},
		} {
			if got := say("north", c.say); got != c.want {
				t.Errorf("%q: %q, want %q", c.say, got, c.want)
			}
		}
		say("north", "AT~NODE=9\r")
		got := say("north", "AT~RESTART\rAT\r")
		if !strings.HasPrefix(got, "|OK|") || !strings.HasSuffix(got, "|DUNLIN UP 2.4.1|") || !strings.Contains(got, "\x00") || strings.Count(got, "OK") != 1 {
			t.Errorf("restart: %q", got)
		}
		if got := say("north", "AT~NODE?\r"); got != "|~NODE: 9||OK|" {
			t.Errorf("after the restart: %q", got)
		}
	})
}

func TestWhoHearsWhom(t *testing.T) {
	for _, c := range []struct{ to, settings, want string }{
		{"2", "node=2", "yes"},
		{"3", "node=2", "no"},
		{"0", "node=2", "yes"},
		{"2", "node=2 group=1", "no"},
		{"2", "node=2 channel=11", "no"},
		{"0", "node=2 group=1", "no"},
	} {
		synctest.Test(t, func(t *testing.T) {
			set := map[string]string{}
			for _, s := range strings.Fields(c.settings) {
				k, v, _ := strings.Cut(s, "=")
				set[k] = v
			}
			b, say := play(t, bench.Air{Delay: 20 * time.Millisecond},
				bench.Standin{Name: "north", Settings: map[string]string{"node": "1"}}, bench.Standin{Name: "south", Place: 800, Settings: set})
			say("north", "AT~TELL="+c.to+",5,a,b c\r")
			got := "no"
			if heard := say("south", ""); heard != "" {
				t.Errorf("heard %q too late", heard)
			}
			if len(b.Truth()) > 0 {
				got = "yes"
			}
			if got != c.want {
				t.Errorf("to %s with %s: %s, want %s", c.to, c.settings, got, c.want)
			}
		})
	}
}

// The time from the last byte of the command to the last byte of the notice is
// the air's delay and the time on the wire, to the nanosecond.
func TestDelayAndWire(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, err := sim.New(sim.Config{Families: families.All, Air: bench.Air{Delay: 40 * time.Millisecond}, Sleep: time.Sleep, Modules: []bench.Standin{
			{Name: "north", Family: "dunlin", Line: uart.DefaultLine}, {Name: "south", Family: "dunlin", Line: uart.DefaultLine, Place: 500},
		}})
		if err != nil {
			t.Fatal(err)
		}
		defer b.Close()
		north, n := port.Pipe("north", uart.DefaultLine)
		south, s := port.Pipe("south", uart.DefaultLine)
		defer north.Close()
		defer south.Close()
		b.Attach("north", n)
		b.Attach("south", s)
		command := "AT~TELL=1,5,hello\r"
		began := time.Now()
		north.Write(t.Context(), []byte(command))
		var heard []byte
		buf := make([]byte, 100)
		for !strings.HasSuffix(string(heard), "hello\r\n") {
			n, err := south.Read(buf)
			if err != nil {
				t.Fatal(err)
			}
			heard = append(heard, buf[:n]...)
		}
		want := uart.DefaultLine.Time(len(command)) + 40*time.Millisecond + uart.DefaultLine.Time(len(heard))
		if got := time.Since(began); got != want {
			t.Errorf("took %v, want %v", got, want)
		}
	})
}

// The same seed gives the same fates, shares come out as asked, and each fate
// is what the receiver sees.
func TestAirKeepsTruth(t *testing.T) {
	run := func(seed uint64) (truth sim.Truth, lines int) {
		synctest.Test(t, func(t *testing.T) {
			air := bench.Air{Seed: seed, Loss: 0.1, Damage: 0.05, Duplicate: 0.05, Reorder: 0.05, Delay: 10 * time.Millisecond, Spread: 4 * time.Millisecond}
			b, say := play(t, air, bench.Standin{Name: "north"}, bench.Standin{Name: "south", Place: 300, Settings: map[string]string{"node": "2"}})
			// One burst, taken as fast as the line goes; no LF, NUL or CR gets in.
			say("south", "")
			say("north", strings.Repeat("AT~TELL=2,10,0123456789\r", 400))
			for range 3 {
				time.Sleep(time.Second)
			}
			truth = b.Truth()[0]
		})
		return truth, lines
	}
	first, _ := run(3)
	again, _ := run(3)
	other, _ := run(4)
	if first != again || first == other {
		t.Errorf("seed 3: %+v\nagain:  %+v\nseed 4: %+v", first, again, other)
	}
	if first.Sent != 400 || first.Carried+first.Lost != 400 || first.Lost != first.Dropped+first.Damaged {
		t.Errorf("the sums do not agree: %+v", first)
	}
	for what, n := range map[string]int{"dropped": first.Dropped - 20, "damaged": first.Damaged, "duplicated": first.Duplicated, "reordered": first.Reordered} {
		if n < 8 || n > 40 {
			t.Errorf("%s is far from its share: %+v", what, first)
		}
	}
	if first.DelayMinMS < 10 || first.DelayMS < 10 {
		t.Errorf("delays: %+v", first)
	}
}

func TestUnknownSetting(t *testing.T) {
	for key, want := range map[string]string{"nod": `no setting "nod"`, "node": "does not take"} {
		_, err := sim.New(sim.Config{Families: families.All, Modules: []bench.Standin{{Name: "north", Family: "dunlin", Settings: map[string]string{key: "x"}}}})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", key, err)
		}
	}
}
