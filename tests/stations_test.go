//go:build unix

package tests

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"

	"uparrot/core/ledger"
	"uparrot/core/record"
	"uparrot/core/verdict"
	"uparrot/tests/postgres"
)

// stationsBench is a bench whose stand-ins answer at once and do not say who they are, so that one
// can stand for many modules.
func stationsBench(t testing.TB, ports int) *bench {
	b := newBench(t)
	text := b.read("dunlin.toml")
	for _, id := range strings.SplitAfter(text, "[[identity]]")[1:] {
		id, _, _ = strings.Cut(id, "[[")
		text = strings.Replace(text, "[[identity]]"+id, "", 1)
	}
	b.write("nameless.toml", text)
	bench := ""
	for i := range ports {
		bench += fmt.Sprintf("[port.r%d]\nphrasebook = \"nameless.toml\"\n\n[port.r%d.standin]\nfamily = \"dunlin\"\nplace = %d.0\n\n", i, i, 100*i)
	}
	b.write("tower.toml", bench)
	b.write("pooled.parrot", "procedure \"An address of its own\"\nport radio\ninput address: int 1..65534 from pool \"addresses\"\nstep \"it answers\" tries 5 every 50ms\n    say radio: AT\nend\nstep \"it keeps it\" tries 3 every 50ms\n    set radio address = address\n    get radio address as now\n    check now == address\nend\n")
	b.start("for other commands", "standin", "tower.toml")
	return b
}

// station starts a station at a port.
func (b *bench) station(url string, port int, args ...string) (*exec.Cmd, fmt.Stringer) {
	cmd, _, errs := b.command(append([]string{"run", "pooled.parrot", "--units", "batch:tray", "--bench", "tower.toml", "--port", fmt.Sprintf("radio=r%d", port), "--next", "none",
		"--ledger", url, "--station", fmt.Sprintf("s%d", port), "--lease", "2s", "--quiet"}, args...)...)
	cmd.Stdout = nil
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+filepath.Join(b.dir, "data"))
	if err := cmd.Start(); err != nil {
		b.t.Fatal(err)
	}
	return cmd, errs
}

// tray loads n units, and as many addresses.
func (b *bench) tray(url string, n int) {
	b.t.Helper()
	text := "unit\n"
	for i := range n {
		text += fmt.Sprintf("LK-%05d\n", i+1)
	}
	b.write("tray.csv", text)
	b.run("units", "load", "tray.csv", "--ledger", url, "--procedure", "pooled.parrot").wants(b.t, 0, fmt.Sprintf("batch tray: %d unit", n))
	b.run("units", "pool", "addresses", fmt.Sprintf("1..%d", 2*n+100), "--ledger", url).wants(b.t, 0)
}

// Many stations, some of which are killed, and a server that is restarted twice: each unit passes
// once, a kill breaks one unit at most, no value is given out twice, and every record is filed.
// UPARROT_TEST_STATIONS=10000 does so many units at 20 stations.
func TestStations(t *testing.T) {
	t.Parallel()
	units, stations := 240, 6
	if n, err := strconv.Atoi(os.Getenv("UPARROT_TEST_STATIONS")); err == nil {
		units, stations = n, 20
	}
	b := stationsBench(t, stations)
	server := b.database()
	b.tray(server.URL, units)
	s := &siege{b: b, server: server, units: units, stop: make(chan struct{})}
	began := time.Now()
	var all sync.WaitGroup
	for i := range stations {
		all.Go(func() { s.man(i) })
	}
	all.Go(s.release)
	all.Go(s.restart)
	all.Wait()
	took := time.Since(began)
	cmd, errs := b.station(server.URL, 0) // one more finds nothing to do, and files what killed ones have left
	if err := cmd.Wait(); err != nil {
		t.Errorf("%v: %s", err, errs)
	}
	s.count(t)
	t.Logf("%d units at %d stations in %v: %.0f units/s; %d killed, %d broken and released", units, stations, took.Round(time.Second), float64(units)/took.Seconds(), s.kills, s.broken)
}

// siege is what stations have to bear.
type siege struct {
	b      *bench
	server *postgres.Server
	units  int
	stop   chan struct{} // closed when all units have passed

	mu     sync.Mutex
	kills  int
	broken int
}

