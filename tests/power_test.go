//go:build unix

package tests

import (
	"strings"
	"testing"
)

// A relay switches the power of a radio: a restart test and the next module of a table need no
// hand. What was switched and is not the module's power passes nothing, and no module is left dark.
func TestPower(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	supply := b.read("supply.toml")
	b.write("supply.toml", supply+"\n[port.lamp]\nphrasebook = \"dunlin.toml\"\npower = \"relay 4 of gates\"\n\n[port.lamp.standin]\nfamily = \"dunlin\"\nplace = 900.0\n\n[slot.1]\nradio = \"radio\"\n\n[slot.2]\nradio = \"lamp\"\n")
	b.start("for other commands", "standin", "supply.toml")
	restart := func(args ...string) call {
		return b.run(append([]string{"run", "restart.parrot", "--set", "address=5", "--no-ledger"}, args...)...)
	}
	restart("--bench", "supply.toml", "--record", "a.record").wants(t, 0, "power by relay 3 of gates", "gates    said   relay 3 off", "power of radio on, by relay 3 of gates", "heard  DUNLIN UP")
	b.run("report", "a.record").wants(t, 0, "relay 3 is off", "DUNLIN UP")

	// At once in two slots: one speaks to the board at a time.
	b.write("two.csv", "unit,address\nLK-1,11\nLK-2,12\n")
	b.run("run", "restart.parrot", "--bench", "supply.toml", "--units", "two.csv", "--slots", "all", "--next", "power", "--ledger", "l.sqlite").
		wants(t, 0, "LK-1: power off and on, by relay", "2 of 2 units passed")

	// The board is a port of the procedure too.
	b.write("both.parrot", "procedure \"Both\"\nport radio\nport gates\nstep \"off and on\"\n    power radio off\n    hear gates within 3s: inputs {} relays 0001 board 1\n    power radio on\n    hear radio within 5s: DUNLIN UP ...\nend\n")
	b.run("run", "both.parrot", "--bench", "supply.toml", "--no-ledger").wants(t, 0, "passed")

	// Another relay than the one that gives it power.
	b.write("wrong.toml", strings.NewReplacer("relay 3", "relay 2", "[port.radio.standin]\nfamily = \"dunlin\"", "at = \"supply.ports/radio\"", "[port.gates.standin]\nfamily = \"redshank\"", "at = \"supply.ports/gates\"").Replace(supply))
	restart("--bench", "wrong.toml").wants(t, 1, "by relay 2 of gates", "it starts again", "failed")

	// It fails while the radio is dark.
	b.write("dark.parrot", "procedure \"Dark\"\nport radio\nstep \"off\"\n    power radio off\n    say radio: AT\nend\n")
	b.run("run", "dark.parrot", "--bench", "supply.toml", "--no-ledger").wants(t, 1, "power of radio off", "power of radio on, by relay 3")
	restart("--bench", "supply.toml").wants(t, 0)

	// By hand: a yes alone passes nothing, and nobody there leaves it untested.
	b.write("hand.toml", "[port.radio]\nphrasebook = \"dunlin.toml\"\nat = \"supply.ports/radio\"\n")
	restart("--bench", "hand.toml", "--operator", "yes").wants(t, 1, "answer yes", "wanted    DUNLIN UP")
	restart("--bench", "hand.toml", "--operator", "none").wants(t, 4, "it needs a person: power radio cycle")

	for want, power := range map[string]string{
		`has no "relay 7"`: "relay 7 of gates", "no other port \"mast\"": "relay 1 of mast", "names no switch of a port": "relay 1", "no other port \"radio\"": "relay 1 of radio",
	} {
		b.write("bad.toml", strings.Replace(supply, "relay 3 of gates", power, 1))
		b.run("check", "bad.toml").wants(t, 2, want)
	}
	b.write("deaf.parrot", strings.Replace(b.read("restart.parrot"), "    hear radio within 5s: DUNLIN UP ...\n", "", 1))
	b.run("check", "deaf.parrot").wants(t, 0, "nothing shows that the module has started", "hear radio within 10s: DUNLIN UP {firmware}")
	b.write("deaf.parrot", strings.Replace(b.read("restart.parrot"), "power radio cycle", "power radio away", 1))
	b.run("check", "deaf.parrot").wants(t, 2, `there is no power "away"`)
}
