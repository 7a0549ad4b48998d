//go:build unix

package tests

import (
	"strings"
	"testing"
	"time"
)

// A tray of radios from a table: each with its own values, none twice, none that is another;
// what was done is known, also when it goes on.
func TestUnits(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	filed := "l.sqlite" // another one where a module may be another unit
	run := func(table string, args ...string) call {
		return b.run(append([]string{"run", "anyradio.parrot", "--units", table, "--bench", "larkfell.toml", "--ledger", filed, "--quiet"}, args...)...)
	}
	b.write("two.csv", "\ufeffunit;address;port\r\nLK-0001;11;valley\r\nLK-0002;12;summit\r\n")
	run("two.csv", "--next", "none", "--out", "done.csv").wants(t, 0, "LK-0001", "2 of 2 units passed, 2 of them at the first try")
	if done := b.read("done.csv"); !strings.Contains(done, "LK-0002,passed,,1,") || !strings.Contains(done, "power as found\r\n") {
		t.Error(done)
	}
	run("two.csv", "--next", "none").wants(t, 4, "--go-on leaves out such units", "0 of 2 units passed")
	b.write("three.csv", b.read("two.csv")+"LK-0003;13;valley\r\n")
	run("three.csv", "--next", "none", "--go-on").wants(t, 4, "passed on 2", "LK-0003  untested", "which passed this as LK-0001 on 2", "2 of 3 units passed")
	if c := b.run("results", "--ledger", filed, "--unit", "LK-0003"); c.out != "" {
		t.Error(c.out)
	}
	b.run("results", "unit", "LK-0002", "--ledger", filed).wants(t, 0, "serial number", "DL-")
	filed = "l2.sqlite"
	b.write("three.csv", "unit,address,port\nLK-0003,13,valley\n")
	run("three.csv", "--next", "answer").wants(t, 0, "1 of 1 unit passed")
	b.run("results", "--ledger", filed, "--unit", "LK-0003").wants(t, 0, "passed")

	// It begins when the module starts.
	b.write("one.csv", "unit,address,port\nLK-0010,10,summit\n")
	begun, out, errs := b.command("run", "anyradio.parrot", "--units", "one.csv", "--bench", "larkfell.toml", "--ledger", "l2.sqlite", "--quiet", "--next", "power")
	if err := begun.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- begun.Wait() }()
	for over := false; !over; { // it may not listen yet
		b.run("standin", "larkfell.toml", "--tell", "power summit cycle").wants(t, 0)
		select {
		case err := <-ended:
			if over = true; b.status(err) != 0 {
				t.Errorf("%s%s", out, errs)
			}
		case <-time.After(1500 * time.Millisecond):
		}
	}

	// The module before is plugged in still.
	filed = "l3.sqlite"
	b.write("same.tsv", "unit\taddress\nLK-0004\t14\nLK-0005\t15\n")
	run("same.tsv", "--next", "none", "--port", "radio=valley").wants(t, 4, "LK-0005  untested", "which was LK-0004 before: it is plugged in still", "1 of 2 units passed")
	if c := b.run("results", "--ledger", filed, "--unit", "LK-0005"); strings.Contains(c.out, "passed") {
		t.Error(c.out)
	}

	// A unit that was begun and not ended, as by a kill, is done again and told.
	b.write("slow.parrot", "procedure \"Slow\"\nport radio\ninput address: int\nstep \"s\"\n    say radio: AT\n    pause 20s\nend\n")
	b.write("slow.jsonl", "{\"unit\": \"LK-0006\", \"address\": 6}\n")
	cmd, _, _ := b.command("run", "slow.parrot", "--units", "slow.jsonl", "--bench", "larkfell.toml", "--port", "radio=summit", "--ledger", "l.sqlite", "--next", "none")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	b.eventually("the run", func() bool {
		return strings.Contains(b.run("results", "--ledger", "l.sqlite", "--unit", "LK-0006").out, "unfinished")
	})
	cmd.Process.Kill()
	cmd.Wait()
	b.write("slow.parrot", "procedure \"Slow\"\nport radio\ninput address: int\nstep \"s\"\n    say radio: AT\nend\n")
	b.run("run", "slow.parrot", "--units", "slow.jsonl", "--bench", "larkfell.toml", "--port", "radio=summit", "--ledger", "l.sqlite", "--next", "none", "--go-on").
		wants(t, 0, "LK-0006 was begun on", "and not ended: it is done again", "1 of 1 unit passed")

	filed = "l4.sqlite"
	// A failed unit is the worst of them, and is done again.
	b.write("bad.csv", "unit,address,power,port\nLK-0007,7,3,valley\nLK-0008,8,3,summit\n")
	b.write("guide.toml", strings.Replace(b.read("dunlin.toml"), `write = "AT~POWER={value}"`, `write = "AT~CHANNEL={value}"`, 1))
	run("bad.csv", "--next", "none", "--phrasebook", "guide.toml").wants(t, 1, "LK-0007  failed", "0 of 2 units passed")
	run("bad.csv", "--next", "none", "--go-on").wants(t, 0, "LK-0007 was failed on", "2 of 2 units passed, 0 of them at the first try")

	b.write("wrong.csv", "unit,adress,power,serial\n0017,11,10,x\n18,11,99,y\n0017,300,9\n")
	c := run("wrong.csv", "--port", "radio=valley")
	c.wants(t, 2, "there is no column address", `Did you mean "address"?`, "wrong.csv:3:7: 99 is outside 2..20", "18 has 2 digits, and others of the column 4", "unit 0017 stands in line 2 already", "6 mistakes found")
	b.write("same.csv", "unit,address\nA,5\nB,5\n")
	run("same.csv", "--port", "radio=valley").wants(t, 2, "address 5 stands in line 2 already")
	for want, args := range map[string][]string{
		"--no-ledger has no place here": {"--no-ledger"}, "has a record of its own": {"--record", "x.record"}, "leave out --only": {"--only", "1"},
		`there is no way "soon"`: {"--next", "soon"}, "--out is a table of all units": {"--out", "x.html", "--as", "html"},
	} {
		if c := run("two.csv", args...); c.status != 2 || !strings.Contains(c.err, want) {
			t.Errorf("%q: %d, %s", args, c.status, c.err)
		}
	}
}

