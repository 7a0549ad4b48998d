package procedure

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/big"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
)

func TestExamplesAreClean(t *testing.T) {
	files, err := filepath.Glob("../../examples/*.parrot")
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		p, err := Read(f)
		if err != nil {
			t.Error(err)
		} else if len(p.Warnings) > 0 {
			t.Error(p.Warnings)
		}
	}
}

const full = `# a comment
procedure "Everything"
about "All that the language has."
port a: dialect at, speed 9600, frame 7E1, ending lf, flow rtscts
port b
input n: int 1..9 = 3 "a number"
input x: num ..2.5 = 1
input word
secret key "the key"
answers within 3s
keep going
let twice = n * 2

step "first" tries 3 every 500ms within 1m30s always
	say a: AT~NODE={n}, # not a comment
	say b: "  kept  "
	say bytes a: {hex 04 A4}{ctrl-z}
	hear a: {p:int}...{q} {=twice}
	hear next b within 1s:OK
	hear bytes a within 250ms: >
	not hear b for 2s: ...FAIL...
	not hear bytes a for 1s: x
	hear a: /(?P<r>\d+) volts/
	check q == word && r != key "they agree"
	limit p in -5..n*2 V "supply"
	limit x in 0.. %
	limit p in ..12
	limit p in (0..n - 3) µV
	limit p in (n)..(n + 20) °C
	let total = p + 1
	check total > 0
	pause 500ms
	quiet a 300ms within 10s
end
`

func TestParse(t *testing.T) {
	f, err := Parse("all.parrot", full)
	if err != nil {
		t.Fatal(err)
	}
	if len(f.Warnings) > 0 {
		t.Error(f.Warnings)
	}
	a := f.Ports[0]
	if a.Setup.Words() != "at, 9600 7E1, lf, rtscts" || f.Answers != 3*time.Second || !f.KeepGoing || len(f.Secrets) != 1 {
		t.Errorf("header: %+v %+v", f, a)
	}
	s := f.Steps[0]
	if s.Tries != 3 || s.Every != 500*time.Millisecond || s.Within != 90*time.Second || !s.Always || len(s.Body) != 19 {
		t.Errorf("step: %+v", s)
	}
	for i, want := range map[int]string{
		0: "AT~NODE={n}, # not a comment",
		1: "  kept  ",
		3: "{p:int}...{q} {=twice}",
		4: "OK",
	} {
		var got string
		switch n := s.Body[i].(type) {
		case *Say:
			got = n.Text.String()
		case *Hear:
			got = n.Pattern.String()
		}
		if got != want {
			t.Errorf("statement %d: %q, want %q", i, got, want)
		}
	}
	if h := s.Body[5].(*Hear); h.Form != pattern.AnyBytes || h.Within != 250*time.Millisecond {
		t.Errorf("%+v", h)
	}
	if h := s.Body[6].(*Hear); !h.Not || h.Port != "b" || h.Within != 2*time.Second {
		t.Errorf("%+v", h)
	}
	if l := s.Body[10].(*Limit); l.Unit != "V" || l.What != "supply" || l.Low.Source != "-5" || l.High.Source != "n*2" {
		t.Errorf("%+v", l)
	}
	if l := s.Body[11].(*Limit); l.High != nil || l.Unit != "%" || l.What != "x" {
		t.Errorf("%+v", l)
	}
	if at := s.Body[0].At(); at != (Pos{"all.parrot", 15, 2, 3}) {
		t.Errorf("place %+v", at)
	}
	// CRLF and a byte order mark change nothing.
	g, err := Parse("all.parrot", "\ufeff"+strings.ReplaceAll(full, "\n", "\r\n"))
	if err != nil || len(g.Steps[0].Body) != 19 || g.Steps[0].Body[4].(*Hear).Pattern.String() != "OK" {
		t.Errorf("with CRLF: %v", err)
	}
}

