package families_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
)

// one is a single stand-in in simulated time, and what came from it.
type one struct {
	*simtest.Listener
	bench *simtest.Bench
}

func newOne(t *testing.T, m bench.Standin) *one {
	b := simtest.New(t, bench.Air{Seed: 5}, m)
	return &one{b.Listen("m"), b}
}

func TestCurlewCommands(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := newOne(t, bench.Standin{Family: "curlew"})
		if got := o.Say("ATE0\r"); got != "ATE0\r|OK|" {
			t.Errorf("echo off: %q", got)
		}
		for _, c := range []struct{ say, want string }{
			{"AT\r", "|OK|"},
			{"hello\r", ""},
			{"ATI\r", "|Larkfell Works||Curlew||3.1||OK|"},
			{"AT+CGMI\r", "|Larkfell Works||OK|"},
			{"AT+cgmm\r", "|Curlew||OK|"},
			{"AT+CGMR\r", "|3.1||OK|"},
			{"AT+NONE\r", "|ERROR|"},
			{"AT+CMEE=1\r", "|OK|"},
			{"AT+NONE\r", "|+CME ERROR: 4|"},
			{"AT+CMEE=2\r", "|OK|"},
			{"AT+NONE\r", "|+CME ERROR: operation not supported|"},
			{"AT+CMEE=3\r", "|+CME ERROR: incorrect parameters|"},
			{"AT+CMEE?\r", "|+CMEE: 2||OK|"},
			{"AT+CMEE=?\r", "|+CMEE: (0-2)||OK|"},
			{"AT+CPIN?\r", "|+CPIN: READY||OK|"},
			{"AT+CREG?\r", "|+CREG: 0,1||OK|"},
			{"AT+CREG=1\r", "|OK|"},
			{"AT+CREG?\r", "|+CREG: 1,1||OK|"},
			{"AT+CMGS=\"+15550100\"\r", "|+CMS ERROR: operation not allowed|"},
			{"AT+CMGF=1\r", "|OK|"},
			{"AT+CMGS=15550100\r", "|+CME ERROR: incorrect parameters|"},
			{"AT+CMGS=\"+15550100\"\r", "|> "},
			{"lift\x1b", "|OK|"}, // given up
			{"AT+CMGS=\"+15550100\"\r", "|> "},
			{"lift 4 is due\x1a", "|+CMGS: 1||OK|"},
			{"AX\bT\r", "|OK|"}, // a typing mistake mended
			{"AT+IPR?\r", "|+IPR: 115200||OK|"},
			{"AT+IPR=12345\r", "|+CME ERROR: incorrect parameters|"},
			{"ATZ\r", "|OK|"},
			{"AT\r", "AT\r|OK|"}, // echo is back
		} {
			if got := o.Say(c.say); got != c.want {
				t.Errorf("%q: %q, want %q", c.say, got, c.want)
			}
		}
		if got := o.Say("AT+CSQ\r"); !strings.Contains(got, "+CSQ: 1") || !strings.Contains(got, ",99|") {
			t.Errorf("signal quality: %q", got)
		}
		if got := o.Say("AT+IPR=?\r"); !strings.Contains(got, "38400,57600,115200") {
			t.Errorf("speeds: %q", got)
		}
	})
}

// The speed changes after the answer; at the old speed nothing is understood.
func TestCurlewSpeed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := newOne(t, bench.Standin{Family: "curlew"})
		if got := o.Say("ATE0\rAT+IPR=9600\r"); !strings.HasSuffix(got, "|OK|") {
			t.Errorf("the answer does not come at the old speed: %q", got)
		}
		if got := o.Say("AT\r"); strings.Contains(got, "OK") {
			t.Errorf("answered at the old speed: %q", got)
		}
		if err := o.Host.SetLine(uart.Line{Speed: 9600}); err != nil {
			t.Fatal(err)
		}
		o.Say("\r") // what it made of the garbage is no command
		if got := o.Say("AT\r"); got != "|OK|" {
			t.Errorf("at the new speed: %q", got)
		}
	})
}

// After power-up: noise, banner, SIM, network, each in its time; before that a
// command is not answered, or refused.
func TestCurlewStarts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := newOne(t, bench.Standin{Family: "curlew"})
		power := func(on bool) {
			if err := o.bench.Power("m", on); err != nil {
				t.Fatal(err)
			}
		}
		power(false)
		if got := o.Say("AT\r"); got != "" {
			t.Errorf("without power: %q", got)
		}
		power(true)
		noise := o.After(500 * time.Millisecond)
		if len(noise) < 30 || !strings.Contains(noise, "\x00") {
			t.Errorf("no boot noise: %q", noise)
		}
		if got := o.After(500 * time.Millisecond); got != "|CURLEW 3.1|" {
			t.Errorf("banner: %q", got)
		}
		if got := o.Say("AT+CMEE=1\rAT+CPIN?\r"); !strings.HasSuffix(got, "+CME ERROR: 14|") {
			t.Errorf("SIM: %q", got)
		}
		if got := o.Say("AT+CREG?\r"); !strings.Contains(got, "+CREG: 0,2") || !strings.Contains(got, "CURLEW: SIM OPEN") {
			t.Errorf("registration: %q", got)
		}
		if got := o.After(3 * time.Second); got != "|CURLEW: IN SERVICE|" {
			t.Errorf("network: %q", got)
		}
		if got := o.After(2 * time.Minute); strings.Count(got, "+CMTI: ") < 2 {
			t.Errorf("messages: %q", got)
		}
		power(false) // what was planned is dropped
		if got := o.After(2 * time.Minute); got != "" {
			t.Errorf("without power: %q", got)
		}
	})
}