// man keeps a station going at a port. Every now and then it is killed.
func (s *siege) man(port int) {
	rng := rand.New(rand.NewPCG(7, uint64(port)))
	for {
		cmd, errs := s.b.station(s.server.URL, port)
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		life := time.Duration(400+rng.IntN(2000)) * time.Millisecond
		if s.units > 1000 {
			life *= 8 // so many stations take a while to begin
		}
		select {
		case err := <-ended:
			if status := s.b.status(err); status != 0 && status != 4 && status != 3 { // 4 where others have units in hand, 3 where the server was down at its beginning
				s.b.t.Errorf("station %d ended with %d: %s", port, status, errs)
			}
			select {
			case <-s.stop:
				return
			case <-time.After(200 * time.Millisecond): // what is broken goes out again
			}
		case <-time.After(life):
			cmd.Process.Kill()
			s.mu.Lock()
			s.kills++
			s.mu.Unlock()
			<-ended
		}
	}
}

// release lets broken units go out again until all have passed.
func (s *siege) release() {
	defer close(s.stop)
	for s.b.t.Context().Err() == nil {
		c := s.b.run("units", "release", "tray", "--ledger", s.server.URL)
		s.mu.Lock()
		s.broken += strings.Count(c.out, "goes out again")
		s.mu.Unlock()
		if l, err := ledger.Open(context.Background(), s.server.URL); err == nil {
			states, err := l.States(context.Background(), "tray")
			l.Close()
			if err == nil && states["passed"] == s.units {
				return
			}
			for state := range states {
				if state == "failed" || state == "untested" || state == "undecided" {
					s.b.t.Errorf("units are %s", state)
					return
				}
			}
		}
		time.Sleep(500 * time.Millisecond)
	}
}

// restart takes the server down twice.
func (s *siege) restart() {
	for range 2 {
		select {
		case <-s.stop:
			return
		case <-time.After(1500 * time.Millisecond):
		}
		s.server.Down()
		time.Sleep(700 * time.Millisecond)
		if err := s.server.Up(); err != nil {
			s.b.t.Error(err)
		}
	}
}

