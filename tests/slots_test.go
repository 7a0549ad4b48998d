//go:build unix

package tests

import (
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"
)

// slotted is a bench of radios, each in a slot of its own, that share the air.
func slotted(n int) string {
	text := ""
	for i := range n {
		text += fmt.Sprintf("[port.r%d]\nphrasebook = \"dunlin.toml\"\n\n[port.r%d.standin]\nfamily = \"dunlin\"\nplace = %d.0\n\n[slot.%d]\nradio = \"r%d\"\n\n", i+1, i+1, 100*i, i+1, i+1)
	}
	return text + "[shared]\nair = 1\n"
}

// A tray on four slots: each unit is done once, what is shared is used by one at a time, and
// what is wrong with the slots is told before anything is said.
func TestSlots(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("slots.toml", slotted(4))
	b.start("for other commands", "standin", "slots.toml")
	table := "unit,address\n"
	for i := range 4 {
		table += fmt.Sprintf("LK-%d,%d\n", i+1, i+1)
	}
	b.write("tray.csv", table)
	b.write("air.parrot", "procedure \"One at a time\"\nport radio\ninput address: int\nstep \"alone\" uses air\n    set radio address = address\n    pause 200ms\nend\nstep \"at once\"\n    get radio address as now\n    check now == address\nend\n")
	c := b.run("run", "air.parrot", "--units", "tray.csv", "--bench", "slots.toml", "--slots", "all", "--next", "none", "--ledger", "l.sqlite")
	c.wants(t, 0, "4 of 4 units passed", "alone: passed in")
	for i := range 4 {
		name := fmt.Sprintf("LK-%d", i+1)
		if runs := b.run("results", "--ledger", "l.sqlite", "--unit", name).wants(t, 0, "passed").out; strings.Count(runs, name) != 1 {
			t.Errorf("%s: %s", name, runs)
		}
	}
	b.run("run", "air.parrot", "--units", "tray.csv", "--bench", "slots.toml", "--slots", "1,9", "--next", "none", "--ledger", "l.sqlite").wants(t, 2, `no slot "9"`)
	b.run("run", "air.parrot", "--units", "tray.csv", "--bench", "larkfell.toml", "--slots", "all", "--next", "none", "--ledger", "l.sqlite").wants(t, 2, "the bench has no slots")
	b.write("dark.parrot", strings.Replace(b.read("air.parrot"), "uses air", "uses box", 1))
	b.run("run", "dark.parrot", "--units", "tray.csv", "--bench", "slots.toml", "--slots", "all", "--next", "none", "--ledger", "l.sqlite").wants(t, 2, "uses box, which the bench does not name")
	b.write("twice.toml", strings.Replace(b.read("slots.toml"), "radio = \"r2\"", "radio = \"r1\"", 1))
	b.run("check", "twice.toml").wants(t, 2, "the port r1 is in slot 1 already")
	b.run("run", "air.parrot", "--slots", "all", "--bench", "slots.toml").wants(t, 2, "name it with --units")
}

// A person at the board: each slot asks, only the one that asks waits, and the answers go to
// the slot that stands on the screen.
func TestBoard(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("slots.toml", slotted(2))
	b.start("for other commands", "standin", "slots.toml")
	b.write("tray.csv", "unit,address\nLK-1,1\nLK-2,2\n")
	b.write("lamp.parrot", "procedure \"Lamp\"\nport radio\ninput address: int\nstep \"a look at it\"\n    set radio address = address\n    ask operator \"Is the lamp of {address} green?\"\nend\n")
	p := b.sit("run", "lamp.parrot", "--units", "tray.csv", "--bench", "slots.toml", "--slots", "all", "--ledger", "l.sqlite", "--ask-for", "0")
	sees := func(text string) {
		t.Helper()
		if !p.sees(text, 20*time.Second) {
			t.Fatalf("%q does not stand there:\n%s", text, p.screen.String())
		}
	}
	sees("0 of 2 units done")
	answers := []struct{ to, with string }{{"plug in LK-1", "\r"}, {"plug in LK-2", "\r"}, {"Is the lamp of 1 green? [yes/no]", "no\r"}, {"Is the lamp of 2 green? [yes/no]", "yes\r"}, {"LK-1 failed: again, next, or stop? [a/n/s]", "n\r"}}
	for left := len(answers); left > 0; left-- { // in the order in which they stand on the screen
		stands := func() int {
			for i, a := range answers {
				if _, line, ok := strings.Cut(p.screen.String(), ": "+a.to); ok && a.with != "" && strings.Contains(strings.SplitN(line, "\n", 2)[0], " >") {
					return i
				}
			}
			return -1
		}
		b.eventually("a question", func() bool { return stands() >= 0 })
		i := stands()
		p.keys.WriteString(answers[i].with)
		answers[i].with = ""
	}
	sees("1 of 2 units passed")
	if err := p.wait(20 * time.Second); b.status(err) != 1 {
		t.Errorf("%v", err)
	}
	b.run("results", "--ledger", "l.sqlite", "--unit", "LK-1").wants(t, 0, "failed")
	b.run("results", "--ledger", "l.sqlite", "--unit", "LK-2").wants(t, 0, "passed")
}

// Sixty-four slots with a unit each take little longer than one slot with one, and little memory
// for each; the one slot is what it is held against.
func BenchmarkSlots(b *testing.B) {
	const slots = 64
	at := newBench(b)
	at.write("slots.toml", slotted(slots))
	at.start("for other commands", "standin", "slots.toml")
	at.write("slow.parrot", "procedure \"Slow\"\nport radio\ninput address: int\nstep \"it is set and watched\"\n    set radio address = address\n    pause 4s\n    get radio address as now\n    check now == address\nend\n")
	for name, n := range map[string]int{"one": 1, "all": slots} {
		table := "unit,address\n"
		for i := range n {
			table += fmt.Sprintf("LK-%d,%d\n", i+1, i+1)
		}
		at.write(name+".csv", table)
	}
	run := 0
	through := func(name, which string) (took time.Duration, peak float64) {
		run++
		cmd, out, errOut := at.command("run", "slow.parrot", "--units", name+".csv", "--bench", "slots.toml", "--slots", which, "--next", "none", "--ledger", fmt.Sprintf("%d.sqlite", run))
		began := time.Now()
		if err := cmd.Run(); err != nil {
			b.Fatalf("%v: %s%s", err, out, errOut)
		}
		return time.Since(began), float64(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
	}
	for b.Loop() {
		bare, least := through("one", "1")
		took, most := through("all", "all")
		b.ReportMetric(took.Seconds()/bare.Seconds(), "x-one-slot")
		b.ReportMetric((most-least)/(slots-1), "MB/slot") // Linux counts kilobytes
	}
}
