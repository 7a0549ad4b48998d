package tests

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"uparrot/core/report"
)

// reports has a record made readable in every form. The forms that tell results must
// have the verdict and the words; the others must come to their end.
func (b *bench) reports(record, verdict string, words ...string) {
	b.t.Helper()
	b.run("report", record, "--verify").wants(b.t, 0, "whole")
	tells := map[string]bool{"html": true, "junit": true, "text": true, "markdown": true}
	for _, form := range report.Forms() {
		out := filepath.Join(b.t.TempDir(), form)
		c := b.run("report", record, "--as", form, "--out", out)
		page, err := os.ReadFile(out)
		if !tells[form] {
			if c.status != 0 && c.status != 3 || c.status == 3 && c.err == "" { // 3 says in words that there is nothing of the kind
				b.t.Errorf("%s as %s: %d, %s", record, form, c.status, c.err)
			}
			continue
		}
		c.wants(b.t, 0)
		if err != nil {
			b.t.Errorf("%s as %s: %v", record, form, err)
		}
		if strings.Contains(strings.ToUpper(string(page)), "NO VERDICT") {
			b.t.Errorf("%s as %s has no verdict", record, form)
		}
		want := words
		if form == "junit" { // which says so in counts
			if failed := strings.Contains(string(page), "<failure "); failed != (verdict == "failed") {
				b.t.Errorf("%s as junit: a failure: %v, and it %s", record, failed, verdict)
			}
		} else {
			want = append([]string{verdict}, words...)
		}
		for _, w := range want {
			if !strings.Contains(strings.ToUpper(string(page)), strings.ToUpper(w)) {
				b.t.Errorf("%s as %s does not say %q", record, form, w)
			}
		}
	}
}

// Every command that opens a port leaves a record whose reports say what came of it.
func TestReports(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.standins()
	on := func(args ...string) []string { return append(args, "--bench", "larkfell.toml") }
	for port, address := range map[string]string{"valley": "1", "summit": "2"} {
		b.run(on("run", "commission.parrot", "--port", port, "--set", "address="+address, "--record", port+".record", "--quiet")...).wants(t, 0)
		b.reports(port+".record", "passed", "the settings survive a restart")
	}
	far := b.start("answering at", on("link", "answer", "summit", "--record", "answer.record")...)
	b.run(on("link", "test", "valley", "--to", "2", "--count", "5", "--every", "200ms", "--quiet", "--record", "trip.record")...).wants(t, 0)
	if err := far.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := far.Wait(); err != nil {
		t.Error(err)
	}
	b.reports("answer.record", "measured", "frames", "repeated")
	b.reports("trip.record", "measured", "valley")

	b.run(on("probe", "valley", "--record", "probe.record")...).wants(t, 0, "115200 8N1")
	b.reports("probe.record", "passed", "115200 8N1, ending cr, dialect at")
	b.run("learn", "probe.record", "--out", "learned.parrot").wants(t, 0)
	if learned := b.read("learned.parrot"); !strings.Contains(learned, "115200") || !strings.Contains(learned, "cr") {
		t.Errorf("what was learned of a probe has lost its line:\n%s", learned)
	}
	b.run(on("link", "map", "--count", "5", "--every", "100ms", "--quiet", "--record", "map.record")...).wants(t, 0)
	b.reports("map.record", "measured", "valley speaks", "summit heard")
	b.run(on("link", "capacity", "valley", "summit", "--max-loss", "95%", "--least", "20", "--most", "40", "--quiet", "--record", "capacity.record")...).wants(t, 0)
	b.reports("capacity.record", "passed", "the modules take no more", "frames/s")

	walk := b.runWith(nil, "", on("link", "test", "valley", "summit", "--walk", "--max-time", "2s", "--every", "40ms", "--record", "walk.record")...)
	walk.wants(t, 0)
	b.reports("walk.record", "measured", "valley to summit")
	b.run("report", "walk.record", "--as", "junit").wants(t, 0, `<property name="measured" value="valley to summit">`)
	for _, form := range []string{"html", "markdown", "junit"} {
		b.run("report", "walk.record", "--as", form).wants(t, 0, "tretch", "start")
	}
	b.runWith(nil, "AT\n", on("talk", "valley", "--record", "talk.record")...).wants(t, 0, "OK")
	b.reports("talk.record", "measured")

	// What the record says is what was printed.
	hold := b.run(on("link", "test", "valley", "summit", "--count", "5", "--every", "100ms", "--quiet", "--json", "--record", "hold.record")...)
	hold.wants(t, 0)
	b.holds("hold.record", hold.out)

	b.run(on("loopback", "valley", "--no-ask", "--record", "loop.record")...).wants(t, 1) // leaves noise in the radio, so it comes last
	b.reports("loop.record", "failed", "nothing came back")

	// Filed later they stand there by their ports, with their verdicts.
	b.run("results", "add", "map.record", "loop.record", "probe.record", "talk.record", "--ledger", "later.sqlite").wants(t, 0)
	b.run("results", "--ledger", "later.sqlite").wants(t, 0, "link map: summit, valley", "loopback: valley", "measured", "failed")
	b.run("results", "yield", "--ledger", "later.sqlite").wants(t, 0, "probe: valley", "loopback: valley")
	if c := b.run("results", "yield", "--ledger", "later.sqlite"); strings.Contains(c.out, "map") {
		t.Errorf("what was only measured counts in the yield:\n%s", c.out)
	}
}

// holds fails unless a record has the summary of a link test as it was printed.
func (b *bench) holds(record, printed string) {
	b.t.Helper()
	var sum struct{ Directions []struct{ Sent int } }
	if err := json.Unmarshal([]byte(printed), &sum); err != nil || len(sum.Directions) == 0 {
		b.t.Fatal(err)
	}
	for _, line := range strings.Split(b.read(record), "\n") {
		if e := (struct {
			Kind string
			Data json.RawMessage
		}{}); json.Unmarshal([]byte(line), &e) == nil && e.Kind == "link" && sameJSON(b.t, e.Data, printed) {
			return
		}
	}
	b.t.Error("the summary in the record is not the one that was printed")
}

func sameJSON(t testing.TB, a []byte, b string) bool {
	t.Helper()
	var x, y any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal([]byte(b), &y) != nil {
		t.Fatal("no JSON")
	}
	one, _ := json.Marshal(x)
	other, _ := json.Marshal(y)
	if string(one) != string(other) {
		t.Logf("in the record: %s\nprinted: %s", one, other)
	}
	return string(one) == string(other)
}