// count holds what stands in the ledger and in the folder of records against each other.
func (s *siege) count(t *testing.T) {
	db, err := sql.Open("pgx", s.server.URL+"&search_path=uparrot")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	zero := func(what, query string) {
		t.Helper()
		n := 0
		if err := db.QueryRow(query).Scan(&n); err != nil || n != 0 {
			t.Errorf("%s: %d, %v", what, n, err)
		}
	}
	zero("units whose run has not passed", "SELECT COUNT(*) FROM units u LEFT JOIN runs r ON r.run = u.run WHERE u.state <> 'passed' OR r.verdict IS NULL OR r.verdict <> 'passed' OR r.unit <> u.unit")
	zero("units with several passed runs that are no conflict", "SELECT COUNT(*) FROM (SELECT unit FROM runs WHERE verdict = 'passed' AND run NOT IN (SELECT run FROM conflicts) GROUP BY unit HAVING COUNT(*) <> 1) AS x")
	zero("values at several units", "SELECT COUNT(*) FROM (SELECT value FROM inputs i JOIN runs r ON r.run = i.run GROUP BY value HAVING COUNT(DISTINCT r.unit) > 1) AS x")
	zero("units with several values", "SELECT COUNT(*) FROM (SELECT r.unit FROM inputs i JOIN runs r ON r.run = i.run WHERE r.verdict = 'passed' GROUP BY r.unit HAVING COUNT(DISTINCT value) > 1) AS x")
	zero("values that a unit keeps and the pool does not know", "SELECT COUNT(*) FROM units u LEFT JOIN pools p ON p.unit = u.unit AND p.state = 'said' WHERE p.unit IS NULL")
	conflicts := 0 // of stations that were killed between their verdict and its filing
	if err := db.QueryRow("SELECT COUNT(*) FROM conflicts").Scan(&conflicts); err != nil || conflicts > s.kills || s.broken > s.kills {
		t.Errorf("%d conflicts, %d broken, and %d killed: %v", conflicts, s.broken, s.kills, err)
	}
	t.Logf("%d conflicts", conflicts)
	runs, err := filepath.Glob(filepath.Join(s.b.dir, "data/uparrot/records/2*/*.record"))
	if err != nil || len(runs) < s.units {
		t.Fatalf("%d records, %v", len(runs), err)
	}
	filed := 0
	if err := db.QueryRow("SELECT COUNT(*) FROM runs").Scan(&filed); err != nil {
		t.Fatal(err)
	}
	known := map[string]bool{}
	rows, err := db.Query("SELECT record FROM runs")
	if err != nil {
		t.Fatal(err)
	}
	for rows.Next() {
		path := ""
		if err := rows.Scan(&path); err != nil {
			t.Fatal(err)
		}
		known[path] = true
	}
	for _, path := range runs {
		if info, err := os.Stat(path); err == nil && info.Size() == 0 { // it was killed before a word of it
			continue
		}
		if real, err := filepath.EvalSymlinks(path); !known[path] && (err != nil || !known[real]) {
			t.Errorf("%s is not filed", path)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(s.b.dir, "data/uparrot/records/unfiled/*")); len(left) > 0 {
		t.Errorf("yet to be filed: %v", left)
	}
}

// A station that was held up for longer than its lease: its unit went to another, and its result is
// a conflict, which changes nothing.
func TestConflict(t *testing.T) {
	t.Parallel()
	b := stationsBench(t, 2)
	server := b.database()
	b.tray(server.URL, 1)
	b.write("pooled.parrot", strings.Replace(b.read("pooled.parrot"), "step \"it keeps it\"", "step \"a while\"\n    pause 3s\nend\nstep \"it keeps it\"", 1))
	first, _, errs := b.command("run", "pooled.parrot", "--units", "batch:tray", "--bench", "tower.toml", "--port", "radio=r0", "--next", "none", "--ledger", server.URL, "--station", "hut", "--lease", "300ms", "--quiet")
	out := first.Stdout.(fmt.Stringer)
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	b.eventually("the unit in hand", func() bool {
		return strings.Contains(b.run("units", "list", "tray", "--ledger", server.URL).out, "its claim lasts until")
	})
	b.run("units", "release", "tray", "LK-00001", "--ledger", server.URL, "--state", "all").wants(t, 2, "is in hand at hut until")
	first.Process.Signal(syscall.SIGSTOP)
	b.eventually("the unit broken", func() bool {
		return strings.Contains(b.run("units", "list", "tray", "--ledger", server.URL).out, "the station hut was lost with it")
	})
	b.run("units", "release", "tray", "--ledger", server.URL).wants(t, 0, "LK-00001 goes out again")
	second, serrs := b.station(server.URL, 1)
	if err := second.Wait(); err != nil {
		t.Errorf("%v: %s", err, serrs)
	}
	first.Process.Signal(syscall.SIGCONT)
	if status := b.status(first.Wait()); status != 4 || !strings.Contains(out.String(), "a conflict: the unit was released meanwhile") || strings.Contains(out.String(), "1 of 1 unit passed") {
		t.Errorf("ended with %d: %s%s", status, out, errs)
	}
	b.run("units", "list", "tray", "--ledger", server.URL).wants(t, 0, "LK-00001  passed  s1", "1 conflict", "passed  hut")
	b.run("results", "unit", "LK-00001", "--ledger", server.URL).wants(t, 0, "a conflict: its unit was released before it ended", "2 runs")
	b.run("results", "yield", "--ledger", server.URL).wants(t, 0, "1 in 1 run")
}

// The server is down for a while: what is in hand is finished and kept, no unit is taken, and
// all is filed when it is up again. One that is gone for good costs no false pass.
func TestLostConnection(t *testing.T) {
	t.Parallel()
	b := stationsBench(t, 1)
	server := b.database()
	b.tray(server.URL, 3)
	b.write("pooled.parrot", strings.Replace(b.read("pooled.parrot"), "step \"it keeps it\"", "step \"a while\"\n    pause 2s\nend\nstep \"it keeps it\"", 1))
	cmd, errs := b.station(server.URL, 0, "--by", "A. Rigger")
	inHand := func(unit string) {
		t.Helper()
		b.eventually(unit+" in hand", func() bool {
			return strings.Contains(b.run("units", "list", "tray", "--ledger", server.URL, "--state", "claimed").out, unit)
		})
	}
	inHand("LK-00001")
	server.Down()
	noted := func() int {
		left, _ := filepath.Glob(filepath.Join(b.dir, "data/uparrot/records/unfiled/*.0"))
		return len(left)
	}
	b.eventually("a record that is to be filed", func() bool { return noted() == 1 })
	if err := server.Up(); err != nil {
		t.Fatal(err)
	}
	inHand("LK-00002")
	if c := b.run("units", "list", "tray", "--ledger", server.URL); !strings.Contains(c.out, "LK-00001  passed") || noted() != 0 {
		t.Errorf("%s, %d to be filed", c.out, noted())
	}
	server.Down()
	b.eventually("a record that is to be filed", func() bool { return noted() == 1 })
	cmd.Process.Signal(os.Interrupt)
	b.status(cmd.Wait())
	text := errs.String()
	for _, want := range []string{"no other unit is taken until the ledger answers", "the ledger answers again", "1 record filed that could not be before", "What is not filed is filed by the next station that begins here"} {
		if !strings.Contains(text, want) {
			t.Errorf("missing %q in:\n%s", want, text)
		}
	}
	if n := strings.Count(text, "the ledger answers again"); n != 1 { // an interrupted station has not heard of it
		t.Errorf("it answers again %d times:\n%s", n, text)
	}
	if err := server.Up(); err != nil {
		t.Fatal(err)
	}
	cmd, errs = b.station(server.URL, 0)
	if err := cmd.Wait(); err != nil {
		t.Errorf("%v: %s", err, errs)
	}
	b.run("units", "list", "tray", "--ledger", server.URL).wants(t, 0, "3 passed")
	b.run("results", "--ledger", server.URL, "--verdict", "passed").wants(t, 0, "LK-00001", "LK-00002", "LK-00003")
}

// BenchmarkStations is units a second that stations do beside a bare loop that does the same in the
// ledger without a module.
func BenchmarkStations(b *testing.B) {
	const units, stations = 400, 4
	at := stationsBench(b, stations)
	server := at.database()
	for b.Loop() {
		at.tray(server.URL, units)
		began := time.Now()
		var all sync.WaitGroup
		for i := range stations {
			all.Go(func() {
				cmd, errs := at.station(server.URL, i)
				if err := cmd.Wait(); err != nil {
					b.Errorf("%v: %s", err, errs)
				}
			})
		}
		all.Wait()
		took := time.Since(began)
		b.ReportMetric(units/took.Seconds(), "units/s")
		b.ReportMetric(units/bareUnits(b, at, server.URL, units, stations).Seconds(), "bare-units/s")
	}
}

// bareUnits is how long the same rows of as many units take without modules and records.
func bareUnits(b *testing.B, at *bench, url string, units, stations int) time.Duration {
	at.write("bare.csv", strings.ReplaceAll(at.read("tray.csv"), "LK-", "BL-"))
	at.run("units", "load", "bare.csv", "--ledger", url).wants(b, 0)
	began := time.Now()
	var all sync.WaitGroup
	for i := range stations {
		all.Go(func() {
			l, err := ledger.Open(b.Context(), url)
			if err != nil {
				b.Error(err)
				return
			}
			defer l.Close()
			for n := 0; ; n++ {
				c, err := l.Claim(b.Context(), "bare", "", fmt.Sprint(i), time.Minute)
				if err != nil || c == nil {
					if err != nil {
						b.Error(err)
					}
					return
				}
				d, _, err := l.Draw(b.Context(), ledger.Wanted{Pool: "addresses", Unit: c.Unit, Name: "address"})
				if err != nil {
					b.Error(err)
					return
				}
				o := record.Origin{Run: fmt.Sprintf("%08x%08x", i, n), Unit: c.Unit, Claim: c, Command: "run"}
				f := l.Begin(o, "", nil)
				f.Take(record.Event{Kind: record.Begin, Text: "An address of its own", Data: fmt.Appendf(nil, `{"inputs":{"address":%s}}`, d.Value)})
				for _, step := range []string{"it answers", "it keeps it"} {
					f.Take(record.Event{Kind: record.Step, Step: step, Try: 1, Verdict: verdict.Passed})
				}
				f.Take(record.Event{Kind: record.Verdict, Verdict: verdict.Passed})
				if err := f.End(b.Context(), "5u3"); err != nil {
					b.Error(err)
				}
			}
		})
	}
	all.Wait()
	return time.Since(began)
}
