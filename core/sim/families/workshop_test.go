package families_test

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
)

// What each module of the workshop says and refuses, in the order given. A said
// text that begins with ! is an order: power, or what a hand does. Something that
// varies is written as ~ in what is wanted.
func TestWorkshop(t *testing.T) {
	book := simtest.Book(t, "dunlin.toml")
	console, err := phrasebook.Parse("c.toml", `family = "Post"
dialect = "console"
echo = true
[line]
prompt = "post>"
[refusal]
heard = ["what is {number:word}"]
unknown = "that"
range = "much"
[[notice]]
name = "tick"
heard = "tick {n:int}"
every = "700ms"
[[command]]
say = "load {length}"
follows = "go"
answer = ["loaded {length} bytes"]
[[setting]]
name = "mask"
type = "int"
range = [8, 30]
read = "mask"
answer = "mask {value:int}"
write = "mask {value}"
written = "mask {value:int} later"
effect = "restart"
default = "24"
[[command]]
say = "restart"
restart = true
`)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name   string
		module bench.Standin
		says   []string // said, wanted, said, wanted ...
	}{
		{"siskin", bench.Standin{Family: "siskin", Settings: map[string]string{"address": "021B66A20F31"}}, []string{
			"hello\r", "siskin 1.7|",
			"!power", "", "name\r", "no 9|", "name\r", "name m|", "name lift 4\r", "name lift 4|", "name " + strings.Repeat("x", 21) + "\r", "no 2|",
			"own\r", "own 02.1B.66.A2.0F.31|", "speed 76800\r", "speed 76800|", "speed 300\r", "no 2|", "seek\r", "peer 02.C0.DE.5E.ED.11 -~|peers 1|",
			"join 02.C0.DE.5E.ED.11\r", "no 2|", "join 02C0DE5EED11\r", "no 3|", "fly\r", "no 1|"}},
		{"twite", bench.Standin{Family: "twite", Settings: map[string]string{"network": "rope", "key": "k1"}}, []string{
			":who\r\n", "|:who twite 5.2|", ":net\r\n", "|:net none|", ":open 1,tcp,127.0.0.1,9\r\n", "|:no 4|", ":net \"rope\",\"k2\"\r\n", "|:no 5|", ":net rope\r\n", "|:no 2|",
			":net \"rope\",\"k1\"\r\n", "|:net 10.20.0.17|", ":open 1,tcp,192.0.2.1,80\r\n", "|:no 8|", ":open 9,tcp,127.0.0.1,80\r\n", "|:no 2|",
			":send 1,5\r\n", "|:no 6|", ":send 1,9999\r\n", "|:no 2|", ":shut 2\r\n", "|:no 6|", ":fly\r\n", "|:no 1|"}},
		{"bittern B1", bench.Standin{Family: "bittern"}, []string{
			"\r", "|bittern> ", "net\r", "net|address 10.20.0.9|mask 24|gateway 10.20.0.1|bittern> ", "net address 10.20.0.300\r", "net address 10.20.0.300|refused: no address: 10.20.0.300|bittern> ",
			"net mask 31\r", "net mask 31|refused: mask is 8 to 30|bittern> ", "net address 10.30.0.9\r", "net address 10.30.0.9|kept for the next start|bittern> ",
			"restart\r", "restart|refused: the gateway is outside the net|bittern> ", "fly\r", "fly|no such word: fly|bittern> "}},
		{"bittern B2", bench.Standin{Family: "bittern", Settings: map[string]string{"model": "B2", "code": "c0de"}}, []string{
			"\r", "|name: ", "ops\r", "ops|code: ", "wrong\r", "|not known here|name: ", "ops\r", "ops|code: ", "c0de\r", "|\x1b[32mwelcome\x1b[0m ops|\x1b[1mtower\x1b[0m:\x1b[34mB2\x1b[0m> ",
			"show none\r", "show none|no such file: none|~> ", "show door.log\r", "show door.log|05:55 cabinet opened|05:58 cabinet closed|~> ", "leave\r", "leave|bye|name: "}},
		{"plover", bench.Standin{Family: "plover", Line: uart.Line{Speed: 4800}}, []string{
			"I", "\xa8\x02\x01\x04", "X", "\xeeX", "!hand jumper on", "", "I", "\xa8\x02\x01\x04", "!power", "", "I", "wind ~ m/s ~ deg|wind ~ m/s ~ deg|"}},
		{"brambling", bench.Standin{Family: "brambling"}, []string{
			"who\r", "brambling 2.2 brake 3|", "test 3\r", "limits 6.5..4.5 bar|value 5.2 bar|test 3 good|", "test 4\r", "limits 100..800 ms|value 9~ ms|test 4 bad|",
			"test 9\r", "? test 9|", "test 2\r", "limits 35..50 mm|pull the lever|", "test 1\r", "busy with test 2|", "!hand lever", "value 4~ mm|test 2 good|",
			"test 5\r", "is the lamp lit? y or n|", "n\r", "test 5 bad|", "y\r", "? y|"}},
		{"fieldfare", bench.Standin{Family: "fieldfare", Line: uart.Line{Speed: 9600}, Settings: map[string]string{"address": "258", "channel": "7"}}, []string{
			"\x5a\x01\x00\x08\x63", "", "!hand mode setup", "", "\x5a\x01\x00\x08\x63", "\xa5\x01\x00\x08\x01\x02\x07\x03\x00\x0e\x00\x00\xc9",
			"\x5a\x01\x00\x08\x64", "\xa5\xee\x01", "\x5a\x01\x07\x02\x64", "\xa5\xee\x02", "\x5a\x02\x02\x01\x40\x9f", "\xa5\xee\x03",
			"xx\x5a\x02", "", "\x02\x01\x09\x68", "\xa5\x02\x02\x01\x09\xb3", "\x5a\x01\x02\x01\x5e", "\xa5\x01\x02\x01\x09\xb2"}},
		{"a phrasebook in dialect at", bench.Standin{Book: book}, []string{
			"AT\r", "|OK|", "AT~NODE?\r", "|~NODE: 1||OK|", "AT~NODE=77\r", "|OK|", "AT~NODE?\r", "|~NODE: 77||OK|", "AT~NODE=0\r", "|~REFUSED: 32|", "AT~FLY\r", "|~REFUSED: 31|",
			"AT~TELL=2,3,hi\r", "|~REFUSED: 32|", "AT~TELL=2,2,hi\r", "|OK|", "AT~TELL=2,5,a,b,c\r", "|OK|", "AT~RESTART\r", "|DUNLIN UP text|", "AT~NODE?\r", "|~NODE: 77||OK|"}},
		{"a phrasebook of a console", bench.Standin{Book: console}, []string{
			"\r", "|post> tick 1|", "mask\r", "mask|mask 24|post> tick 1|", "mask 9\r", "mask 9|mask 9 later|post> tick 1|tick 1|", "mask\r", "mask|mask 24|post> tick 1|",
			"mask 40\r", "mask 40|what is much|post> tick 1|tick 1|", "load 4\r", "load 4||go tick 1|", "abcd", "loaded 4 bytes|post> tick 1|", "fly\r", "~fly|what is that|post> ~", "restart\r", "~restart|", "mask\r", "mask|mask 9|post> tick 1|~"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				o := newOne(t, c.module)
				for i := 0; i < len(c.says); i += 2 {
					say, want := c.says[i], c.says[i+1]
					var got string
					switch order, is := strings.CutPrefix(say, "!"); {
					case order == "power" && is:
						if err := o.bench.Power("m", false); err != nil {
							t.Fatal(err)
						}
						time.Sleep(time.Second)
						if err := o.bench.Power("m", true); err != nil {
							t.Fatal(err)
						}
						continue
					case is:
						if err := o.bench.Hand("m", strings.Fields(order)[1:]); err != nil {
							t.Fatal(err)
						}
						got = o.After(time.Second)
					default:
						got = o.Say(say)
					}
					if !like(got, want) {
						t.Errorf("%q: %q, want %q", say, got, want)
					}
				}
			})
		})
	}
}

