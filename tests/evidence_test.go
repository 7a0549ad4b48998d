//go:build unix

package tests

import (
	"bufio"
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	_ "modernc.org/sqlite"

	"uparrot/core/record"
	"uparrot/tests/postgres"
)

// soak is a procedure with many verdicts.
func soak(steps int) string {
	var b strings.Builder
	b.WriteString("procedure \"Soak\"\nport radio: phrasebook \"dunlin.toml\"\nsecret key\n")
	for i := range steps {
		fmt.Fprintf(&b, "step \"round %d\"\n    say radio: AT~NAME=\"{key}\"\n    say radio: AT~POWER?\n    hear radio: ~POWER: {power:int}\n    limit power in 0..14 dBm\nend\n", i)
	}
	return b.String()
}

// What the program leaves when it is killed at any moment: a record that reads up
// to then and is not altered, a ledger that opens and has lost nothing, and no
// step filed that the record does not have.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	const kills, workers = 200, 2
	var all sync.WaitGroup
	for worker := range workers {
		b := newBench(t)
		// Its steps take a while each, so that a run lasts as long as the machine is busy, and longer.
		b.write("soak.parrot", strings.ReplaceAll(soak(25), "\nend\n", "\n    pause 4ms\nend\n"))
		b.start("for other commands", "standin", "dunlin.toml")
		all.Go(func() { b.killed(rand.New(rand.NewPCG(1, uint64(worker))), kills/workers) })
	}
	all.Wait()
}

func (b *bench) killed(dice *rand.Rand, times int) {
	t := b.t
	filed := map[string]string{} // verdicts, by run
	whole, midway := 0, 0
	env := append(os.Environ(), "UPARROT_KEY=gr4nite")
	args := []string{"run", "soak.parrot", "--port", "dunlin.ports/dunlin", "--ledger", "l.sqlite", "--quiet"}
	one, _, _ := b.command(append(args, "--record", "first.record", "--unit", "first")...)
	one.Env = env
	began := time.Now()
	if err := one.Run(); err != nil {
		t.Error(err)
		return
	}
	long := time.Since(began) * 5 / 4 // the kills come at any moment of a run, and a little after it
	for i := range times {
		name := filepath.Join(b.dir, fmt.Sprintf("%d.record", i))
		cmd, _, said := b.command(append(args, "--record", name, "--unit", fmt.Sprint(i%7))...)
		cmd.Env = env
		if err := cmd.Start(); err != nil {
			t.Error(err)
			return
		}
		time.Sleep(time.Duration(dice.Int64N(int64(long)))) // the moment is the matter of this test
		cmd.Process.Kill()
		_ = cmd.Wait() // it was killed, or had ended
		steps, run := map[string]bool{}, ""
		if text, err := os.ReadFile(name); err == nil && len(text) > 0 {
			state, err := record.Read(bytes.NewReader(text), func(e record.Event) error {
				if e.Kind == record.Step && e.Verdict != "" {
					steps[e.Step] = true
				}
				return nil
			})
			if err != nil && state.Events > 0 || state.Altered != "" || bytes.Contains(text, []byte("gr4nite")) {
				t.Errorf("kill %d: the record is %s, %v\n%s", i, state.Words(), err, said)
			}
			run = state.Origin.Run
			if state.Whole() {
				whole++
			} else if len(steps) > 0 {
				midway++
			}
		}
		if _, err := os.Stat(filepath.Join(b.dir, "l.sqlite")); err != nil {
			continue
		}
		var runs []struct{ Run, Verdict string }
		c := b.run("results", "--ledger", "l.sqlite", "--last", "0", "--json")
		if err := json.Unmarshal([]byte(c.out), &runs); err != nil || c.status != 0 {
			t.Errorf("kill %d: the ledger: %v, %s", i, err, c.err)
			return
		}
		now := map[string]string{}
		for _, r := range runs {
			now[r.Run] = r.Verdict
		}
		for r, v := range filed {
			if now[r] != v {
				t.Errorf("kill %d: run %s was %s and is %q", i, r, v, now[r])
			}
		}
		filed = now
		if now[run] == "" {
			continue
		}
		var shown struct{ Steps []struct{ Title string } }
		if err := json.Unmarshal([]byte(b.run("results", "show", run, "--ledger", "l.sqlite", "--json").out), &shown); err != nil {
			t.Errorf("kill %d: %v", i, err)
		}
		for _, s := range shown.Steps {
			if !steps[s.Title] {
				t.Errorf("kill %d: %s is filed and not on record", i, s.Title)
			}
		}
	}
	t.Logf("of %d kills %d came in the middle of a run, %d behind it", times, midway, whole)
	if midway < times/10 {
		t.Errorf("of %d kills only %d came in the middle of a run, %d behind it", times, midway, whole)
	}
}

