package bench

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestReadExample(t *testing.T) {
	b, err := Read("../../examples/larkfell.toml", []string{"bittern", "curlew", "dunlin", "fieldfare", "plover", "redshank", "siskin", "twite", "brambling"})
	if err != nil {
		t.Fatal(err)
	}
	p, ok := b.Port("summit")
	if !ok || p.Setup.Words() != "at, 115200 8N1, cr" || p.Standin.Place != 1400 || p.Phrasebook.Family != "Dunlin" {
		t.Errorf("summit: %+v", p)
	}
	if p.At.String() != "../../examples/larkfell.ports/summit" || b.Air.Loss != 0.01 || b.Air.Delay != 35*time.Millisecond {
		t.Errorf("at %s, air %+v", p.At, b.Air)
	}
	if got := p.Phrasebook.Explain("~REFUSED: 34"); !strings.Contains(got, "length") {
		t.Errorf("34 means %q", got)
	}
}

// Every mistake is told at once, each with its place and a way to mend it.
func TestMistakes(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	write("bad.toml", `family = "Dunlin"
dialect = "att"
[line]
sped = 9600
[[setting]]
name = "address"
answer = "~NODE: {value:itn}"
`)
	write("worse.toml", `family = "Dunlin"
[[notice]]
heard = "OK {x"
[[setting]]
name = "address"
range = [5, 1]
read = "AT~NODE?"
answer = "~NODE: {now:int}"
write = "AT~NODE={valeu}"
[carrier]
send = "AT~TELL={to}"
arrives = "~HEARD: ..."
`)
	for _, c := range []struct {
		text string
		want []string
	}{
		{"[port.north]\nat = \"/dev/ttyUSB0\"\nspedd = 9600\n", []string{":3:1: unknown key \"spedd\"", `Did you mean "speed"?`}},
		{"[port.north]\nspeed = 9600\n", []string{":1:2: port north says not where it is"}},
		{"[port.north]\nat = \"x\"\nframe = \"9N1\"\n", []string{":3:", `invalid frame "9N1"`}},
		{"[port.north]\nat = \"x\"\nending = \"crfl\"\nspeed = -5\n", []string{":3:10: there is no line ending \"crfl\"", `Did you mean "crlf"`, ":4:1: speed -5"}},
		{"[port.north]\nat = \"x\"\n[air]\nloss = \"200%\"\n", []string{":4:", "is not a percentage"}},
		{"[port.north]\nat = \"x\"\n[air]\nloss = 0.7\ndamage = 0.7\n", []string{":3:2: loss, damage", "140%"}},
		{"[port.north]\nat = \"x\n", []string{":2:"}},
		{"[port.north.standin]\nfamily = \"dunlni\"\n", []string{":2:1: there is no stand-in", `Did you mean "dunlin"`}},
		{"[port.north.standin]\nplace = 1.0\n", []string{"the stand-in has no family, and the port no phrasebook"}},
		{"[port.north]\nat = \"x\"\nhears = [\"suth\"]\n[port.south]\nat = \"y\"\n", []string{`:3:1: there is no other port "suth"`, `Did you mean "south"`}},
		{"[port.north]\nat = \"x\"\nhears = [\"north\"]\n", []string{`there is no other port "north"`}},
		{"[port.north]\nat = \"x\"\n[air]\nrate = -1.0\n", []string{"rate and buffer may not be below zero"}},
		{"[port.north]\nat = \"x\"\n[air]\nenter = \"2%\"\n", []string{":4:1: the air enters bursts of losses and never leaves one"}},
		{"[port.north]\nat = \"x\"\ndialect = \"console\"\nprompt = \"{x\"\n", []string{":4:10: the brace is not closed"}},
		{"", []string{"the bench has no ports"}},
		{"[port.north]\nat = \"x\"\nphrasebook = \"none.toml\"\n", []string{":3:1: the phrasebook cannot be read"}},
		{"[port.north]\nat = \"x\"\nphrasebook = \"bad.toml\"\n", []string{"bad.toml:4:1: unknown key \"sped\"", `Did you mean "speed"`}},
		{"[port.north]\nat = \"x\"\nphrasebook = \"worse.toml\"\n", []string{
			"worse.toml:3:13: the brace is not closed", "worse.toml:6:1: a range is two numbers", "worse.toml:8:1: the answer does not say",
			"worse.toml:9:19: there is no value \"valeu\"", "worse.toml:11:1: the carrier does not say where the payload goes",
			"worse.toml:12:1: the carrier does not say where the payload arrives", "the carrier does not say how many bytes", "\"\" is no setting",
		}},
	} {
		_, err := Read(write("bench.toml", c.text), []string{"bittern", "curlew", "dunlin", "fieldfare", "plover", "redshank", "siskin", "twite", "brambling"})
		if err == nil {
			t.Errorf("%q was taken", c.text)
			continue
		}
		for _, want := range c.want {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("%q: missing %q in\n%v", c.text, want, err)
			}
		}
	}
}

// A phrasebook alone makes a bench of one module, and a port with a phrasebook a
// stand-in without a family.
func TestOfPhrasebook(t *testing.T) {
	b, err := OfPhrasebook("../../examples/bittern.toml")
	if err != nil || len(b.Ports) != 1 || b.Ports[0].Name != "bittern-b1" || b.Ports[0].Standin.Book == nil || b.Ports[0].Setup.Prompt[0].String() != "bittern>" {
		t.Fatalf("%+v, %v", b, err)
	}
	path := filepath.Join(t.TempDir(), "b.toml")
	book, err := filepath.Abs("../../examples/siskin.toml")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte("[port.x]\nphrasebook = \""+book+"\"\nhears = []\n[port.x.standin]\nsettings = { name = \"lift\" }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b, err = Read(path, []string{"bittern", "curlew", "dunlin", "fieldfare", "plover", "redshank", "siskin", "twite", "brambling"})
	if err != nil || b.Ports[0].Standin.Family != "" || b.Ports[0].Standin.Book.Family != "Siskin" || b.Ports[0].Hears == nil || len(*b.Ports[0].Hears) != 0 {
		t.Errorf("%+v, %v", b, err)
	}
	if _, err := OfPhrasebook("none.toml"); err == nil {
		t.Error("took a phrasebook that is not there")
	}
}