// Each mistake is told with line and column, in words that say how to mend it,
// and alone: one slip makes one finding.
// What a phrasebook's packets are made of is checked with its place there.
func TestCheckPackets(t *testing.T) {
	for made, want := range map[string]string{
		"sum8(before) + n":      "",
		"len(body)":             "",
		"s + 1":                 `p.toml:5:15: packet a, s: "s" has no value here`,
		"sum8(befor)":           `p.toml:5:15: packet a, s: "befor" has no value here`,
		"sum8(":                 "p.toml:5:15: packet a, s: the expression cannot be used",
		"body":                  "p.toml:5:15: packet a, s: body gives string, and the field is int",
		"crc16(before, 'v.43')": `p.toml:5:15: packet a, s: crc16 knows no standard "v.43"`,
		"crc16(before, 'v.41')": "",
	} {
		pb, err := phrasebook.Parse("p.toml", "family = \"F\"\n[[packet]]\nname = \"a\"\nbytes = \"{n:u8}{body:bytes(n)}{s:u16}\"\nmade = { s = \""+made+"\" }\n")
		if err != nil {
			t.Fatal(err)
		}
		if got := CheckPackets(pb); (len(got) > 0) != (want != "") || want != "" && !strings.Contains(got[0].Error(), want) {
			t.Errorf("%s: %v, want %q", made, got, want)
		}
	}
}