// like compares with ~ for anything.
func like(got, want string) bool {
	parts := strings.Split(want, "~")
	for i, p := range parts {
		at := strings.Index(got, p)
		if at < 0 || i == 0 && at > 0 {
			return false
		}
		got = got[at+len(p):]
	}
	return got == "" || parts[len(parts)-1] == ""
}

// Two Siskins carry plain data at the data speed, and only quiet on both sides
// of the word ends it.
func TestSiskinData(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		line := uart.Line{Speed: 19200}
		b := simtest.New(t, bench.Air{},
			bench.Standin{Name: "a", Family: "siskin", Line: line, Settings: map[string]string{"address": "021B66A20F31"}},
			bench.Standin{Name: "b", Family: "siskin", Line: line, Settings: map[string]string{"address": "021B66A20F48"}})
		sides := map[string]*simtest.Listener{"a": b.Listen("a"), "b": b.Listen("b")}
		a, z := sides["a"], sides["b"]
		if got := a.Say("join 021B66A20F48\r"); got != "joined 021B66A20F48|" {
			t.Fatal(got)
		}
		if got := z.After(0); got != "guest 021B66A20F31|" {
			t.Error(got)
		}
		for _, o := range sides {
			if err := o.Host.SetLine(uart.Line{Speed: 76800}); err != nil {
				t.Fatal(err)
			}
		}
		a.Say("hello\rleave!")
		if got := z.After(0); got != "hello\rleave!" {
			t.Errorf("plain data: %q", got)
		}
		if got := z.Say("up"); got != "" || a.After(0) != "up" {
			t.Errorf("the other way: %q", got)
		}
		a.Host.SetLine(uart.Line{Speed: 76800})
		if got := a.Say("leave!"); strings.Contains(got, "left") { // at 19200 by then, heard at 76800
			t.Errorf("left at the old speed: %q", got)
		}
		a.Host.SetLine(uart.Line{Speed: 19200})
		if got := a.Say("\rhello\r"); got != "siskin 1.7|" {
			t.Errorf("after leaving: %q", got)
		}
	})
}