// Where evidence cannot be kept the run goes on, its verdict stands, and the exit
// status tells; a verdict that is not passed goes before that.
func TestEvidenceThatCannotBeKept(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "dunlin.toml")
	b.write("soak.parrot", soak(25))
	env := []string{"UPARROT_KEY=gr4nite"}
	run := func(more ...string) call {
		return b.runWith(env, "", append([]string{"run", "soak.parrot", "--port", "dunlin.ports/dunlin", "--quiet"}, more...)...)
	}
	// Nobody, not even root, makes files there.
	run("--record", "/sys/r.record", "--ledger", "a.sqlite").wants(t, 2, "make the record:")
	run("--record", "b.record", "--ledger", "/sys/l.sqlite").wants(t, 2, "open the ledger /sys/l.sqlite: the folder takes no file")
	run("--record", "b.record", "--no-ledger").wants(t, 0, "all 25 steps")
	run("--record", "none/r.record", "--no-ledger").wants(t, 2, "no such file or directory")
	b.run("results", "add", "b.record", "--ledger", "a.sqlite").wants(t, 0, "b.record is filed as run")
	b.run("results", "--ledger", "a.sqlite", "--procedure", "soak").wants(t, 0, "passed")
	b.write("soak.parrot", strings.Replace(soak(25), "0..14", "20..30", 1))
	run("--no-ledger").wants(t, 1, "failed: 0 of 25 steps passed")
	b.write("soak.parrot", soak(25))

	// A disk that is full: no file of this program may grow beyond 8 KiB.
	full := exec.Command("bash", "-c", `ulimit -f 8; exec "$0" "$@"`, uparrot, "run", "soak.parrot", "--port", "dunlin.ports/dunlin", "--record", "full.record", "--no-ledger")
	full.Dir, full.Env = b.dir, append(os.Environ(), env...)
	out, err := full.CombinedOutput()
	call{b.status(err), string(out), ""}.wants(t, 5, "write the record", "The run goes on", "all 25 steps", "the record is not complete")
	b.run("report", "full.record", "--verify").wants(t, 4, "cut short")
	b.run("report", "full.record").wants(t, 0, "UNFINISHED", "cut short")

	// A ledger that another program keeps locked.
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.dir, "a.sqlite")+"?_txlock=immediate")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	lock, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	b.run("results", "--ledger", "a.sqlite").wants(t, 0, "passed") // reading needs no lock
	run("--record", "c.record", "--ledger", "a.sqlite").wants(t, 5, "kept it locked for more than 5s", "all 25 steps", "is filed by itself when the ledger can be written: c.record")
	if err := lock.Rollback(); err != nil {
		t.Fatal(err)
	}
	b.run("results", "add", "c.record", "b.record", "--ledger", "a.sqlite").wants(t, 0)
}

