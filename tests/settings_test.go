//go:build unix

package tests

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
)

// Two radios are read side by side, made as they must be, and put back: only what differs is
// written, a second time nothing is, and a value that did not take is told with both.
func TestSettings(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	settings := func(what string, args ...string) call {
		return b.run(append([]string{"settings", what, "--bench", "larkfell.toml", "--ledger", "l.sqlite"}, args...)...)
	}
	c := settings("read", "valley", "summit", "--out", "found.toml", "--record", "found.record")
	c.wants(t, 1, "serial number", "differs", "as delivered", "address of Dunlin must be unique, and is 1 at valley, summit")
	if file := b.read("found.toml"); !strings.Contains(file, "[summit.settings]") || !strings.Contains(file, "# radio channel (0 to 79), as delivered 41\nchannel = 10\n") {
		t.Error(file)
	}
	settings("apply", "valley", "--set", "address=7", "--set", "name=tower 3", "--yes", "--record", "one.record", "--unit", "LK-7").wants(t, 0, "1     7        7        passed", "tower 3  passed")
	if said := b.read("one.record"); strings.Count(said, `"text":"AT~NODE=7\r"`) != 1 || strings.Contains(said, "AT~GROUP=") || !strings.Contains(said, `"when":"as found"`) || !strings.Contains(said, `"when":"as left"`) || strings.Count(said, "AT~RESTART") == 0 {
		t.Error("the record does not tell what was written, as found and as left")
	}
	c = settings("apply", "valley", "--set", "address=7", "--yes", "--record", "two.record")
	c.wants(t, 0, "nothing to change")
	if said := b.read("two.record"); strings.Contains(said, "AT~NODE=") {
		t.Error("something was written the second time")
	}
	settings("read", "valley", "summit").wants(t, 0, "differs, as it must")
	settings("compare", "found.toml", "valley").wants(t, 1, "they differ")
	settings("compare", "one.record", "unit:LK-7").wants(t, 0, "they are the same")
	settings("compare", "one.record", "found.record").wants(t, 1, "they differ")
	settings("restore", "valley", "--from-record", "one.record", "--yes").wants(t, 0, "tower 3", "passed")
	settings("compare", "found.record", "valley").wants(t, 0, "they are the same")
	settings("restore", "valley", "--factory", "--yes").wants(t, 0, "channel  10    41  41   passed")
	var out struct {
		Verdict string
		Changes []struct {
			Name, From, To, Now string
			Took                bool
		}
	}
	c = settings("apply", "summit", "--file", "found.toml", "--set", "group=9", "--yes", "--json")
	if err := json.Unmarshal([]byte(c.out), &out); err != nil || c.status != 0 || out.Verdict != "passed" || len(out.Changes) != 1 || out.Changes[0].Now != "9" || !out.Changes[0].Took {
		t.Errorf("%v: %+v\n%s", err, out, c.err)
	}

	b.write("guide.toml", strings.Replace(b.read("dunlin.toml"), `write = "AT~POWER={value}"`, `write = "AT~CHANNEL={value}"`, 1)) // a guide that is wrong
	settings("apply", "summit", "--phrasebook", "guide.toml", "--set", "power=11", "--yes").wants(t, 1, "14", "power has not taken the value", "failed")
	for want, args := range map[string][]string{
		`has no setting "grup". Did you mean "group"?`: {"apply", "valley", "--set", "grup=1"},
		"group takes a number from 0 to 255":           {"apply", "valley", "--set", "group=300"},
		"wanted NAME=VALUE":                            {"apply", "valley", "--set", "group"},
		"cannot ask without a terminal":                {"apply", "valley", "--set", "group=77"},
		"nothing is wanted":                            {"apply", "valley"},
		"there are no settings for tower":              {"apply", "tower", "--file", "found.toml"},
		"say what to":                                  {"restore", "valley"},
		"has no run that tells settings of unit LK-99": {"compare", "unit:LK-99", "valley"},
		"there is one module alone":                    {"compare", "one.record"},
	} {
		if c := settings(args[0], args[1:]...); c.status != 2 || !strings.Contains(c.err, want) {
			t.Errorf("%q: %d, %s", args, c.status, c.err)
		}
	}
	settings("apply", "valley", "--set", "group=4", "--plan").wants(t, 0, "No port was opened")
	b.run("report", "one.record", "--as", "html", "--out", "one.html").wants(t, 0)
	if page := b.read("one.html"); !strings.Contains(page, "Dunlin, as left") {
		t.Error("the page does not tell the settings")
	}
}