// A person goes through a tray: a scanned name is held against the row, a unit is passed over,
// and after a failure it is asked what is to be done.
func TestUnitsByHand(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("two.csv", "unit,address,port\nLK-0001,11,valley\nLK-0002,12,summit\nLK-0003,13,summit\n")
	b.write("guide.toml", strings.Replace(b.read("dunlin.toml"), `write = "AT~POWER={value}"`, `write = "AT~CHANNEL={value}"`, 1))
	p := b.sit("run", "anyradio.parrot", "--units", "two.csv", "--bench", "larkfell.toml", "--ledger", "l.sqlite", "--quiet", "--phrasebook", "guide.toml", "--set", "power=5", "--ask-for", "0")
	p.asked("plug in LK-0001, then Enter", 1)
	p.keys.WriteString("LK-0009\r")
	p.asked("no unit LK-0009 waits to be done", 1)
	p.keys.WriteString("LK-0002\r") // a scanned name chooses the row
	p.asked("LK-0002 failed: again, next, or stop?", 1)
	p.keys.WriteString("n\r")
	p.asked("plug in LK-0001, then Enter", 3)
	p.keys.WriteString("LK-0002\r") // it is done
	p.asked("no unit LK-0002 waits to be done", 1)
	p.keys.WriteString("n\r")
	p.asked("plug in LK-0003, then Enter", 1)
	p.keys.WriteString("s\r")
	p.asked("0 of 3 units passed", 1)
	for unit, want := range map[string]string{"LK-0001": "no matching runs in", "LK-0002": "failed", "LK-0003": "no matching runs in"} {
		if c := b.run("results", "--ledger", "l.sqlite", "--unit", unit); !strings.Contains(c.out+c.err, want) {
			t.Errorf("%s: %s%s", unit, c.out, c.err)
		}
	}
}