// From a run to each thing that is made of it, as a user would go.
func TestEvidence(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	commission := func(unit, power string, more ...string) call {
		b.write("c.parrot", strings.Replace(b.read("commission.parrot"), "0..14", power, 1))
		return b.run(append([]string{"run", "c.parrot", "--bench", "larkfell.toml", "--port", "valley", "--set", "address=3", "--ledger", "l.sqlite", "--unit", unit, "--by", "A. Rigger"}, more...)...)
	}
	commission("../../LK 17", "0..10").wants(t, 1, "record: records/")
	commission("../../LK 17", "0..14", "--record", "second.record").wants(t, 0)
	commission("LK 18", "0..14").wants(t, 0)
	commission("LK 18", "0..14", "--record", "second.record", "--no-ledger").wants(t, 2, "a record is never replaced", "--keep-both")
	commission("LK 18", "0..14", "--record", "second.record", "--no-ledger", "--keep-both").wants(t, 0, "second.record exists, so the record is second-2.record")
	found, err := filepath.Glob(filepath.Join(b.dir, "records", "*", "*-commission-a-tower-radio-lk-17-*.record"))
	if err != nil || len(found) != 1 {
		t.Fatalf("%v, %v", found, err)
	}
	for _, path := range append(found, filepath.Join(b.dir, "l.sqlite"), filepath.Join(b.dir, "second.record")) {
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", path, info.Mode(), err)
		}
	}
	for _, c := range []struct {
		args  string
		words []string
	}{
		{"results", []string{"../../LK 17", "failed", "LK 18", "passed"}},
		{"results yield", []string{"2 in 3 runs", "first pass  1 of 2: 50.00 %", "final       2 of 2: 100.00 %", "power is within the licence: 1 run at 1 unit"}},
		{"results show last", []string{"operator       A. Rigger", "intact, matches the ledger", "0..14 dBm", "dunlin.toml"}},
		{"results trend", []string{"transmitted power"}},
		{"results export --table measurements", []string{"transmitted power,14,0,10,dBm"}},
		{"results export --as json", []string{`"unit": "../../LK 17"`}},
	} {
		b.run(append(strings.Fields(c.args), "--ledger", "l.sqlite")...).wants(t, 0, c.words...)
	}
	b.run("results", "trend", "transmitted power", "--ledger", "l.sqlite", "--plot", "t.png").wants(t, 0, "3 values at 2 units", "limits   not the same")
	b.run("results", "trend", "transmited power", "--ledger", "l.sqlite").wants(t, 2, "transmitted power")
	b.run("results", "--ledger", "none.sqlite").wants(t, 2, "there is no ledger at none.sqlite")
	b.run("results", "--ledger", "l.sqlite", "--since", "yesterday").wants(t, 2, "neither a day")
	var runs []struct{ Run string }
	if err := json.Unmarshal([]byte(b.run("results", "--ledger", "l.sqlite", "--json").out), &runs); err != nil || len(runs) != 3 {
		t.Fatalf("%v, %v", runs, err)
	}
	b.run("results", "compare", runs[0].Run, runs[1].Run[:8], "--ledger", "l.sqlite").wants(t, 0, "changed", "+0 dBm")

	b.run("report", "second.record", "--verify").wants(t, 0, "second.record is whole")
	b.run("report", "second.record", "--as", "html", "--out", "r.html").wants(t, 0)
	if page := b.read("r.html"); !strings.Contains(page, "A. Rigger") || !strings.HasSuffix(page, "</html>\n") {
		t.Error("the page is not whole")
	}
	b.run("report", "second.record", "--as", "word").wants(t, 2, "no form")
	b.run("report", "second.record", "--as", "csv", "--table", "frames").wants(t, 3, "no link frames", "4 measurements")
	b.write("second.record", strings.Replace(b.read("second.record"), "tower 3", "tower 4", 1))
	b.run("report", "second.record", "--verify").wants(t, 1, "altered", "the change lies in lines")
	b.run("report", "second.record").wants(t, 1, "altered")
	b.run("results", "show", runs[1].Run, "--ledger", "l.sqlite").wants(t, 0, "altered")
	b.run("results", "add", "second.record", "--ledger", "l.sqlite").wants(t, 3, "altered")
}

// database is an empty PostgreSQL server.
func (b *bench) database() *postgres.Server {
	b.t.Helper()
	s, err := postgres.Start()
	if err == postgres.ErrMissing {
		b.t.Skip("NOT TESTED: " + err.Error())
	}
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(s.Stop)
	return s
}