// The ledger tells what went out: what procedures and settings have read and written, by unit,
// and which modules break a rule.
func TestWhatWentOut(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	at := func(args ...string) call {
		return b.run(append(args, "--ledger", "l.sqlite")...)
	}
	at("settings", "compare", "unit:LK-1", "unit:LK-2").wants(t, 2, "there is no ledger")
	at("run", "anyradio.parrot", "--bench", "larkfell.toml", "--port", "radio=valley", "--set", "address=11", "--unit", "LK-1").wants(t, 0)
	at("run", "anyradio.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--set", "address=12", "--unit", "LK-2").wants(t, 0)
	at("settings", "apply", "valley", "--bench", "larkfell.toml", "--set", "group=9", "--yes", "--unit", "LK-1").wants(t, 0)
	at("results", "unit", "LK-1").wants(t, 0, "2 runs", "Commission a radio", "settings apply", "intact, matches the ledger", "address            1          11         changed", "group              0          9          changed", "power as found    14 dBm")
	at("results", "unit", "LK-9").wants(t, 2, "no run that was asked for")
	at("results", "settings", "--differ").wants(t, 4, "2 modules, no rule broken by what is known", "not judged, for no value is known: group of LK-2")
	at("settings", "compare", "unit:LK-1", "unit:LK-2").wants(t, 0, "group                              9             -", "differs, as it must", "they are the same in what all of them tell")
	at("run", "anyradio.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--set", "address=11", "--set", "channel=40", "--unit", "LK-2").wants(t, 0)
	at("results", "settings", "--differ").wants(t, 1, "address of Dunlin must be unique, and is 11 at LK-1, LK-2", "channel of Dunlin must be equal")
	at("results", "settings").wants(t, 0, "LK-2")
	at("settings", "compare", "unit:LK-1", "unit:LK-2").wants(t, 1, "they differ")
	b.write("killed.parrot", "procedure \"Killed\"\nport radio\nstep \"s\"\n    set radio address = 13\n    pause 60s\nend\n")
	at("run", "anyradio.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--set", "address=12", "--unit", "LK-2").wants(t, 0)
	at("results", "settings", "--differ").wants(t, 4, "not judged")
	at("settings", "apply", "summit", "--bench", "larkfell.toml", "--set", "group=9", "--yes", "--unit", "LK-2").wants(t, 0)
	at("results", "settings", "--differ").wants(t, 0, "no rule broken")
	cmd, _, _ := b.command("run", "killed.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--unit", "LK-2", "--record", "killed.record", "--ledger", "l.sqlite")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	b.waitFor("killed.record", "address == 13")
	b.eventually("it is filed", func() bool { return strings.Contains(at("results", "--unit", "LK-2").out, "unfinished") })
	cmd.Process.Kill()
	cmd.Wait()
	at("results", "settings", "--differ").wants(t, 4, "LK-2: the run", "what it left is not known")
	at("results", "unit", "LK-2").wants(t, 0, "what it left is not known")
	if csv := at("results", "export", "--table", "settings").out; !strings.Contains(csv, ",as left,0,channel,40,,equal,") {
		t.Error(csv)
	}
}

