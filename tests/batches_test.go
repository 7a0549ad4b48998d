//go:build unix

package tests

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"
)

// A batch in a ledger that is a file: loaded, worked through by slots, listed and released; what is
// wrong is told before anything is said.
func TestBatches(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("slots.toml", slotted(2))
	b.start("for other commands", "standin", "slots.toml")
	b.write("tray.csv", "unit,address,power\nLK-1,1,5\nLK-2,2,5\n")
	units := func(args ...string) call {
		return b.run(append([]string{"units"}, append(args, "--ledger", "l.sqlite")...)...)
	}
	run := func(args ...string) call {
		return b.run(append([]string{"run", "anyradio.parrot", "--bench", "slots.toml", "--slots", "all", "--next", "none", "--ledger", "l.sqlite", "--lease", "5s"}, args...)...)
	}
	units("list").wants(t, 2, "there is no ledger at")
	run("--units", "batch:tray").wants(t, 2, "the ledger l.sqlite has no batch: load one with uparrot units load")
	b.write("bad.csv", "unit,power\nLK-1,50\nLK-1,3\n")
	units("load", "bad.csv", "--procedure", "anyradio.parrot").wants(t, 2, "there is no column address", "bad.csv:2:6: 50 is outside 2..20", "unit LK-1 stands in line 2 already")
	units("load", "bad.csv").wants(t, 2, "unit LK-1 stands in line 2 already")
	units("load", "tray.csv", "--set", "address=3").wants(t, 2, "name it with --procedure")
	units("load", "tray.csv", "--procedure", "anyradio.parrot", "--by", "A. Rigger").wants(t, 0, "batch tray: 2 units loaded, 0 there already")
	b.write("tray.csv", "unit,address,power\nLK-1,1,5\nLK-2,9,5\nLK-3,3,5\n")
	units("load", "tray.csv").wants(t, 2, "tray.csv:3:1: LK-2 stands in the batch tray already, with other values")
	units("list").wants(t, 0, "A. Rigger", "2 open")
	units("list", "spring").wants(t, 2, `no batch "spring"`, "tray")
	units("list", "tray", "--state", "done").wants(t, 2, `no state "done"`)
	for want, args := range map[string][]string{
		"a batch in the ledger always goes on": {"--units", "batch:tray", "--go-on"}, `no batch "trai". Did you mean "tray"?`: {"--units", "batch:trai"},
		"load the table with uparrot units load": {"--units", "tray.csv", "--station", "hut"}, "--no-ledger has no place here": {"--units", "batch:tray", "--no-ledger"},
	} {
		run(args...).wants(t, 2, want)
	}
	run("--units", "batch:tray", "--set", "channel=99").wants(t, 2, "99 is outside 0..63")
	run("--units", "batch:tray", "--out", "done.csv").wants(t, 0, "2 of 2 units passed")
	if done := b.read("done.csv"); !strings.Contains(done, "LK-2,passed") {
		t.Error(done)
	}
	units("list", "tray", "--state", "passed", "--json").wants(t, 0, `"state": "passed"`, `"procedure": "Commission a radio of any family"`, `"token": 1`)
	run("--units", "batch:tray").wants(t, 0, "0 of 0 units passed")
	b.write("other.parrot", strings.Replace(b.read("anyradio.parrot"), "of any family", "of some family", 1))
	b.run("run", "other.parrot", "--bench", "slots.toml", "--slots", "all", "--units", "batch:tray", "--ledger", "l.sqlite").wants(t, 2, `is of the procedure "Commission a radio of any family"`)
	units("release", "tray").wants(t, 0, "no unit of tray is broken")
	units("release", "tray", "LK-1", "LK-7").wants(t, 2, "LK-1 is passed, not broken: give --state passed", "there is no unit LK-7")
	units("release", "tray", "LK-1", "--state", "passed").wants(t, 0, "LK-1 goes out again")
	units("release", "tray", "LK-1").wants(t, 2, "LK-1 is open already")
	units("release", "tray", "--state", "claimed").wants(t, 2, `no state "claimed"`)

	// A port that is missing burns no unit: the station stops, and the unit is open still.
	b.write("gone.toml", "[port.r1]\nat = \"/dev/none\"\nphrasebook = \"dunlin.toml\"\n\n[slot.1]\nradio = \"r1\"\n")
	c := b.run("run", "anyradio.parrot", "--bench", "gone.toml", "--slots", "all", "--units", "batch:tray", "--next", "none", "--ledger", "l.sqlite")
	if c.status == 0 || strings.Contains(c.out, "passed  ") {
		t.Errorf("%d: %s%s", c.status, c.out, c.err)
	}
	units("list").wants(t, 0, "1 passed")
}