// Several stations share a ledger on PostgreSQL.
func TestSharedLedger(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	url := b.database().URL
	b.start("for other commands", "standin", "larkfell.toml")
	var both sync.WaitGroup
	for i, port := range []string{"valley", "summit"} {
		both.Go(func() {
			c := b.runWith([]string{"UPARROT_LEDGER=" + url}, "", "run", "commission.parrot", "--bench", "larkfell.toml", "--port", port, "--set", fmt.Sprintf("address=%d", i+1), "--unit", port)
			if c.status != 0 {
				t.Errorf("%d: %s", c.status, c.err)
			}
		})
	}
	both.Wait()
	b.run("results", "--ledger", url).wants(t, 0, "valley", "summit", "passed")
	b.run("results", "show", "last", "--ledger", url).wants(t, 0, "intact, matches the ledger")
	b.run("results", "export", "--ledger", url, "--table", "steps").wants(t, 0, "the radio answers,passed,1")
}

// What was done by hand becomes a procedure that does it again, at the module and
// at a stand-in made of the record.
func TestLearnAndAgain(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "workshop.toml")
	// hand says lines, each when the answer to the one before has come, as a person
	// does: each line has that behind a bar.
	hand := func(port, record string, lines ...string) {
		t.Helper()
		cmd := exec.Command(uparrot, "talk", port, "--bench", "workshop.toml", "--record", record)
		cmd.Dir = b.dir
		in, err1 := cmd.StdinPipe()
		out, err2 := cmd.StdoutPipe()
		if err := errors.Join(err1, err2, cmd.Start()); err != nil {
			t.Fatal(err)
		}
		heard := bufio.NewReader(out)
		for _, l := range lines {
			said, until, _ := strings.Cut(l, "|")
			fmt.Fprintln(in, said)
			for text := ""; !strings.Contains(text, "< "+until); {
				var err error
				if text, err = heard.ReadString('\n'); err != nil {
					t.Fatalf("%s: waiting for %q: %v", l, until, err)
				}
			}
		}
		in.Close()
		if err := cmd.Wait(); err != nil {
			t.Fatal(err)
		}
	}
	cycle := func() {
		for _, name := range []string{"pager", "badge"} {
			b.run("standin", "workshop.toml", "--tell", "power "+name+" cycle").wants(t, 0)
		}
	}
	cycle()
	hand("pager", "pager.record", "hello|no 9", "hello|siskin", "seek|peers", "join 02.1B.66.A2.0F.48|no 2", "nmae|no 1", "name gondola 4|name", "name|name", "join 021B66A20F48|joined")
	b.run("learn", "pager.record", "--out", "pager.parrot").wants(t, 0, "no mistakes")
	learned := b.read("pager.parrot")
	for _, want := range []string{
		"step \"is it there\" tries 3 every 500ms", "input name: text = \"gondola 4\"", "hear pager: name {=name}", "# Left out: nmae (refused: no 1)", "# Left out: join 02.1B.66.A2.0F.48 (refused: no 2)",
		"input peer: text = \"02.1B.66.A2.0F.48\" \"which one is meant\"", "hear pager: peer {=peer} {value:int}", "say pager: join {replace(", "hear pager: joined {=replace(", "phrasebook \"siskin.toml\"",
	} {
		if !strings.Contains(learned, want) {
			t.Errorf("missing %q in\n%s", want, learned)
		}
	}
	if tidied := b.run("tidy", "pager.parrot").wants(t, 0).out; tidied != learned {
		t.Errorf("tidy makes of it\n%s", tidied)
	}
	b.run("learn", "pager.record", "--out", "pager.parrot").wants(t, 2, "exists")
	cycle()
	b.run("run", "pager.parrot", "--bench", "workshop.toml", "--no-ledger").wants(t, 0, "passed")

	b.write("ready.parrot", "procedure \"Wait for the console\"\nport tower: phrasebook \"bittern-tower.toml\"\nstep \"it asks who is there\" tries 20\n    say tower:\n    hear bytes tower: name:\nend\n")
	b.run("run", "ready.parrot", "--bench", "workshop.toml", "--no-ledger").wants(t, 0)
	b.runWith(nil, "ops\nsnowline\nlogs\n", "talk", "tower", "--bench", "workshop.toml", "--record", "tower.record").wants(t, 0, "rope.log")
	if text := b.read("tower.record"); strings.Contains(text, "snowline") || !strings.Contains(text, "[secret]") {
		t.Error("the answer to a question for a code is on record")
	}
	b.run("learn", "tower.record", "--out", "tower2.parrot").wants(t, 0)
	if text := b.read("tower2.parrot"); !strings.Contains(text, "secret password") || !strings.Contains(text, "say tower: {password}") {
		t.Errorf("no secret in\n%s", text)
	}

	b.start("for other commands", "standin", "--from-record", "pager.record")
	c := b.run("run", "pager.parrot", "--port", "pager.ports/pager", "--no-ledger").wants(t, 0, "passed")
	if !strings.Contains(c.err, "joined 021B66A20F48") {
		t.Errorf("the record was not answered again:\n%s", c.err)
	}
	b.run("standin", "--from-record", "workshop.toml").wants(t, 2, "not a record")
	b.run("standin").wants(t, 2, "--from-record")
}