// A module is held against the settings of a good one: all that is otherwise is told at once,
// and nothing passes that was not read.
func TestSettingsMatch(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.run("settings", "read", "valley", "--bench", "larkfell.toml", "--out", "good.toml", "--no-ledger").wants(t, 0)
	good := b.read("good.toml")
	b.write("match.parrot", "procedure \"Match\"\nport radio\nstep \"as the good one\"\n    settings radio match \"good.toml\"\nend\n")
	match := func(file string) call {
		b.write("good.toml", file)
		return b.run("run", "match.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--ledger", "l.sqlite", "--unit", "LK-2", "--record", "m.record", "--overwrite")
	}
	b.run("settings", "apply", "summit", "--bench", "larkfell.toml", "--file", "good.toml", "--yes", "--no-ledger").wants(t, 0)
	b.run("run", "match.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--ledger", "l.sqlite", "--unit", "LK-2", "--record", "one.record").wants(t, 0, "channel == 10", "address is not held against")
	if said := b.read("one.record"); strings.Contains(said, "AT~NODE") || !strings.Contains(said, "AT~POWER?") {
		t.Error("another setting was read than was told")
	}
	b.run("check", "match.parrot").wants(t, 0)
	b.run("results", "unit", "LK-2", "--ledger", "l.sqlite").wants(t, 0, "channel            10        10")
	b.write("bad.toml", strings.NewReplacer("channel = 10", "channel = 11", "power = 14", "power = 9").Replace(good))
	b.write("bad.parrot", strings.Replace(b.read("match.parrot"), "good.toml", "bad.toml", 1))
	b.run("run", "bad.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--no-ledger").wants(t, 1, "2 of 4 settings are not as in", "channel is 10, wanted 11", "power is 14, wanted 9")
	for text, want := range map[string]string{
		strings.Replace(good, "channel =", "chanel =", 1): `has no setting "chanel"`,
		"address = 7\n": "no setting that can be held",
		good + strings.ReplaceAll(strings.ReplaceAll(good, "[valley", "[summit"), "\n# as", "\n# As"): "settings of 2 modules, and none is called radio",
		"channel = \n": "good.toml",
		"":             "holds no settings",
	} {
		match(text).wants(t, 2, want)
	}
	b.write("match.parrot", strings.Replace(b.read("match.parrot"), "good.toml", "missing.toml", 1))
	b.run("run", "match.parrot", "--bench", "larkfell.toml", "--port", "radio=summit", "--no-ledger").wants(t, 2, "missing.toml")
}

// A procedure with get and set runs on families that say their settings in words and on those
// that have registers.
func TestAnyRadio(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ropeway := b.read("ropeway.toml")
	for _, number := range []string{"4301", "4302", "4303"} {
		ropeway = strings.Replace(ropeway, number, freePort(t, "tcp"), 1)
	}
	b.write("ropeway.toml", ropeway)
	b.start("for other commands", "standin", "larkfell.toml")
	b.start("for other commands", "standin", "ropeway.toml")
	for _, bench := range []string{"larkfell.toml", "ropeway.toml"} {
		c := b.run("run", "anyradio.parrot", "--bench", bench, "--port", "radio=valley", "--set", "address=12", "--set", "power=9", "--no-ledger")
		c.wants(t, 0, "all 2 steps", "power as found", "power = 9")
		b.run("run", "anyradio.parrot", "--bench", bench, "--port", "radio=valley", "--set", "address=12", "--plan").wants(t, 0, "set radio power = power")
	}
	b.run("settings", "read", "valley", "tower", "--bench", "ropeway.toml", "--no-ledger").wants(t, 1, "address of Fieldfare must be equal, and is 1 at tower; 12 at valley", "as delivered")
	b.run("check", "anyradio.parrot").wants(t, 0, "no mistakes")
	b.run("run", "anyradio.parrot", "--port", "radio=larkfell.ports/valley", "--set", "address=12", "--no-ledger").wants(t, 2, "no phrasebook is known of one of its ports")
	b.write("wrong.parrot", strings.Replace(b.read("anyradio.parrot"), "get radio power", "get radio pover", 1))
	b.run("run", "wrong.parrot", "--bench", "larkfell.toml", "--port", "radio=valley", "--set", "address=12", "--no-ledger").wants(t, 2, `has no setting "pover"`, `Did you mean "power"?`)
}