func TestMistakes(t *testing.T) {
	const head = "procedure \"T\"\nport a\nport b\ninput n: int\n"
	body := func(s string) string { return head + "step \"s\"\n" + s + "\n say a: {n}\n say b: x\nend\n" }
	wind := func(s string) string {
		return "procedure \"T\"\nport a: phrasebook \"../../examples/plover.toml\"\ninput n: int\nstep \"s\"\n" + s + "\n check n > 0\nend\n"
	}
	for _, c := range []struct{ text, want string }{
		{"", "1:1: the procedure has no title|the procedure has no steps"},
		{"procedure \"T\"\n", "t: the procedure has no steps"},
		{"procedre \"T\"\n", `1:1: unknown word "procedre"|Did you mean "procedure"?`},
		{"procedure T\n", "1:11: wanted the title in double quotes"},
		{"procedure \"T\" x\n", `1:15: "x" is too much here`},
		{"procedure \"T\"\nprocedure \"U\"\n", "2:1: procedure stands twice"},
		{"say a: AT\n", "1:1: say cannot stand outside a step"},
		{"port 1\n", "1:6: wanted a name for the port"},
		{"port within\n", "1:6: within is a word of the language"},
		{"port a\nport a\n", "2:6: a is the name of a port already"},
		{"port a dialect at\n", "1:8: wanted a colon"},
		{"port a: dialect att\n", `1:17: there is no dialect "att"|Did you mean "at"?`},
		{"port a: speed 0\n", `1:15: "0" is no speed`},
		{"port a: frame 9N1\n", `1:15: invalid frame "9N1"`},
		{"port a: ending crfl\n", `1:16: there is no line ending "crfl"|Did you mean "crlf"?`},
		{"port a: flow rts\n", `1:14: there is no flow control "rts"`},
		{"port a: phrasebook \"none.toml\"\n", "1:20: the phrasebook cannot be read"},
		{"input n: itn\n", `1:10: there is no type "itn"|Did you mean "int"?`},
		{"input n: int 9..1\n", "1:14: the range 9..1 is the wrong way round|Write 1..9."},
		{"input n: int 1..x\n", `1:14: "x" is no number`},
		{"input n: int 1..9 = 12\n", "1:21: the default does not fit"},
		{"answers in 2s\n", "1:9: wanted within"},
		{"answers within 2\n", "1:16: the time 2 has no unit|500ms"},
		{"keep on\n", "1:6: wanted going"},
		{"let x\n", "1:6: wanted ="},
		{"let x = y\n", `1:9: "y" has no value here`},
		{"let x = 1 +\n", "1:11: the expression cannot be used"},
		{head + "step \"s\" tries 0\n say a: {n}\nend\n", `5:16: "0" is no number of tries`},
		{head + "step \"s\" every 1s\n say a: {n}\nend\n", "5:10: every says how often"},
		{head + "step \"s\" withn 1s\n say a: {n}\nend\n", `5:10: unknown word "withn"|Did you mean "within"?`},
		{head + "step \"s\"\nend\n", `5:1: the step "s" does nothing`},
		{head + "step \"s\"\n say a: {n}\n", `5:1: the step "s" has no end`},
		{head + "step \"s\"\n say a: {n}\nend\nend\n", "8:1: there is no open block for this end"},
		{head + "step \"s\"\n say a: {n}\nend\nstep \"s\"\n say a: x\nend\n", `8:6: the step "s", line 5, has the same title`},
		{body(" hear packet a: x"), `6:17: no phrasebook of a tells of packets|[[packet]]`},
		{wind(" hear packet a: wnd"), `5:17: ../../examples/plover.toml has no packet "wnd"|Did you mean "wind"?`},
		{wind(" hear packet a: wind(sped = 1)"), `5:22: the packet wind has no field "sped"|Did you mean "speed"?`},
		{wind(" hear packet a: wind(speed)"), "5:22: wanted the name of a field and its value"},
		{wind(" hear packet a: wind(speed = \"1\")"), "5:22: speed is int, and this is string"},
		{wind(" hear packet a: wind(sum = 1)"), "5:22: sum is made of other fields: sum8(before)|Leave it out."},
		{wind(" hear packet a: wind(speed = 1, speed = 2)"), "5:33: speed is given twice"},
		{wind(" hear packet a: wind x"), `5:22: "x" is too much here`},
		{wind(" say packet a: wind(from = 1)"), "5:2: the packet wind needs speed|wind(speed = ...)"},
		{wind(" hear packet a: n"), `5:17: ../../examples/plover.toml has no packet "n"`},
		{wind(" let speed = 3\n hear packet a: wind"), "6:2: the packet has a field speed, which is the name of a value"},
		{body(" check crc16(\"x\", \"v.43\") == 1"), `6:8: crc16 knows no standard "v.43"|Did you mean "v.4`},
		{body(" note"), "6:2: note needs an expression"},
		{body(" note x"), `6:7: "x" has no value here`},
		{body(" note n in V \"supply\" x"), "6:14: the expression cannot be used"},
		{body(" check since(n + 1) > 0"), "6:8: since takes the name of a value"},
		{body(" check since(nobody) > 0"), `6:14: "nobody" has no value here`},
		{body(" not hear a for 1s took t: x"), "6:"},
		{body(" hear a took n: x"), "6:14: n is the name of an input already"},
		{body(" rows a until: end\n check n > 0\n row: x\nend"), "7:2: check cannot stand before the row"},
		{body(" rows a until: end\nend"), "6:2: the rows does nothing"},
		{body(" rows a until: end\n row: x {v:int}\n say a: x\nend"), "8:2: say cannot stand in rows"},
		{body(" rows a until: end\n row: x {v:int}\n row: y\n check v > 0\nend"), "8:2: row stands outside its place"},
		{body(" row: x"), "6:2: row stands outside its place"},
		{body(" rows a: end\n row: x {v:int}\n check v > 0\nend"), "6:8: wanted until"},
		{body(" rows a until: end\n row: x {v:int}\n check v > 0\nend\n check v > 0"), `10:8: "v" has no value here`},
		{body(" repeat\n say a: x\nend"), "6:2: wanted how often, or for how long"},
		{body(" repeat every 1s\n say a: x\nend"), "6:2: wanted how often, or for how long"},
		{body(" repeat for 0s\n say a: x\nend"), "6:13: "},
		{body(" repeat for \"x\"\n say a: x\nend"), "6:13: this is no time"},
		{body(" repeat 2 times every soon\n say a: x\nend"), `6:23: "soon" has no value here`},
		{body(" hear a within 5 took t: x {v:int}\n check v > t"), "6:16: the time 5 has no unit"},
		{body(" identity"), "6:2: identity needs an expression"},
		{body(" sya a: AT"), `6:2: unknown word "sya"|Did you mean "say"?`},
		{body(" say a AT"), "6:6: wanted a colon"},
		{body(" say: AT"), "6:5: there are several ports: say which"},
		{body(" say c: AT"), `6:6: there is no port "c"`},
		{body(" say a: {m}"), `6:10: "m" has no value here`},
		{body(" say a: {n"), "6:9: the brace is not closed"},
		{body(" say a: AT\u00a0X"), "6:11: this is a non-breaking blank"},
		{body(" check \u201cx\u201d == n"), "6:8: this is a typographic quote"},
		{body(" say a: \x07"), "6:9: a control byte 0x07"},
		{body(" say a: \xff"), "6:1: the line is not UTF-8"},
		{body(" hear a:"), "6:8: there is nothing to hear"},
		{body(" hear a within 5: OK"), "6:16: the time 5 has no unit"},
		{body(" hear a: {x:itn}"), `6:10: there is no type "itn"`},
		{body(" hear a: {n:int}"), "6:11: n is the name of an input|{=n}"},
		{body(" not hear a: x"), "6:12: wanted for and a time"},
		{body(" not hear a for 1s: {x}"), "6:22: what must not come cannot be captured"},
		{body(" check"), "6:2: check needs an expression"},
		{body(" check n"), "6:8: the expression cannot be used: this is a number"},
		{body(" check n == \"x\""), "6:10: the expression cannot be used"},
		{body(" check a == 1"), "6:8: a is a port, not a value"},
		{body(" limit n 1..2"), "6:2: limit needs a range"},
		{body(" limit n in 5"), `6:13: "5" is no range`},
		{body(" limit n in 0..n - 3 V \"nine must fail\""), `6:18: "- 3 V" is no unit|parentheses`},
		{body(" limit n in 0..10 if it rains \"q\""), `6:19: "if it rains" is no unit`},
		{body(" limit n in 0.. 10 V"), `6:17: "10 V" is no unit`},
		{body(" limit n in 0..10 V \"q"), `is no unit`},
		{body(" limit n in 9..2"), "6:13: the limits 9..2 are the wrong way round|Write 2..9."},
		{body(" pause 5"), "6:8: the time 5 has no unit"},
		{body(" quiet a"), "6:9: wanted a time"},
		{body(" step \"t\""), "6:2: step cannot stand in a step|close it with end"},
		{body(" any\n  say a: x\n end"), "7:3: say cannot stand before the first case"},
		{body(" any\n  case here a: x\n end"), "7:8: wanted hear or nothing after case"},
		{body(" any\n  case hear a within 2s: x\n end"), "7:3: a case cannot have a time of its own"},
		{body(" case hear a: x"), "6:2: case stands outside an any"},
		{body(" all\n  check n == 1\n end"), "7:3: check cannot stand in an all"},
		{body(" all\n  hear next a: x\n end"), "7:3: next cannot stand in an all"},
		{body(" else"), "6:2: else stands outside an if"},
		{body(" if n == 1\n  say a: x\n else\n  say a: y\n else\n  say a: z\n end"), "10:2: this if has its else already"},
		{body(" if n\n  say a: x\n end"), "6:5: the expression cannot be used: this is a number"},
		{body(" if\n  say a: x\n end"), "6:2: there is no condition"},
		{body(" if n == 1\n end"), "6:2: the if does nothing"},
		{body(" if n == 1\n  hear a: {x}\n end\n check x == \"\""), `9:8: "x" has no value here`},
		{body(" if n == 1\n  hear a: {x}\n else\n  hear a: {y}\n end\n check x == \"\""), `11:8: "x" has no value here`},
		{body(" any\n  case hear a: {x}\n  case hear a: b\n end\n check x == \"\""), `10:8: "x" has no value here`},
		{body(" repeat n times\n  hear a: {x}\n end\n check x == \"\""), `9:8: "x" has no value here`},
		{body(" repeat 0 times\n  say a: x\n end"), "6:9: 0 is no number of times"},
		{body(" repeat 3\n  say a: x\n end"), "6:2: wanted how often"},
		{body(" for n in 1..3\n  say a: x\n end"), "6:6: n is the name of an input already"},
		{body(" for k of 1..3\n  say a: x\n end"), "6:8: wanted in and a list"},
		{body(" for k in 1..3\n  say a: {k}\n end\n say a: {k}"), `9:10: "k" has no value here`},
		{body(" do thing()"), `6:5: there is no routine "thing" above|routine thing and end`},
		{head + "routine r(x)\n say a: {x}\n do r(x)\nend\nstep \"s\"\n do r(n)\nend\n", "7:5: a routine cannot do itself"},
		{head + "routine r(x)\n say a: {x}\nend\nstep \"s\"\n do r()\n say a: {n}\nend\n", "9:5: r takes 1 values, not 0|do r(x)"},
		{head + "routine r(x)\n say x: hi\nend\nstep \"s\"\n do r(n)\n say a: {n}\nend\n", `9:7: x of r is a port, and "n" is none`},
		{head + "include \"none.parrot\"\n", "5:9: the file cannot be read"},
		{body(" collect x from a"), "6:18: wanted until"},
		{body(" collect x from a until"), "6:24: wanted prompt, quiet and a time, or a colon"},
		{body(" collect x from a until: END {y}"), "6:31: a collect captures nothing"},
		{body(" keep y as \"y.log\""), `6:7: "y" has no value here`},
		{body(" tell \"hands\""), "6:7: wanted operator"},
		{body(" ask operator \"how many?\" as n"), "6:30: n is the name of an input already"},
		{body(" ask operator \"how many?\" as k: int 9..1"), "6:37: the range 9..1 is the wrong way round"},
		{body(" line a"), "6:2: line says not what to change"},
		{body(" line a sped 9600"), `6:9: line cannot change "sped"|Did you mean "speed"?`},
		{body(" line a speed x"), `6:15: "x" is no speed`},
		{body(" line a dtr up"), `6:13: "up" is no state`},
		{body(" line a frame 9N1"), `6:15: invalid frame "9N1"`},
		{body(" reach \"host\" udp 5"), "6:15: wanted tcp and a port number, or ping"},
		{body(" reach \"host\" tcp 70000"), `6:19: "70000" is no port number`},
		{body(" fail"), "6:6: wanted why in double quotes"},
		{body(" link a a count 5 every 1s"), "6:2: both ends are a"},
		{body(" link a b every 1s"), "6:2: a link needs count and every"},
		{body(" link a b count 5 every 1s loss <= 2"), `6:36: "2" is not a percentage`},
		{body(" limit upper(\"x\") in 1..2"), "6:8: a limit holds a number"},
		{"port a: dialect console, prompt \"{x\"\n", "1:33: the brace is not closed"},
	} {
		_, err := Parse("t", c.text)
		if err == nil {
			t.Errorf("%q was taken", c.text)
			continue
		}
		for _, want := range strings.Split(c.want, "|") {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("%q: missing %q in\n%v", c.text, want, err)
			}
		}
		if n := strings.Count(err.Error(), "\nt:"); n > 0 && c.text != "" && !strings.Contains(c.text, "\u201c") && !strings.HasPrefix(c.text, head+"step \"s\"\n say a: {n}\nend\nend") && !strings.Contains(c.text, "step \"t\"") {
			t.Errorf("%q: %d findings too many:\n%v", c.text, n, err)
		}
	}
}