// A measured value that is no number stands as such in every form, and in the ledger.
func TestNoNumber(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("gates.toml", "[port.gates]\nphrasebook = \"redshank.toml\"\n[port.gates.standin]\nfamily = \"redshank\"\nsettings = { board = 3 }\n")
	b.write("none.parrot", "procedure \"None\"\nkeep going\nport gates: dialect lines, ending lf\nstep \"quotient\"\n    say gates: who\n    hear gates: redshank board {board:int}\n    let less = board - 3\n    limit 5 / less in 1..9 V \"supply\"\nend\nstep \"neither\"\n    limit less / less in 1.. \"share\"\nend\nstep \"both\"\n    limit 4 in 1..9 V \"supply\"\n    check 5 / less > 4\nend\n")
	b.start("for other commands", "standin", "gates.toml")
	b.run("run", "none.parrot", "--bench", "gates.toml", "--record", "none.record", "--ledger", "l.sqlite").wants(t, 1, "supply is +Inf: no number to hold against 1..9 V", "share is NaN: no number", "failed: 1 of 3")
	b.run("run", "none.parrot", "--bench", "gates.toml", "--json", "--ledger", "l.sqlite").wants(t, 1, `"value": "+Inf"`, `"value": "NaN"`)
	for _, form := range []string{"text", "markdown", "html", "csv", "junit"} {
		b.run("report", "none.record", "--as", form).wants(t, 0, "+Inf")
	}
	b.run("report", "none.record").wants(t, 0, "+Inf V", "NaN")
	b.run("report", "none.record", "--verify").wants(t, 0)
	b.run("results", "trend", "supply", "--ledger", "l.sqlite").wants(t, 0, `in the steps "quotient", "both": each by itself`, "2 of 2 are no number", "mean     none", "mean     4 V")
	b.run("results", "trend", "share", "--ledger", "l.sqlite", "--json").wants(t, 0, `"no_number": 2`, `"mean": "NaN"`)
	b.run("results", "trend", "share", "--ledger", "l.sqlite", "--plot", "x.png").wants(t, 2, "nothing to draw")
	b.run("results", "trend", "supply", "--ledger", "l.sqlite", "--plot", "y.png").wants(t, 2, "choose one for the picture with --step or --in")
	b.run("results", "trend", "supply", "--ledger", "l.sqlite", "--step", "both", "--plot", "y.png").wants(t, 0, "2 values", "standard deviation 0 V")
	b.run("results", "add", "none.record", "--ledger", "again.sqlite").wants(t, 0)
	b.run("results", "export", "--ledger", "again.sqlite", "--as", "json").wants(t, 0)
}