// Values of pools: each goes to one unit and stays with it, and comes back only where nothing
// that holds it can have been said.
func TestPoolsOfRuns(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	pooled := strings.NewReplacer("input address: int 1..255", "input address: int 1..255 from pool \"addresses\" \"its own\"", "port radio\n", "port radio\nsecret name from pool \"names\"\n",
		"step \"address,", "step \"its name\"\n    say radio: AT~NAME=\"{name}\"\nend\n\nstep \"address,").Replace(b.read("anyradio.parrot"))
	b.write("pooled.parrot", pooled)
	b.run("tidy", "pooled.parrot").wants(t, 0, "input address: int 1..255 from pool \"addresses\" \"its own\"")
	run := func(args ...string) call {
		return b.run(append([]string{"run", "pooled.parrot", "--bench", "larkfell.toml", "--port", "valley", "--ledger", "l.sqlite"}, args...)...)
	}
	pool := func(args ...string) call {
		return b.run(append([]string{"units", "pool"}, append(args, "--ledger", "l.sqlite")...)...)
	}
	pool().wants(t, 0, "there is no such pool")
	run("--unit", "LK-1").wants(t, 3, `the pool "addresses" has no value left: add some with uparrot units pool addresses VALUE...`)
	b.write("names.txt", "sastrugi\n\nrime\n")
	pool("names", "--file", "names.txt", "--secret").wants(t, 0, "2 values added")
	pool("addresses", "300", "011..013").wants(t, 0, "4 values added, 0 there already")
	pool("addresses", "012..014").wants(t, 0, "1 value added, 2 there already")
	pool("addresses", "9..3").wants(t, 2, "wanted LOW..HIGH")
	run("--plan").wants(t, 0, `address is drawn from the pool "addresses" when the run begins`, "AT~NODE={address}")
	run().wants(t, 2, "is given to a unit: name it with --unit")
	run("--unit", "LK-1", "--set", "address=7").wants(t, 2, "leave it out")
	run("--unit", "LK-1", "--no-ledger").wants(t, 2, "--no-ledger has no place here")
	b.write("pooled.parrot", strings.Replace(pooled, "1..255", "1..5", 1))
	run("--unit", "LK-1").wants(t, 3, `the pool "addresses" has no value left that fits: 300 is outside 1..5 for address; 011 is outside 1..5`)
	pool("addresses", "+12", "015").wants(t, 2, "+12 is 012 in another writing", "nothing was added")
	pool("addresses").wants(t, 0, "5 free") // nothing began
	b.write("pooled.parrot", strings.Replace(pooled, "1..255", "1..400", 1))
	c := run("--unit", "LK-1").wants(t, 0, "address is 300")
	if strings.Contains(c.out+c.err, "sastrugi") || !strings.Contains(c.out+c.err, "[secret]") {
		t.Error(c.err)
	}
	run("--unit", "LK-1").wants(t, 0, "address is 300")
	run("--unit", "LK-2").wants(t, 0, "address is 11")
	run("--unit", "LK-3").wants(t, 3, `the pool "names" has no value left`)
	listed := pool().wants(t, 0, "addresses  300       said   LK-1", "addresses  011       said   LK-2", "pool addresses: 3 free", "[secret]").out
	if strings.Contains(listed, "rime") || strings.Contains(listed, "LK-3") {
		t.Error(listed)
	}

	// The ledger is handed over: it holds no secret, nor does what is exported. A second station needs the key.
	b.run("results", "export", "--ledger", "l.sqlite", "--out", "out").wants(t, 0, "")
	key := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "uparrot", "pools.key")
	if files := b.holding("sastrugi", "names.txt"); len(files) > 0 {
		t.Error("a secret of a pool lies in", files)
	}
	pool("names", "hoar", "--secret").wants(t, 0, "1 value added")
	for name, why := range map[string]string{"none.key": "in none.key there is none", "key.txt": "key.txt holds no key of pools"} {
		b.write("key.txt", "12ab\n")
		run("--unit", "LK-3", "--pool-key", name).wants(t, 3, why)
	}
	pool("names", "glaze", "--secret", "--pool-key", "none.key").wants(t, 2, "in none.key there is none. Copy the key from the station", "Nothing was added")
	pool("names", "glaze").wants(t, 2, "are secrets, and what is added would be shown: add it with --secret")
	pool("addresses", "1000", "--secret").wants(t, 2, "has values that are shown")
	copied, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	b.write("copy.key", string(copied))
	run("--unit", "LK-3", "--pool-key", "copy.key").wants(t, 0, "address is 12")
	pool("names", "glaze", "--secret").wants(t, 0, "1 value added")
	b.write("shown.parrot", "procedure \"Shown\"\nport radio\ninput name: text from pool \"names\"\nstep \"s\"\n    say radio: AT~NAME=\"{name}\"\nend\n")
	b.run("run", "shown.parrot", "--bench", "larkfell.toml", "--port", "valley", "--ledger", "l.sqlite", "--unit", "LK-7").wants(t, 3, `the pool "names" holds secrets, and the input name is shown: write secret name from pool "names"`)
	pool("none", "--secret").wants(t, 2, `there is no pool "none" whose values could be hidden`)
	pool("spare", "moss").wants(t, 0, "1 value added")
	pool("spare", "--secret").wants(t, 0, "pool spare: 1 value hidden, 0 secrets already")
	pool("spare").wants(t, 0, "spare: 1 free")
	if files := b.holding("moss"); len(files) > 0 {
		t.Error("a hidden value lies in", files)
	}

	// It fails before anything is worked out with the address.
	b.write("pooled.parrot", "procedure \"Mute\"\nport radio\ninput address: int from pool \"addresses\"\nstep \"contact\"\n    say radio: AT~NONE\nend\nstep \"address\"\n    say radio: AT~NODE={address}\nend\n")
	run("--unit", "LK-4").wants(t, 1, "address is 13")
	pool("addresses").wants(t, 0, "pool addresses: 2 free")
	b.write("pooled.parrot", strings.Replace(b.read("pooled.parrot"), "AT~NONE", "AT", 1))
	run("--unit", "LK-5").wants(t, 0, "address is 13")
	pool("few", "900", "hut", "7").wants(t, 0, "3 values added")
	b.write("pooled.parrot", "procedure \"Few\"\nport radio\ninput address: int 1..255 from pool \"few\"\nstep \"address\"\n    say radio: AT~NODE={address}\nend\n")
	run("--unit", "LK-6").wants(t, 0, "address is 7", "a value of the pool few is passed over: 900 is outside 1..255 for address", `address is a whole number, not "hut"`)
	for line, want := range map[string]string{
		"input a: int from pool": "wanted the name of a pool", "input a from the pool": "wanted pool after from", "input a from pool \"\"": "the pool has no name", "secret a from pool \"x\" = 3": "",
	} {
		b.write("bad.parrot", "procedure \"Bad\"\n"+line+"\nstep \"s\"\n    pause 1ms\nend\n")
		b.run("check", "bad.parrot").wants(t, 2, want)
	}
}

