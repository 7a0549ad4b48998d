package phrasebook

import (
	"strings"
	"testing"

	"uparrot/core/uart"
)

const good = `family = "Dunlin"
dialect = "at"
[line]
speed = 9600
frame = "7E1"
ending = "cr"
[banner]
heard = "DUNLIN UP ..."
within = "2s"
[refusal]
heard = ["~REFUSED: {number:int}", "NOT NOW"]
[refusal.meaning]
32 = "out of range"
[[notice]]
name = "message"
heard = "~HEARD: {from:int},{payload}"
[[setting]]
name = "address"
type = "int"
range = [1, 65534]
read = "AT~NODE?"
answer = "~NODE: {value:int}"
write = "AT~NODE={value}"
[[setting]]
name = "gain"
type = "num"
range = [-1.5, 1.5]
[[setting]]
name = "name"
range = [0, 16]
[carrier]
send = "AT~TELL={to},{length},{payload}"
arrives = "~HEARD: {from:int},{payload}"
address = "address"
greatest = 96
allowed = "A-Za-z0-9_-"
`

func TestGood(t *testing.T) {
	pb, err := Parse("p", good)
	if err != nil {
		t.Fatal(err)
	}
	if got := pb.Setup().Words(); got != "at, 9600 7E1, cr" {
		t.Error(got)
	}
	for line, want := range map[string]string{"~REFUSED: 32": "out of range", "~REFUSED: 99": "", "NOT NOW": "", "OK": ""} {
		if got := pb.Explain(line); got != want {
			t.Errorf("%s means %q, want %q", line, got, want)
		}
	}
	if got := (*Phrasebook)(nil).Explain("ERROR"); got != "" {
		t.Error(got)
	}
	for c := range 256 {
		want := c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '_' || c == '-'
		if pb.Carrier.Allowed.Has(byte(c)) != want {
			t.Errorf("byte %#x: %v", c, !want)
		}
	}
	var text, any ByteSet
	if err := any.UnmarshalText([]byte("any")); err != nil || !text.Has(' ') || text.Has('\n') || text.Has(0x80) || !any.Has(0) || !any.Has(0xff) {
		t.Error("text or any allow the wrong bytes")
	}
	if setup := pb.Setup(); setup.Dialect != AT || setup.Ending != CR || len(pb.Refusals()) != 2 || pb.Banner == nil {
		t.Errorf("%+v", setup)
	}
}

func TestSettingCheck(t *testing.T) {
	pb, err := Parse("p", good)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, value, want string }{
		{"address", "1", ""}, {"address", "65534", ""}, {"address", "0", "from 1 to 65534, not 0"}, {"address", "x", "whole number"}, {"address", "1.5", "whole number"},
		{"gain", "-1.5", ""}, {"gain", "1.6", "from -1.5 to 1.5"}, {"gain", "loud", "takes a number"},
		{"name", "tower 1", ""}, {"name", "the name of a tower", "number of characters"},
	} {
		s, ok := pb.Setting(c.name)
		if !ok {
			t.Fatal(c.name)
		}
		err := s.Check(c.value)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s = %s: %v, want %q", c.name, c.value, err, c.want)
		}
	}
	if _, ok := pb.Setting("adress"); ok {
		t.Error("found a setting that is not there")
	}
}

func TestSetupOr(t *testing.T) {
	frame := uart.Frame{DataBits: 7, Parity: uart.Even}
	full := Setup{Dialect: AT, Speed: 9600, Frame: &frame, Ending: LF}
	for _, c := range []struct {
		s    Setup
		want string
	}{
		{Setup{}, "at, 9600 7E1, lf"},
		{Setup{Speed: 300}, "at, 300 7E1, lf"},
		{Setup{Dialect: Lines, Ending: NoEnding}, "lines, 9600 7E1, none"},
	} {
		if got := c.s.Or(full).Words(); got != c.want {
			t.Errorf("%+v: %s, want %s", c.s, got, c.want)
		}
	}
	if got := (Setup{}).Words(); got != "lines, 115200 8N1, crlf" {
		t.Error(got)
	}
	if EndingNotSaid.Bytes() != "\r\n" || NoEnding.Bytes() != "" {
		t.Errorf("%q %q", EndingNotSaid.Bytes(), NoEnding.Bytes())
	}
}