// No output destroys what is there: not what exists, nor evidence, nor what the command
// reads, nor another output of its own. What was refused left no file.
func TestOutputsNeverDestroy(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.standins()
	on := []string{"--bench", "larkfell.ports/bench.toml"}
	link := func(more ...string) call {
		return b.run(append(append([]string{"link", "test", "valley", "summit", "--count", "2", "--every", "20ms", "--quiet", "--no-ledger"}, on...), more...)...)
	}
	link("--record", "l.record").wants(t, 0)
	b.run("results", "add", "l.record", "--ledger", "l.sqlite").wants(t, 0)
	b.write("old.csv", "old")
	b.write("old-time.svg", "old")
	before := b.read("l.record")
	for _, c := range []struct {
		args  []string
		words string
	}{
		{[]string{"report", "l.record", "--out", "l.record"}, "is what this command reads"},
		{[]string{"report", "l.record", "--out", "l.record", "--overwrite"}, "is what this command reads"},
		{[]string{"report", "l.record", "--out", "old.csv"}, "--out old.csv exists. Choose another name, or give --overwrite"},
		{[]string{"report", "l.record", "--out", "l.sqlite", "--overwrite"}, "is a ledger, which nothing replaces"},
		{[]string{"results", "export", "--ledger", "l.sqlite", "--out", "l.sqlite", "--overwrite"}, "is what this command reads"},
		{[]string{"results", "export", "--ledger", "l.sqlite", "--out", "l.record", "--overwrite"}, "is a record"},
		{[]string{"results", "trend", "x", "--ledger", "l.sqlite", "--plot", "old-time.svg"}, "exists"},
		{[]string{"learn", "l.record", "--out", "old.csv"}, "exists"},
		{[]string{"link", "compare", "l.record", "l.record", "--plot", "old-time.svg"}, "exists"},
	} {
		b.run(c.args...).wants(t, 2, c.words)
	}
	link("--frames", "l.record", "--overwrite").wants(t, 2, "is a record")
	link("--frames", "old.csv").wants(t, 2, "exists")
	link("--plot", "old.svg").wants(t, 2, "old-time.svg exists")
	link("--frames", "x.csv", "--checkpoint", "x.csv").wants(t, 2, "--frames and --checkpoint are both x.csv")
	// What is written again and again keeps the rule too.
	for _, name := range []string{"larkfell.toml", "dunlin.toml", "kept.txt"} {
		b.write("kept.txt", "kept")
		before := b.read(name)
		b.run("standin", "larkfell.toml", "--truth", name).wants(t, 2)
		link("--count", "2", "--checkpoint", name).wants(t, 2)
		link("--count", "2", "--checkpoint", name, "--keep-both").wants(t, 0)
		if b.read(name) != before {
			t.Errorf("%s was replaced", name)
		}
	}
	if b.read("l.record") != before || b.read("old.csv") != "old" || b.read("old-time.svg") != "old" {
		t.Error("something was lost")
	}
	if left, _ := filepath.Glob(filepath.Join(b.dir, "*x*.csv*")); len(left) > 0 {
		t.Errorf("refused, and there is %v", left)
	}
	b.run("report", "l.record", "--as", "csv", "--out", "old.csv", "--keep-both").wants(t, 0, "written to old-2.csv")
	b.run("report", "l.record", "--as", "csv", "--out", "old.csv", "--overwrite").wants(t, 0)
	if got := b.read("old.csv"); got == "old" || got != b.read("old-2.csv") {
		t.Errorf("overwritten with %q", got)
	}
	if err := os.Symlink("commission.parrot", filepath.Join(b.dir, "link.parrot")); err != nil {
		t.Fatal(err)
	}
	b.write("commission.parrot", strings.Replace(b.read("commission.parrot"), "    say radio: AT\n", "  say radio:  AT\n", 1))
	b.run("tidy", "--write", "link.parrot").wants(t, 0)
	if info, err := os.Lstat(filepath.Join(b.dir, "link.parrot")); err != nil || info.Mode()&os.ModeSymlink == 0 || strings.Contains(b.read("commission.parrot"), "  say radio:  AT") {
		t.Errorf("tidied through a link: %v, %v", info.Mode(), err)
	}
}