// Another module in the place of one: known by its serial number, with the faults it is given.
func TestSwap(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("one.csv", "unit,address,port\nLK-1,1,valley\n")
	run := func(status int, words ...string) {
		t.Helper()
		b.run("run", "anyradio.parrot", "--bench", "larkfell.toml", "--units", "one.csv", "--next", "none", "--ledger", "l.sqlite", "--set", "power=3").wants(t, status, words...)
	}
	swap := func(status int, order string, words ...string) {
		t.Helper()
		b.run("standin", "larkfell.toml", "--tell", order).wants(t, status, words...)
		b.run("run", "hear.parrot", "--bench", "larkfell.toml", "--no-ledger", "--quiet")
	}
	b.write("hear.parrot", "procedure \"It is up\"\nport valley: phrasebook \"dunlin.toml\"\nstep \"s\" tries 20 every 200ms\n    say valley: AT\nend\n")
	run(0, "1 of 1 unit passed")
	b.write("one.csv", "unit,address,port\nLK-2,2,valley\n")
	run(4, "which passed this as LK-1 on")
	swap(0, "swap valley")
	run(0, "1 of 1 unit passed")
	b.run("results", "unit", "LK-2", "--ledger", "l.sqlite").wants(t, 0, "serial number")
	b.write("one.csv", "unit,address,port\nLK-3,3,valley\n")
	swap(0, "swap valley serial=DL-777 loses=power")
	run(1, "power has not taken the value")
	b.run("results", "unit", "LK-3", "--ledger", "l.sqlite").wants(t, 0, "DL-777")
	swap(2, "swap valley colour=red", "put another module at valley", "no setting \"colour\"")
	swap(2, "swap mast", "no stand-in \"mast\"")
	swap(2, "swap valley red", "wanted NAME=VALUE")
}

// A table of 200,000 units is read row by row: in less than 60 MB in all, where each row kept took 1.7 kB.
func TestLargeTable(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	var text strings.Builder
	text.WriteString("unit,address,power\n")
	for i := range 200_000 {
		fmt.Fprintf(&text, "LK-%06d,%d,14\n", i, i%65_000+1)
	}
	b.write("large.csv", text.String())
	cmd, out, errs := b.command("units", "load", "large.csv", "--ledger", "l.sqlite")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	// The most that the system counts for a process that has ended is at least what its parent held when
	// it was begun, so the process is looked at while it lives.
	most, over := 0, make(chan struct{})
	var looks sync.WaitGroup
	looks.Go(func() {
		for tick := time.Tick(5 * time.Millisecond); ; {
			if status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid)); err == nil {
				_, held, _ := strings.Cut(string(status), "VmHWM:")
				_, _ = fmt.Sscanf(held, "%d kB", &most) // one that has ended has none
			}
			select {
			case <-over:
				return
			case <-tick:
			}
		}
	})
	err := cmd.Wait()
	close(over)
	looks.Wait()
	if err != nil || !strings.Contains(out.String(), "200000 units loaded") {
		t.Fatal(err, out, errs)
	}
	if runtime.GOOS == "linux" && (most < 10<<10 || most > 60<<10) {
		t.Errorf("it took %d KiB", most)
	}
}