// Every family that has settings can be read, changed, compared and put back.
func TestSettingsOfFamilies(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	bench := ""
	families := map[string]string{"bittern": "mask=16", "curlew": "error form=1", "dunlin": "name=tower 3", "fieldfare": "sleep=7", "siskin": "data speed=38400"}
	for name := range families {
		at := ""
		if name == "fieldfare" { // its setup is a signal line's
			at = fmt.Sprintf("at = \"rfc2217://127.0.0.1:%s\"\n", freePort(t, "tcp"))
		}
		bench += fmt.Sprintf("[port.%s]\nphrasebook = \"%s.toml\"\n%s\n[port.%s.standin]\nfamily = \"%s\"\n\n", name, name, at, name, name)
	}
	b.write("all.toml", bench)
	b.start("for other commands", "standin", "all.toml")
	for name, set := range families {
		t.Run(name, func(t *testing.T) {
			settings := func(args ...string) call {
				return b.run(append(args, "--bench", "all.toml", "--ledger", name+".sqlite")...)
			}
			settings("settings", "read", name, "--out", name+"-found.toml").wants(t, 0)
			found := b.read(name + "-found.toml")
			settings("settings", "apply", name, "--set", set, "--yes", "--record", name+".record").wants(t, 0)
			settings("settings", "apply", name, "--set", set, "--yes").wants(t, 0, "nothing to change")
			settings("settings", "compare", name+"-found.toml", name).wants(t, 1, strings.SplitN(set, "=", 2)[0])
			settings("settings", "restore", name, "--from-record", name+".record", "--yes").wants(t, 0)
			settings("settings", "compare", name+"-found.toml", name).wants(t, 0)
			settings("settings", "read", name, "--out", name+"-left.toml").wants(t, 0)
			lines := func(text string) string { // without the time of the reading
				var all []string
				for _, l := range strings.Split(text, "\n") {
					if !strings.HasPrefix(l, "#") && !strings.HasPrefix(l, "read") {
						all = append(all, l)
					}
				}
				return strings.Join(all, "\n")
			}
			if left := b.read(name + "-left.toml"); lines(left) != lines(found) {
				t.Errorf("found\n%s\nleft\n%s", found, left)
			}
		})
	}
}

// What modules of one system need of each other is judged before anything is written, asked about, and judged
// again of what was written, or of what was found where nothing was to be.
func TestRulesOfPairs(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	at := []string{"settings", "apply", "valley", "summit", "--bench", "larkfell.toml", "--no-ledger", "--set"}
	p := b.sit(append(at, "address=5")...)
	p.types("", "although that breaks a rule")
	p.types("no\r", "nothing was written")
	b.run("settings", "read", "valley", "--bench", "larkfell.toml", "--no-ledger").wants(t, 0, "address                            1")
	b.run(append(at, "address=05", "--yes")...).wants(t, 1, "warning: address of Dunlin must be unique, and would be 05 at valley, summit", "failed: address of Dunlin must be unique, and is 5 at valley, summit")
	b.run(append(at, "address=5", "--yes")...).wants(t, 1, "nothing to change", "failed: address of Dunlin must be unique")
	c := b.run(append(at, "group=8", "--yes", "--json")...).wants(t, 1) // another setting
	if !strings.Contains(c.out, `"verdict": "failed"`) || !strings.Contains(c.out, `"rule": "different"`) {
		t.Error(c.out)
	}
	b.run("settings", "apply", "summit", "--bench", "larkfell.toml", "--no-ledger", "--set", "address=6", "--yes").wants(t, 0)
	b.run(append(at, "group=9", "--yes")...).wants(t, 0)
}