func TestWarnings(t *testing.T) {
	f, err := Parse("t", "procedure \"T\"\nport a\nport b\nstep \"s\"\n say a: AT\n hear a: {x}\nend\n")
	if err != nil || len(f.Warnings) != 2 || !strings.Contains(f.Warnings.Error(), "3:6: no step uses the port b") || !strings.Contains(f.Warnings.Error(), "6:11: nothing reads x") {
		t.Errorf("%v\n%v", err, f.Warnings)
	}
}

// What is said is held against the phrasebook, as far as it is known before a
// port is opened.
func TestPhrasebookFindings(t *testing.T) {
	dir := t.TempDir()
	book := `family = "Dunlin"
dialect = "at"
complete = %t
[refusal]
heard = ["~REFUSED: {number:int}"]
[[command]]
say = "AT"
[[command]]
say = "AT~OPEN={length}"
follows = ">"
[[setting]]
name = "group"
type = "int"
range = [0, 255]
read = "AT~GROUP?"
answer = "~GROUP: {value:int}"
write = "AT~GROUP={value}"
[carrier]
send = "AT~TELL={to},{length},{payload}"
arrives = "~HEARD: {payload}"
greatest = 50
address = "group"
`
	for _, complete := range []bool{true, false} {
		if err := os.WriteFile(fmt.Sprintf("%s/%t.toml", dir, complete), []byte(fmt.Sprintf(book, complete)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct{ book, input, body, want string }{
		{"true", "", "say: AT\nsay: AT~GROUP?\nsay: AT~GROUP=7\nsay: AT~TELL=2,5,hello", ""},
		{"true", "", "say: AT~GRUOP?", "6:6: |knows no such command|AT~GROUP?"},
		{"true", "", "say: AT~GRUOP={n}", "6:6: |knows no such command"},
		{"true", "", "say: {\"AT\" + \"~GROUP?\"}\nsay: {string(n)}", ""},
		{"false", "", "say: AT~GRUOP?", "warning |6:6: |knows no such command"},
		{"false", "", "say: AT~UNLIKE=1,2,3", ""},
		{"true", "", "say: AT~GROUP=256", "6:6: |group takes a number from 0 to 255, not 256"},
		{"true", "", "say: AT~GROUP={2 * 200}", "not 400"},
		{"true", "", "say: AT~GROUP=256\nhear: ~REFUSED: {}", ""},
		{"true", "", "say: AT~GROUP=256\nany\ncase hear: ~REFUSED: 3\ncase nothing\nend", ""},
		{"true", "", "say: AT~NONE\nhear: ERROR", ""},
		{"true", "", "say: AT~NONE\nhear: OK", "knows no such command"},
		{"true", " 0..300", "say: AT~GROUP={n}", "warning |3:7: |n may be 0..300, but group takes 0 to 255"},
		{"true", " 0..200", "say: AT~GROUP={n}", ""},
		{"true", "", "say: AT~GROUP={n}", "warning |n may be any number, but group takes 0 to 255"},
		{"true", "", "say: AT~TELL=2,6,hello", "the stated length is 6, but the payload has 5 bytes"},
		{"true", "", "say: AT~TELL=2,{len(word)},{word}", ""},
		{"true", "", "say: AT~TELL=2,4,{word}", "the stated length is 4, but the payload has 5 bytes"},
		{"true", "", "let text = string(n)\nsay: AT~TELL=2,{len(text)},{text}!", "the stated length is that of text alone"},
		{"true", "", "say: AT~OPEN=5\nhear bytes: >\nsay bytes: hello", ""},
		{"true", "", "say: AT~OPEN=5\nhear bytes: >\nsay: hello", "the stated length is 5, but the payload has 6 bytes"},
		{"true", "", "repeat 2 times\nsay: AT~GROUP=300\nend", "7:6: |not 300"},
	} {
		text := "procedure \"T\"\nport a: dialect at, ending cr, phrasebook \"" + c.book + ".toml\"\ninput n: " + strings.TrimSpace("int"+c.input) + "\nlet word = \"hêlo\"\nstep \"s\"\n" + c.body + "\ncheck string(n) != word\nend\n"
		f, err := Parse(dir+"/t.parrot", text)
		got := ""
		if err != nil {
			got = err.Error()
		} else if len(f.Warnings) > 0 {
			got = "warning " + f.Warnings.Error()
		}
		if c.want == "" && got != "" {
			t.Errorf("%s: %s", c.body, got)
		}
		if strings.HasPrefix(got, "warning ") != strings.HasPrefix(c.want, "warning ") {
			t.Errorf("%s: got %q, want %q", c.body, got, c.want)
		}
		for _, w := range strings.Split(c.want, "|") {
			if !strings.Contains(got, strings.TrimPrefix(w, "warning ")) {
				t.Errorf("%s: got %q, want %q", c.body, got, w)
			}
		}
	}
}

func TestLargeProcedure(t *testing.T) {
	if _, err := Parse("t", large(2000)); err != nil {
		t.Fatal(err)
	}
}

func large(steps int) string {
	var b strings.Builder
	b.WriteString("procedure \"Large\"\nport a: dialect at\n")
	for i := range steps {
		fmt.Fprintf(&b, "step \"step %d\"\n    say a: AT~NODE?\n    hear a: ~NODE: {now:int}\n    check now > 0\nend\n", i)
	}
	return b.String()
}

func BenchmarkParse(b *testing.B) {
	text := large(10_000)
	for b.Loop() {
		if _, err := Parse("t", text); err != nil {
			b.Fatal(err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(full)
	f.Add(untidy)
	paths, err := filepath.Glob("../../examples/*.parrot")
	if err != nil {
		f.Fatal(err)
	}
	for _, path := range paths {
		text, err := os.ReadFile(path)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(noBooks.ReplaceAllString(string(text), ""))
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "phrasebook") || strings.Contains(text, "include") {
			return // reads files
		}
		file, err := Parse("fuzz", text)
		if err == nil && len(file.Routines) == 0 && (file.Title == "" || len(file.Steps) == 0) {
			t.Errorf("taken without title or steps: %q", text)
		}
		if err != nil && err.Error() == "" {
			t.Errorf("refused without a word: %q", text)
		}
	})
}

// noBooks takes the phrasebooks out of a header.
var noBooks = regexp.MustCompile(`,? ?phrasebook "[^"]*"`)

// FuzzScan: whatever a line holds, its scanner ends, stays within the line and
// knows where it is.
func FuzzScan(f *testing.F) {
	for _, line := range strings.Split(full, "\n") {
		f.Add(line)
	}
	f.Add(`limit min(a, "b)") in (1 ..2 "\"`)
	f.Fuzz(func(t *testing.T, text string) {
		if strings.ContainsAny(text, "\r\n") {
			return
		}
		take := []func(l *line){
			func(l *line) { l.word() }, func(l *line) { l.quoted() }, func(l *line) { l.token() }, func(l *line) { l.nested() },
			func(l *line) { l.until(", ") }, func(l *line) { l.take("=") }, func(l *line) { l.here() }, func(l *line) { l.rest() },
		}
		for i := range take {
			l := &line{number: 1, text: text}
			for n := i; ; n++ {
				before := l.at
				take[n%len(take)](l)
				if l.at < before || l.at > len(text) {
					t.Fatalf("%q: from %d to %d", text, before, l.at)
				}
				if p := l.pos(l.at, 3); p.Column < 1 || p.Column > len(text)+1 || p.Width < 1 {
					t.Fatalf("%q at %d: %+v", text, l.at, p)
				}
				if l.done() {
					break
				}
			}
			// The pieces outside and inside quotes make the whole.
			if single(text); len(single(text)) > len(text) {
				t.Fatalf("%q grew", text)
			}
		}
	})
}

// Twenty files may include each other, and not one more.
func TestIncludeChain(t *testing.T) {
	for _, n := range []int{11, maxIncludes, maxIncludes + 1} {
		dir := t.TempDir()
		for i := n; i >= 1; i-- {
			text := "routine r" + strconv.Itoa(i) + "()\n    pause 1ms\nend\n"
			if i == 1 {
				text = "procedure \"P\"\nstep \"s\"\n    pause 1ms\nend\n"
			}
			if i < n {
				text += "include \"" + strconv.Itoa(i+1) + ".parrot\"\n"
			}
			if err := os.WriteFile(filepath.Join(dir, strconv.Itoa(i)+".parrot"), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		_, err := Read(filepath.Join(dir, "1.parrot"))
		if n <= maxIncludes && err != nil || n > maxIncludes && (err == nil || !strings.Contains(err.Error(), "more than 20 files")) {
			t.Errorf("%d files: %v", n, err)
		}
	}
}

// Whatever an expression is, it is refused or has a value, in bounded time and memory.
func FuzzExpression(f *testing.F) {
	for _, s := range []string{"n + 1", "5 / (n - 3)", "replace(s, \"a\", s)", "join(split(s, \"\"), s)", "repeat(s, n)", "json(s).x[2]", "xpath(s, \"//a\")", "s matches \"(a+)+$\"", "map(1..n, # * 2)", "byte(s, n)", "1e308 * 10", "len(s) > n ? s : n", "[1, s][n]"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		file, err := Parse("f.parrot", "procedure \"F\"\ninput n: int = 3\ninput s = \"aaaa\"\nlet x = "+strings.ReplaceAll(source, "\n", " ")+"\nstep \"a\"\n check x == x\nend\n")
		if err != nil || len(file.Lets) == 0 {
			return
		}
		v, err := file.Lets[0].Expr.Run(t.Context(), map[string]any{"n": 3, "s": "aaaa"})
		if text, ok := v.(string); ok && err == nil && len(text) > MaxText {
			t.Errorf("%d bytes", len(text))
		}
	})
}

// An expression of many steps ends at its bound, or when it is told to; the steps are
// counted without changing what it comes to, or its type.
func TestStepsOfExpressions(t *testing.T) {
	value := func(ctx context.Context, source string) (any, error) {
		t.Helper()
		file, err := Parse("f.parrot", "procedure \"F\"\ninput n: int = 3\ninput s = \"aaaa\"\nlet x = "+source+"\nstep \"a\"\n check x == x\nend\n")
		if err != nil || len(file.Lets) == 0 {
			t.Fatalf("%s: %v", source, err)
		}
		return file.Lets[0].Expr.Run(ctx, map[string]any{"n": 3, "s": strings.Repeat("a", 100_000)})
	}
	for source, want := range map[string]any{
		"count(1..n, # > 1)":                          2,
		"sum(map(1..n, # * 2))":                       12,
		"all(1..n, # > 0) and none(1..n, {# > 3})":    true,
		"reduce(1..n, #acc + #, 0)":                   6,
		"find(1..n, # > 1) + 1":                       3,
		"join(map([\"a\", \"b\"], upper(#)))":         "AB",
		"map(1..2, map(1..#, #))[1][1]":               2,
		"len(groupBy(1..n, # % 2))":                   2,
		"sortBy([\"b\", \"a\"], #)[0]":                "a",
		"let y = n; filter(1..5, # > y)[0]":           4,
		"len(s) > 5 ? map([1.5], #)[0] : 0.5":         1.5,
		"count(1..500, {count(1..500, {# > 0}) > 3})": 500,
	} {
		if got, err := value(t.Context(), source); err != nil || got != want {
			t.Errorf("%s is %v (%T), %v, want %v", source, got, got, err, want)
		}
	}
	const endless = "count(split(s, \"\"), {count(split(s, \"\"), {# == \"b\"}) > 7})"
	if _, err := value(t.Context(), endless); err == nil || !strings.Contains(err.Error(), "more than 2 million steps") {
		t.Errorf("endless steps: %v", err)
	}
	why := errors.New("told to stop")
	ctx, cancel := context.WithCancelCause(t.Context())
	time.AfterFunc(20*time.Millisecond, func() { cancel(why) })
	// Each step takes long, so that the bound of steps is far away.
	if _, err := value(ctx, "count(1..900000, {len(replace(s, \"a\", \"bb\")) + # > 0})"); !errors.Is(err, why) {
		t.Errorf("a long expression: %v", err)
	}
}

// Whole numbers are reckoned with to their bounds and refused beyond them: no sum, difference or
// product is ever a false one.
func TestBoundsOfWholeNumbers(t *testing.T) {
	for source, want := range map[string]any{"int(1.9)": 1, "int(-1.9)": -1, "int(\" 7\")": 7, "int(1e30)": nil, "int(-1e30)": nil, "int(9223372036854775807.0)": nil, "int(\"9223372036854775808\")": nil, "int(\"x\")": nil, "int(1e300 * 1e300)": nil, "int(0.0 / 0.0)": nil, "sum([9223372036854775807, 1])": nil, "sum([1, 2.5])": 3.5, "sum(1..3, # * 9000000000000000000)": nil, "reduce([1, 9223372036854775807], #acc + #, 0)": nil, "[9223372036854775807][0] * 2": nil, "\"a\" + \"b\"": "ab", "1 + 0.5": 1.5} {
		if strconv.IntSize < 64 {
			break // such numbers cannot be written there
		}
		file, err := Parse("f.parrot", "procedure \"F\"\nlet x = "+source+"\nstep \"a\"\n check x == x\nend\n")
		if err != nil || len(file.Lets) == 0 {
			t.Fatal(source, err)
		}
		if got, err := file.Lets[0].Expr.Run(t.Context(), map[string]any{}); got != want || (err == nil) != (want != nil) {
			t.Errorf("%s is %v, %v; want %v", source, got, err, want)
		}
	}
	edges := []int{0, 1, -1, 2, -2, 3, 1 << 15, 1<<31 - 1, -1 << 31, math.MaxInt, math.MinInt, math.MaxInt - 1, math.MinInt + 1, math.MaxInt / 2, math.MinInt / 2}
	for sign, exact := range map[string]func(z, a, b *big.Int) *big.Int{"+": (*big.Int).Add, "-": (*big.Int).Sub, "*": (*big.Int).Mul} {
		file, err := Parse("f.parrot", "procedure \"F\"\ninput a: int = 3\ninput b: int = 3\nlet x = a "+sign+" b\nstep \"a\"\n check x == x\nend\n")
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range edges {
			for _, b := range edges {
				want := exact(new(big.Int), big.NewInt(int64(a)), big.NewInt(int64(b)))
				got, err := file.Lets[0].Expr.Run(t.Context(), map[string]any{"a": a, "b": b})
				fits := want.IsInt64() && want.Int64() >= math.MinInt && want.Int64() <= math.MaxInt
				if fits && (err != nil || fmt.Sprint(got) != want.String()) || !fits && (err == nil || !strings.Contains(err.Error(), "too great for a whole number")) {
					t.Errorf("%d %s %d is %v, %v; want %v", a, sign, b, got, err, want)
				}
			}
		}
	}
}