// Fieldfares hear each other where address, channel and air rate agree; a
// sleeper only what has a long preamble; the buffer before the air is bounded.
func TestFieldfareData(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var modules []bench.Standin
		for _, n := range []string{"a", "b", "c", "d", "e"} {
			settings := map[string]string{"channel": "41"}
			switch n {
			case "c":
				settings["channel"] = "8"
			case "d":
				settings["listen"] = "5"
			case "e":
				settings["preamble"] = "6"
			}
			modules = append(modules, bench.Standin{Name: n, Family: "fieldfare", Line: uart.Line{Speed: 9600}, Settings: settings})
		}
		b := simtest.New(t, bench.Air{}, modules...)
		at := map[string]*simtest.Listener{}
		for _, m := range modules {
			at[m.Name] = b.Listen(m.Name)
		}
		hears := func(what, name, want string) {
			t.Helper()
			if got := at[name].After(0); got != want {
				t.Errorf("%s: %s heard %q, want %q", what, name, got, want)
			}
		}
		at["a"].Say("up")
		hears("data", "b", "up")
		hears("another channel", "c", "")
		at["a"].Say("asleep")
		hears("asleep", "d", "")
		at["e"].Say("wake up")
		at["e"].After(2 * time.Second)
		hears("woken", "d", "wake up")
		at["b"].After(0)
		at["a"].Say(strings.Repeat("x", 2000))
		at["a"].After(5 * time.Second)
		if n := len(at["b"].After(0)); n < 512 || n > 1990 || n%64 == 0 && n == 2000 {
			t.Errorf("of 2000 bytes at once %d arrived", n)
		}
		if err := b.Hand("a", []string{"mode", "fly"}); err == nil {
			t.Error("took a mode that there is not")
		}
	})
}