// Each mistake is told with its line.
func TestMistakes(t *testing.T) {
	change := func(old, new string) string {
		if !strings.Contains(good, old) {
			t.Fatalf("%q is not in the phrasebook", old)
		}
		return strings.Replace(good, old, new, 1)
	}
	for _, c := range []struct{ text, want string }{
		{change(`family = "Dunlin"`, ""), "does not name its family"},
		{good + "\n[[packet]]\nname = \"a b\"\nbytes = \"x\"\n", `"a b" cannot be the name of a packet`},
		{good + "\n[[packet]]\nname = \"a\"\nbytes = \"x\"\n[[packet]]\nname = \"a\"\nbytes = \"y\"\n", `there are two packets named "a"`},
		{good + "\n[[packet]]\nname = \"a\"\nbytes = \"{n:int} \"\n", "nothing tells where an open place of this packet ends"},
		{good + "\n[[packet]]\nname = \"a\"\nbytes = \"{before:u8}\"\n", "before is the bytes before a field"},
		{good + "\n[[packet]]\nname = \"a\"\nbytes = \"{sum:u8}\"\nmade = { smu = \"1\" }\n", `the packet has no field "smu"|Did you mean "sum"?`},
		{good + "\n[[packet]]\nname = \"a\"\nbytes = \"{sum:u8}\"\nmade = { sum = \" \" }\n", "there is no expression"},
		{change(`dialect = "at"`, `dialect = "att"`), `p:2:11: there is no dialect "att"|Did you mean "at"?`},
		{change("speed = 9600", "speed = -1"), "p:4:1: speed -1 is outside"},
		{change("speed = 9600", "sped = 9600"), `p:4:1: unknown key "sped"`},
		{change(`"7E1"`, `"7X1"`), `invalid frame "7X1"`},
		{change(`ending = "cr"`, `ending = "rc"`), `p:6:10: there is no line ending "rc"`},
		{change(`"DUNLIN UP ..."`, `"DUNLIN {UP"`), "p:8:17: the brace is not closed"},
		{change(`"DUNLIN UP ..."`, `"DUNLIN {=up}"`), "p:8:19: a phrasebook has no values"},
		{change(`within = "2s"`, `within = "2"`), `"2" is no time`},
		{change(`heard = "~HEARD: {from:int},{payload}"`, ``), "there is nothing to hear"},
		{change(`type = "int"`, `type = "itn"`), `there is no type "itn"|Did you mean "int"?`},
		{change("range = [1, 65534]", "range = [65534, 1]"), "a range is two numbers"},
		{change(`answer = "~NODE: {value:int}"`, ``), "nothing tells what is heard when the setting is read"},
		{change("{value:int}", "{x:int}"), "does not say which part of it is the value"},
		{change("AT~NODE={value}", "AT~NODE={vlaue}"), `there is no value "vlaue" here|Did you mean "value"?`},
		{change(`name = "gain"`, `name = "address"`), `two settings named "address"`},
		{change(`name = "gain"`, ``), "the setting has no name"},
		{change(`read = "AT~NODE?"`, `effect = "later"`), `"later" says not when`},
		{change(`read = "AT~NODE?"`, `pair = "same"`), `"same" says not what`},
		{change(`address = "address"`, `address = "adress"`), `"adress" is no setting`},
		{change(`address = "address"`, `address = "gain"`), "cannot be read"},
		{change("greatest = 96", ""), "does not say how many bytes"},
		{change(`"A-Za-z0-9_-"`, `"Z-A"`), "the range Z-A is the wrong way round"},
		{change("{length},{payload}", "{length}"), "does not say where the payload goes"},
		{change(`arrives = "~HEARD: {from:int},{payload}"`, `arrives = "~HEARD: ..."`), "does not say where the payload arrives"},
		{change(`dialect = "at"`, `dialect = "bytes"`), "nothing tells where a payload ends"},
		{"family = \n", "p:1:"},
	} {
		_, err := Parse("p", c.text)
		if err == nil {
			t.Errorf("taken, though %s", c.want)
			continue
		}
		for _, want := range strings.Split(c.want, "|") {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("missing %q in\n%v", want, err)
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(good)
	f.Fuzz(func(t *testing.T, text string) {
		pb, err := Parse("p", text)
		if err == nil && pb.Family == "" {
			t.Errorf("taken without a family: %q", text)
		}
		if err == nil {
			pb.Explain("~REFUSED: 1")
			pb.Setup().Words()
		}
	})
}

// What a stand-in and check need of a phrasebook is read as strictly as the rest.
func TestCommandsAndDefaults(t *testing.T) {
	const head = "family = \"X\"\n"
	for text, want := range map[string]string{
		"[[command]]\nmeaning = \"x\"\n":                                                           "the command does not say what to say",
		"[[command]]\nsay = \"A {x\"\n":                                                            "the brace is not closed",
		"[[command]]\nsay = \"A\"\nanswer = [\"B {x:itn}\"]\n":                                     `there is no type "itn"`,
		"[[notice]]\nheard = \"tick\"\nevery = \"7\"\n":                                            "is no time",
		"[[setting]]\nname = \"n\"\ntype = \"int\"\nrange = [1, 9]\ndefault = \"12\"\n":            "n takes a number from 1 to 9, not 12",
		"[[setting]]\nname = \"n\"\nread = \"N {x}\"\nanswer = \"{value}\"\n":                      `there is no value "x" here`,
		"[[setting]]\nname = \"n\"\nwrite = \"N={value}\"\nwritten = \"{value:itn}\"\n":            `there is no type "itn"`,
		"[line]\nprompt = \"{=x}\"\n":                                                              "there are no values here to compare with",
		"dialect = \"console\"\necho = true\ncomplete = true\n[line]\nprompt = \"post>\"\n":        "",
		"[refusal]\nheard = [\"no {number:int}\"]\nunknown = \"1\"\nrange = \"2\"\n":               "",
		"[[command]]\nsay = \"SEND {length}\"\nfollows = \">\"\nrestart = false\ncarries = true\n": "",
	} {
		pb, err := Parse("p", head+text)
		if want == "" {
			if err != nil {
				t.Errorf("%q: %v", text, err)
			} else if strings.Contains(text, "refusal") && (pb.Refuse("2") != "no 2" || pb.Refuse("") != "no 1" || len(pb.Refusals()) != 1) {
				t.Errorf("refuses with %q and %q", pb.Refuse("2"), pb.Refuse(""))
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}