// A line end in a value says no second command, from wherever it came: a file of settings, a flag, a table of
// units, an input.
func TestSecondCommand(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("evil.toml", "name = \"tower\\rAT~NODE=9\"\n")
	b.write("evil.csv", "unit,label\nLK-1,\"tower\nAT~NODE=9\"\n")
	b.write("name.parrot", "procedure \"Name\"\nport radio\ninput label: text\nstep \"name\"\n    set radio name = label\nend\n")
	at := []string{"--bench", "larkfell.toml", "--no-ledger"}
	b.run(append([]string{"settings", "apply", "valley", "--file", "evil.toml", "--yes"}, at...)...).wants(t, 2, "name takes one line, and its value holds a line end (CR): character 6")
	b.run(append([]string{"settings", "apply", "valley", "--set", "name=tower\rAT~NODE=9", "--plan"}, "--bench", "larkfell.toml")...).wants(t, 2, "holds a line end (CR)")
	b.run(append([]string{"run", "name.parrot", "--port", "radio=valley", "--set", "label=tower\rAT~NODE=9"}, at...)...).wants(t, 1, "label, an input, holds a line end (CR): character 6")
	b.run("run", "name.parrot", "--port", "radio=valley", "--bench", "larkfell.toml", "--units", "evil.csv", "--next", "none", "--ledger", "l.sqlite").wants(t, 1, "holds a line end (LF)")
	b.run(append([]string{"settings", "read", "valley"}, at...)...).wants(t, 0, "address                            1")
}

// What must differ from module to module is not taken over from another module's file or record; where a file does
// not say whose it is, that is asked; and a record that nothing vouches for is refused.
func TestSettingsOfAnother(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	at := func(args ...string) call {
		return b.run(append(append([]string{"settings"}, args...), "--bench", "larkfell.toml", "--no-ledger")...)
	}
	at("apply", "summit", "--set", "address=9", "--set", "group=4", "--yes").wants(t, 0)
	at("read", "summit", "--out", "summit.toml", "--record", "summit.record").wants(t, 0)
	at("apply", "valley", "--file", "summit.toml", "--yes").wants(t, 0, "left out, since summit.toml is of another module, and they must differ: address of valley", "valley  group    0     4   4    passed")
	at("read", "valley").wants(t, 0, "address                            1")
	at("apply", "valley", "--file", "summit.toml", "--set", "address=12", "--yes").wants(t, 0, "valley  address  1     12  12   passed")
	at("restore", "valley", "--from-record", "summit.record", "--yes").wants(t, 0, "left out, since summit.record is of another module", "nothing to change")
	at("apply", "summit", "--file", "summit.toml", "--yes").wants(t, 0, "nothing to change")
	b.write("bare.toml", "address = 13\ngroup = 5\n")
	at("apply", "valley", "--file", "bare.toml").wants(t, 2, "bare.toml does not say whose it is, and these must differ from module to module: address of valley")
	at("apply", "valley", "--file", "bare.toml", "--yes").wants(t, 0, "valley  address  12    13  13   passed")
	bare := regexp.MustCompile(`,"sum":"[0-9a-f]*"`).ReplaceAllString(b.read("summit.record"), "")
	b.write("bare.record", strings.Replace(bare, `"version":4`, `"version":1`, 1))
	at("restore", "summit", "--from-record", "bare.record", "--yes").wants(t, 2, "bare.record has no checksums")
	at("restore", "summit", "--from-record", "bare.record", "--allow-unprotected", "--yes").wants(t, 0)
}

// What shares no setting is not the same: nothing was compared.
func TestCompareNothing(t *testing.T) {
	t.Parallel()
	b := &bench{t, t.TempDir()}
	b.write("a.toml", "power = 14\n")
	b.write("b.toml", "channel = 41\n")
	b.write("c.toml", "channel = 41\npower = 14\n")
	b.run("settings", "compare", "a.toml", "b.toml").wants(t, 4, "no two of them tell the same setting: nothing could be compared")
	b.run("settings", "compare", "a.toml", "c.toml").wants(t, 0, "they are the same in what all of them tell")
	b.run("settings", "compare", "a.toml", "b.toml", "--json").wants(t, 4, `"verdict": "undecided"`)
}