// The plan tells all that can be known before a port is opened, and what a job publishes
// is of its own run.
func TestPlanAndReportOfRun(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	plan := func(args ...string) call {
		return b.run(append([]string{"run", "commission.parrot", "--set", "address=3", "--plan"}, args...)...)
	}
	plan().wants(t, 0, "not yet: where is the procedure's port radio?", "say radio: AT")
	plan("--bench", "larkfell.toml", "--port", "valley").wants(t, 0, "not yet: port valley is a stand-in that is not running", "say radio: AT")
	b.start("for other commands", "standin", "larkfell.toml")
	on := []string{"--bench", "larkfell.toml", "--port", "valley"}
	if c := plan(on...).wants(t, 0, "say radio: AT"); strings.Contains(c.out+c.err, "not yet") {
		t.Error(c.err)
	}
	for _, bad := range [][]string{
		{"--speed", "5"}, {"--frame", "9Z1"}, {"--operator", "whoever"}, {"--answers", "missing.toml"}, {"--phrasebook", "missing.toml"}, {"--bench", "missing.toml"},
		{"--port", "ftp://127.0.0.1:5"}, {"--only", "nothing of that name"}, {"--repeat-failed", "missing.record"}, {"--as", "junit"}, {"--out", "x.xml", "--as", "nonsense"}, {"--out", "none/x.xml"},
	} {
		plan(bad...).wants(t, 2)
	}
	run := func(args ...string) call {
		return b.run(append(append([]string{"run", "commission.parrot", "--set", "address=3"}, on...), args...)...)
	}
	run("--record", "ci.record", "--as", "junit", "--out", "ci.xml", "--json", "--unit", "LK-0017").wants(t, 0, `"record": "ci.record"`, `"unit": "LK-0017"`, `"began": "20`, `"run": "`)
	if xml := b.read("ci.xml"); !strings.Contains(xml, "<testcase") || !strings.Contains(xml, "LK-0017") || strings.Contains(xml, "<failure") {
		t.Error(xml)
	}
	// A second run does not hide behind the first.
	b.write("commission.parrot", strings.Replace(b.read("commission.parrot"), "0..14", "0..10", 1))
	run("--record", "ci.record", "--as", "junit", "--out", "ci-2.xml").wants(t, 2, "a record is never replaced")
	run("--record", "ci-2.record", "--as", "junit", "--out", "ci.xml").wants(t, 2, "ci.xml exists")
	run("--record", "ci-2.record", "--as", "junit", "--out", "ci.xml", "--overwrite").wants(t, 1)
	if xml := b.read("ci.xml"); !strings.Contains(xml, "<failure") {
		t.Error(xml)
	}
	// A report of the run before does not stand for one that did not begin.
	run("--record", "ci-2.record", "--as", "junit", "--out", "ci.xml", "--overwrite").wants(t, 2, "a record is never replaced")
	if _, err := os.Stat(b.dir + "/ci.xml"); err == nil {
		t.Error("the report of an earlier run is still there")
	}
	// Nothing that the command reads, nor its record, is replaced.
	for _, name := range []string{"commission.parrot", "dunlin.toml", "larkfell.toml", "ci.record"} {
		before := b.read(name)
		if run("--record", "ci-3.record", "--out", name, "--overwrite").wants(t, 2, name); b.read(name) != before {
			t.Errorf("%s was replaced", name)
		}
	}
	run("--record", "ci-4.record", "--out", "ci-4.record", "--overwrite").wants(t, 2, "--record and --out are both ci-4.record")
	b.run("link", "test", "valley", "summit", "--bench", "larkfell.toml", "--count", "2", "--frames", "dunlin.toml", "--overwrite").wants(t, 2, "what this command reads")
	b.run("link", "test", "valley", "summit", "--bench", "larkfell.toml", "--count", "2", "--record", "x.record", "--frames", "x.record").wants(t, 2, "--record and --frames are both x.record")
	// A record of another procedure is none to repeat.
	b.write("other.parrot", "procedure \"Other\"\nport radio: dialect at, ending cr, phrasebook \"dunlin.toml\"\nstep \"it answers\"\n    say: AT\nend\n")
	b.run(append([]string{"run", "other.parrot", "--plan", "--repeat-failed", "ci-2.record"}, on...)...).wants(t, 2, `that is a record of "Commission a tower radio", not of "Other"`)
	// A file that is no record is wrong use in every command.
	for _, args := range [][]string{{"report"}, {"report", "--verify"}, {"learn"}, {"results", "add", "--ledger", "l.sqlite"}, {"link", "compare", "ci.record"}} {
		b.run(append(args, "dunlin.toml")...).wants(t, 2)
	}
	// What cannot be decided is said before the start.
	b.write("few.parrot", "procedure \"Few\"\nport a: phrasebook \"dunlin.toml\", dialect at, ending cr\nport b: phrasebook \"dunlin.toml\", dialect at, ending cr\nstep \"link\"\n    link a b count 60 every 50ms loss <= 5%\nend\n")
	b.run("check", "few.parrot").wants(t, 0, "60 frames cannot decide this limit", "count 73")
	b.write("few.parrot", strings.Replace(b.read("few.parrot"), " loss <= 5%", "", 1))
	b.run("check", "few.parrot").wants(t, 0, "this link has no limit, so nothing of it is judged")
	// Warnings of a kind are one line, and a run tells all in one.
	b.write("many.parrot", "procedure \"Many\"\nport gates: dialect lines, ending lf\nstep \"who\"\n    say gates: who\n    hear gates: {a:word} {b:word} {c:int}\nend\n")
	b.run("check", "many.parrot").wants(t, 0, "nothing reads a (line 5), nothing reads b (line 5), nothing reads c (line 5)\n    Check it, or write ... in its place.")
	if told := b.run("run", "many.parrot", "--port", "gates=none.pty", "--no-ledger").wants(t, 2, "warning: line 5: nothing reads a, and 2 more: uparrot check many.parrot tells what to do").err; strings.Count(told, "nothing reads") != 1 {
		t.Error(told)
	}
}

