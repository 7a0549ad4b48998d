//go:build unix

package tests

import (
	"encoding/json"
	"strings"
	"testing"
)

// rehearsal is what a test reads out of one.
type rehearsal struct {
	Score  *float64
	Counts map[string]int
	Alarms int `json:"false_alarms"`
	Bad    []struct{ Name, Port, About, Class string }
	Good   []struct {
		Name, Step, Why string
		Alarm           bool `json:"false_alarm"`
	}
}

// Every example procedure is strong: it catches bad modules and spares good ones. One is weak, and
// the docs tell what it lacks.
func TestRehearseExamples(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("pair.toml", "[port.valley]\nphrasebook = \"dunlin.toml\"\n[port.valley.standin]\nfamily = \"dunlin\"\nsettings = { node = 1, group = 7 }\n[port.summit]\nphrasebook = \"dunlin.toml\"\n[port.summit.standin]\nfamily = \"dunlin\"\nplace = 1400.0\nsettings = { node = 2, group = 7 }\n[air]\nloss = \"5%\"\ndelay = \"30ms\"\n")
	least := 0 // that could be caught, over all
	for _, args := range []string{
		"commission.parrot", "greeting.parrot --bench pair.toml", "restart.parrot --bench supply.toml", "anyradio.parrot --phrasebook dunlin.toml", "anyradio.parrot --phrasebook fieldfare.toml --set channel=7",
		"boards.parrot --bench station.toml", "curlew.parrot --bench station.toml", "siskin.parrot --bench workshop.toml", "wheatear.parrot --bench workshop.toml", "bittern.parrot --bench workshop.toml",
		"tower.parrot --bench workshop.toml", "fieldfare.parrot --bench ropeway.toml --port radio=valley", "plover.parrot --bench workshop.toml",
	} {
		c := b.runWith([]string{"UPARROT_CODE=snowline"}, "", append([]string{"rehearse", "--json", "--times", "20"}, strings.Fields(args)...)...)
		var r rehearsal
		if err := json.Unmarshal([]byte(c.out), &r); err != nil {
			t.Errorf("%s: %v: %s%s", args, err, c.out, c.err)
			continue
		}
		least += r.Counts["caught"] + r.Counts["survived"]
		if r.Score != nil && *r.Score < 0.95 || r.Alarms > 0 {
			t.Errorf("%s: %s", args, b.run(append([]string{"rehearse"}, strings.Fields(args)...)...).out)
		}
		if strings.Contains(c.out, "snowline") {
			t.Errorf("%s shows a secret", args)
		}
	}
	if least < 150 {
		t.Errorf("there were %d bad modules that could be caught, in all", least)
	}
}

// The command: what it tells, its forms, its statuses, and the mending.
func TestRehearse(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	c := b.run("rehearse", "hasty.parrot").wants(t, 1, "address is", ", chosen", "survived: channel at radio\n   not stored; stored at", "say radio: AT~CHANNEL?", "hear radio: ~CHANNEL: {=channel}",
		"false alarm at \"the radio answers\"", "tries 3 every 500ms", "not tested:\n   group at radio", "12 survived")
	for _, line := range strings.Split(c.out, "\n") {
		if len(line) > 110 {
			t.Errorf("a line of %d: %s", len(line), line)
		}
	}
	if again := b.run("rehearse", "hasty.parrot"); again.out != c.out {
		t.Errorf("the same seed:\n%s\n%s", c.out, again.out)
	}
	b.run("rehearse", "hasty.parrot", "--min-caught", "20%").wants(t, 1) // a good module is refused
	b.write("hasty.parrot", strings.Replace(b.read("hasty.parrot"), "step \"the radio answers\"", "step \"the radio answers\" tries 3 every 500ms", 1))
	b.run("rehearse", "hasty.parrot", "--min-caught", "20%").wants(t, 0)
	b.run("rehearse", "hasty.parrot", "--min-caught", "50%").wants(t, 1)
	b.run("rehearse", "hasty.parrot", "--as", "junit", "--out", "r.xml").wants(t, 1)
	b.run("rehearse", "hasty.parrot", "--as", "sarif", "--out", "r.sarif").wants(t, 1)
	b.run("rehearse", "hasty.parrot", "--as", "html", "--out", "r.html").wants(t, 1)
	for file, want := range map[string]string{"r.xml": `failures="12"`, "r.sarif": `"startLine": 15`, "r.html": "12 survived"} {
		if text := b.read(file); !strings.Contains(text, want) {
			t.Errorf("%s lacks %s: %s", file, want, text)
		}
	}
	b.run("rehearse", "hasty.parrot", "--as", "html", "--out", "r.html").wants(t, 2, "exists")
	b.run("rehearse", "hasty.parrot", "--mend", "--yes").wants(t, 1, "4 checks in hasty.parrot")
	b.run("rehearse", "hasty.parrot").wants(t, 0, "0 survived")
	b.run("run", "hasty.parrot", "--plan", "--set", "address=5").wants(t, 0, "AT~CHANNEL?")

	b.write("little.parrot", "procedure \"Little\"\nport radio: dialect at, ending cr, phrasebook \"dunlin.toml\"\nstep \"s\" tries 3\n    say radio: AT~POWER=5\n    say radio: AT~POWER?\n    hear radio: ~POWER: 5\nend\n")
	b.run("rehearse", "little.parrot").wants(t, 4, "0 survived") // a score of few bad modules says little
	b.write("never.parrot", strings.Replace(b.read("little.parrot"), "~POWER: 5", "~POWER: 6", 1))
	b.run("rehearse", "never.parrot").wants(t, 3, "cannot be rehearsed: it is failed at good modules already, at \"s\"")
	b.run("rehearse", "twite.parrot").wants(t, 3, "is a socket of this machine, and such ports cannot be rehearsed")
	b.write("bare.parrot", "procedure \"Bare\"\nport radio\nstep \"s\"\n    say radio: AT\nend\n")
	for want, args := range map[string][]string{
		"nothing is known of the module at the port radio": {"bare.parrot"}, `there is no form "pdf"`: {"hasty.parrot", "--as", "pdf", "--out", "x"}, "name the file with --out": {"hasty.parrot", "--as", "junit"},
		"nobody is asked in a rehearsal": {"hasty.parrot", "--operator", "ask"}, "--min-caught": {"hasty.parrot", "--min-caught", "lots"}, `no input "adress"`: {"hasty.parrot", "--set", "adress=1"},
	} {
		if c := b.run(append([]string{"rehearse"}, args...)...); c.status != 2 || !strings.Contains(c.err, want) {
			t.Errorf("%q: %d, %s", args, c.status, c.err)
		}
	}
}