func TestRedshank(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := newOne(t, bench.Standin{Family: "redshank", Settings: map[string]string{"board": "7"}, Line: uart.Line{Speed: 9600}})
		for _, line := range strings.Split(strings.TrimSuffix(o.After(3500*time.Millisecond), "|"), "|") {
			var in, relays string
			var board int
			if n, err := fmt.Sscanf(line, "inputs %s relays %s board %d", &in, &relays, &board); n != 3 || err != nil || board != 7 || relays != "0000" || len(in) != 4 {
				t.Errorf("%q: %v", line, err)
			}
		}
		if got := o.Say("every 0\n"); !strings.HasSuffix(got, "every 0|") {
			t.Errorf("stopped: %q", got)
		}
		for _, c := range []struct{ say, want string }{
			{"who\n", "redshank board 7|"},
			{"who\r\n", "redshank board 7|"},
			{"relay 2 on\n", "relay 2 is on|"},
			{"relay 5 on\n", "what? relay 5 on|"},
			{"relay 1 up\n", "what? relay 1 up|"},
			{"relay\n", "what? relay|"},
			{"every 50\n", "what? every 50|"},
			{"AT\n", "what? AT|"},
			{"\n\n", ""},
			{"two", ""},
			{" halves\n", "what? two halves|"},
		} {
			if got := o.Say(c.say); got != c.want {
				t.Errorf("%q: %q, want %q", c.say, got, c.want)
			}
		}
		if got := o.Say("every 400\n"); strings.Count(got, "relays 0100 board 7|") != 2 {
			t.Errorf("every 400 ms: %q", got)
		}
		o.bench.Power("m", false)
		o.After(time.Second)
		o.bench.Power("m", true)
		if got := o.After(1500 * time.Millisecond); !strings.Contains(got, "relays 0000") || strings.Count(got, "|") != 1 {
			t.Errorf("after a power cycle: %q", got)
		}
	})
}

// Each way of wiring gives what it would give on the table.
func TestWiring(t *testing.T) {
	for name, c := range map[string]struct {
		answer func(string) bool
		about  string
	}{
		"crossed":  {func(s string) bool { return s == "redshank board 1|" }, "the answer"},
		"straight": {func(s string) bool { return s == "" }, "silence"},
		"open":     {func(s string) bool { return s == "" }, "silence"},
		"looped":   {func(s string) bool { return s == "who\n" }, "its own words"},
		"level":    {func(s string) bool { return s != "" && !strings.Contains(s, "board") || s == "" }, "noise or nothing"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				o := newOne(t, bench.Standin{Family: "redshank"})
				o.Say("every 0\n")
				if err := o.bench.Join("m", sim.Wirings[name]); err != nil {
					t.Fatal(err)
				}
				if got := o.Say("who\n"); !c.answer(got) {
					t.Errorf("%q, want %s", got, c.about)
				}
			})
		})
	}
}

// A wrong speed garbles both ways; a wrong frame garbles as parity does.
func TestWrongLine(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		even, err := uart.ParseFrame("7E1")
		if err != nil {
			t.Fatal(err)
		}
		o := newOne(t, bench.Standin{Family: "redshank", Line: uart.Line{Speed: 9600, Frame: even}})
		if got := o.Say("every 0\nwho\n"); !strings.Contains(got, "redshank board 1|") {
			t.Errorf("set right: %q", got)
		}
		o.Host.SetLine(uart.Line{Speed: 9600})
		if got := o.Say("who\n"); strings.Contains(got, "redshank") || len(got) < 10 {
			t.Errorf("8N1 against 7E1: %q", got)
		}
		o.Host.SetLine(uart.Line{Speed: 19200})
		if got := o.Say("who\n"); strings.Contains(got, "redshank") {
			t.Errorf("twice as fast: %q", got)
		}
		o.Host.SetLine(uart.Line{Speed: 9600, Frame: even})
		if got := o.Say("\nwho\n"); !strings.HasSuffix(got, "redshank board 1|") {
			t.Errorf("set right again: %q", got)
		}
	})
}

func TestNoSuchStandin(t *testing.T) {
	b, err := sim.New(sim.Config{Families: families.All, Modules: []bench.Standin{{Name: "m", Family: "redshank", Line: uart.DefaultLine}}})
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	_, attach := b.Attach("x", nil)
	for _, err := range []error{attach, b.Power("x", true), b.Join("x", sim.Open)} {
		if err == nil || !strings.Contains(err.Error(), `no stand-in "x"`) || !strings.Contains(err.Error(), "there are m") {
			t.Errorf("got %v", err)
		}
	}
	for _, m := range []bench.Standin{{Family: "gull"}, {Family: "redshank", Settings: map[string]string{"board": "100"}}, {Family: "curlew", Settings: map[string]string{"x": "1"}}} {
		if _, err := sim.New(sim.Config{Families: families.All, Modules: []bench.Standin{m}}); err == nil {
			t.Errorf("%+v was made", m)
		}
	}
}