// A crib sheet becomes a procedure that passes a module which answers so, and fails one that
// does not; so does the log of another program.
func TestLearnFromNotes(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "workshop.toml")
	crib := "> hello\n< siskin 1.7\n> name gondola 4\n< name gondola 4\n> name\n< name gondola 4\n"
	log := "noise\n10.1 TX hello\n10.2 RX siskin 1.7\n11 TX name gondola 4\n11.1 RX name gondola 4\n"
	b.write("crib.txt", crib)
	b.write("crib-wrong.txt", strings.Replace(crib, "siskin 1.7", "siskin of the summit", 1))
	b.write("other.log", log)
	b.write("bare.txt", "hello\nname\n")
	learn := func(out string, args ...string) call {
		return b.run(append([]string{"learn", "--phrasebook", "siskin.toml", "--port", "pager", "--out", out}, args...)...)
	}
	learn("good.parrot", "--from-list", "crib.txt").wants(t, 0, "2 steps, no mistakes")
	learn("wrong.parrot", "--from-list", "crib-wrong.txt").wants(t, 0)
	learn("log.parrot", "--from-log", "other.log", "--columns", "{time:word} {way:word} {text}", "--ways", "TX,RX").wants(t, 0, "1 line of other.log skipped: not as --columns says")
	learn("bare.parrot", "--from-list", "bare.txt").wants(t, 0)
	if text := b.read("bare.parrot"); strings.Count(text, "nothing is checked here yet") != 2 {
		t.Errorf("a list without answers gives\n%s", text)
	}
	learn("x.parrot", "--from-list", "crib.txt", "crib.txt").wants(t, 2, "wanted records, or one of")
	learn("crib.txt", "--from-list", "crib.txt", "--overwrite").wants(t, 2, "is what this command reads")
	learn("x.parrot", "--from-log", "other.log", "--columns", "{text}").wants(t, 2, "do not say where way stands")
	learn("x.parrot", "--from-list", "none.txt").wants(t, 2, "none.txt")
	b.run("talk", "pager", "--bench", "workshop.toml", "--for", "10ms") // it sleeps until somebody speaks
	b.runWith(nil, "hello\n", "talk", "pager", "--bench", "workshop.toml")
	for file, want := range map[string]int{"good.parrot": 0, "log.parrot": 0, "wrong.parrot": 1} {
		b.run("run", file, "--bench", "workshop.toml", "--no-ledger").wants(t, want)
	}
}
