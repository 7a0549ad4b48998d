//go:build unix

package tests

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"

	"uparrot/tests/loopback"
	"uparrot/tests/postgres"
)

// owner does something at a server's database as its owner.
func owner(t *testing.T, server *postgres.Server, statements ...string) {
	t.Helper()
	db, err := sql.Open("pgx", server.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
}

// Who may only read reads all, and nothing more is asked of them; a station that cannot file takes no unit; one
// that has the rights that are named, and no more, works. A right that is taken away while a unit is in hand costs
// no other unit, and what was put aside is filed when it is given back.
func TestRights(t *testing.T) {
	t.Parallel()
	b := stationsBench(t, 1)
	server := b.database()
	b.tray(server.URL, 3)
	b.run("units", "pool", "keys", "snowline", "--secret", "--pool-key", "k", "--ledger", server.URL).wants(t, 0)
	owner(t, server, "CREATE ROLE reader LOGIN", "CREATE ROLE station LOGIN", "GRANT USAGE ON SCHEMA uparrot TO reader, station", "GRANT SELECT ON ALL TABLES IN SCHEMA uparrot TO reader, station")
	as := func(role string) string { return strings.Replace(server.URL, "bench@", role+"@", 1) }
	for _, args := range [][]string{{"results"}, {"units", "list"}, {"units", "list", "tray"}, {"units", "pool"}, {"results", "yield"}, {"results", "trend"}, {"results", "settings"}, {"results", "export", "--table", "steps"}} {
		b.run(append(args, "--ledger", as("reader"))...).wants(t, 0)
	}
	open := func(n int) {
		t.Helper()
		b.run("units", "list", "--ledger", as("reader")).wants(t, 0, fmt.Sprintf("%d open", n))
	}
	run := func(role, why string) {
		t.Helper()
		b.run("run", "pooled.parrot", "--units", "batch:tray", "--bench", "tower.toml", "--port", "radio=r0", "--next", "none", "--ledger", as(role)).wants(t, 3, "cannot file what comes of a unit: it lacks", why)
		open(3)
	}
	run("reader", "INSERT on runs, UPDATE on runs")
	b.run("units", "load", "tray.csv", "--ledger", as("reader"), "--batch", "more").wants(t, 3, "has not the rights")
	owner(t, server, "GRANT INSERT ON uparrot.runs, uparrot.steps, uparrot.measurements, uparrot.links, uparrot.files, uparrot.inputs, uparrot.series, uparrot.samples, uparrot.settings, uparrot.conflicts TO station",
		"GRANT UPDATE ON uparrot.runs, uparrot.steps, uparrot.series, uparrot.samples, uparrot.batches, uparrot.units, uparrot.pools TO station", "GRANT DELETE ON uparrot.measurements, uparrot.series TO station")
	run("station", "lacks DELETE on samples.")
	owner(t, server, "GRANT DELETE ON uparrot.samples TO station")

	b.write("pooled.parrot", strings.Replace(b.read("pooled.parrot"), "step \"it keeps it\"", "step \"a while\"\n    pause 2s\nend\nstep \"it keeps it\"", 1))
	cmd, errs := b.station(as("station"), 0)
	b.eventually("a unit in hand", func() bool {
		return strings.Contains(b.run("units", "list", "tray", "--ledger", as("reader"), "--state", "claimed").out, "LK-00001")
	})
	owner(t, server, "REVOKE INSERT ON uparrot.steps FROM station")
	b.eventually("a record that is to be filed", func() bool {
		left, _ := filepath.Glob(filepath.Join(b.dir, "data/uparrot/records/unfiled/*.0"))
		return len(left) == 1
	})
	time.Sleep(1500 * time.Millisecond) // in which it would take another
	open(2)
	owner(t, server, "GRANT INSERT ON uparrot.steps TO station")
	if err := cmd.Wait(); err != nil {
		t.Errorf("%v: %s", err, errs)
	}
	for _, want := range []string{"it lacks INSERT on steps", "no other unit is taken until the ledger answers", "1 record filed that could not be before"} {
		if !strings.Contains(errs.String(), want) {
			t.Errorf("missing %q in\n%s", want, errs)
		}
	}
	b.run("results", "yield", "--ledger", as("reader")).wants(t, 0, "3 in 3 runs")
	b.run("units", "list", "--ledger", as("reader")).wants(t, 0, "3 passed")
}

// A database that refuses, or takes the connection and says nothing, costs a run of a moment a few seconds, not the
// time that one has which stalls later. What is put aside is filed by itself: with the next run, and before results
// are shown. A record that is gone by then is told.
func TestDeadDatabase(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	server := b.database()
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("short.parrot", "procedure \"It answers\"\nport radio\nstep \"it answers\" tries 5\n    say radio: AT\nend\n")
	env := []string{"XDG_DATA_HOME=" + filepath.Join(b.dir, "data")}
	run := func(place string) call {
		return b.runWith(env, "", "run", "short.parrot", "--bench", "larkfell.toml", "--port", "valley", "--ledger", place, "--unit", "LK-1")
	}
	silent := loopback.Serve(t, func(c net.Conn) { c.Read(make([]byte, 1<<20)); time.Sleep(time.Minute) })
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	refuses := ln.Addr().String()
	ln.Close()
	for at, why := range map[string]string{silent: "the database did not answer within 3s", refuses: "the database does not answer"} {
		began := time.Now()
		run("postgres://bench@"+at+"/larkfell?sslmode=disable").wants(t, 5, "passed", why, "is filed by itself when the ledger can be written")
		if took := time.Since(began); took > 12*time.Second { // the time of one that stalls later is 15 s
			t.Errorf("%s: a run of a moment took %v", why, took)
		}
		b.runWith(env, "", "results", "--ledger", "postgres://bench@"+at+"/larkfell?sslmode=disable").wants(t, 3, why)
	}
	noted := func() []string {
		left, err := filepath.Glob(filepath.Join(b.dir, "data/uparrot/records/unfiled/*"))
		if err != nil {
			t.Fatal(err)
		}
		return left
	}
	if n := noted(); len(n) != 2 { // of ledgers that there never are
		t.Errorf("noted: %q", n)
	}
	run(server.URL).wants(t, 0)
	server.Down()
	put := func() string {
		t.Helper()
		c := run(server.URL).wants(t, 5, "passed")
		_, path, _ := strings.Cut(c.err, "when the ledger can be written: ")
		path, _, _ = strings.Cut(path, "\n")
		return strings.TrimSpace(path)
	}
	first, second := put(), put()
	if len(noted()) != 4 {
		t.Errorf("noted: %q", noted())
	}
	if err := server.Up(); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(second, second+".away"); err != nil {
		t.Fatal(err)
	}
	run(server.URL).wants(t, 0, "filed that could not be before: ", filepath.Base(first), filepath.Base(second), "was to be filed, and is not there any more")
	b.runWith(env, "", "results", "--ledger", server.URL, "--json").wants(t, 0, "LK-1", filepath.Base(first))
	server.Down()
	b.write("kept.record", "")
	b.runWith(env, "", "run", "short.parrot", "--bench", "larkfell.toml", "--port", "valley", "--ledger", server.URL, "--record", "kept.record", "--keep-both").wants(t, 5, "kept-2.record")
	third := put()
	if err := server.Up(); err != nil {
		t.Fatal(err)
	}
	b.runWith(env, "", "results", "--ledger", server.URL, "--json").wants(t, 0, "filed that could not be before: ", `"record": "`+third, filepath.Join(b.dir, "kept-2.record"))
	if len(noted()) != 2 {
		t.Errorf("noted: %q", noted())
	}
}

// Reading a ledger leaves nothing beside it, and says nothing of what is not there.
func TestReadingLeavesNothing(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("one.parrot", "procedure \"One\"\nstep \"s\"\n    pause 1ms\nend\n")
	dir := filepath.Join(b.dir, "evidence")
	b.run("run", "one.parrot", "--ledger", filepath.Join(dir, "l.sqlite"), "--record", "one.record").wants(t, 0)
	if err := os.RemoveAll(filepath.Join(dir, "records")); err != nil {
		t.Fatal(err)
	}
	if c := b.run("results", "--ledger", filepath.Join(dir, "l.sqlite")).wants(t, 0, "One"); c.err != "" {
		t.Error(c.err)
	}
	if _, err := os.Stat(filepath.Join(dir, "records")); err == nil {
		t.Error("results made a folder")
	}
}
