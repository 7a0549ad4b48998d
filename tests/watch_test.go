//go:build unix

package tests

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"uparrot/core/record"
)

// masts is a bench of sensor masts that tell their values every so many milliseconds.
func masts(n, every int) string {
	text := ""
	for i := range n {
		text += fmt.Sprintf("[port.mast%d]\nphrasebook = \"wheatear.toml\"\nspeed = 921600\n\n[port.mast%d.standin]\nfamily = \"wheatear\"\nsettings = { mast = \"%d\", every = \"%d\" }\n\n", i+1, i+1, i+1, every)
	}
	return text
}

const mastLine = "m{} {line:int} s1=a{speed:num},b{gust:num} s2=a{from:num}"

// watchJSON is the result of a watch.
type watchJSON struct {
	Verdict string
	Limits  []struct {
		What    string
		Verdict string
		Series  *struct {
			N               int
			Least, Greatest float64
			Outside         int
		}
	}
}

// Four masts are watched at once and nothing is lost: each line has its number. The record,
// its table, the ledger and the rows that were printed have as many values as the result.
func TestWatchLosesNothing(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("masts.toml", masts(4, 10))
	b.start("for other commands", "standin", "masts.toml")
	c := b.run("watch", "mast1", "mast2", "mast3", "mast4", mastLine, "--bench", "masts.toml", "--start", "start", "--stop", "stop", "--for", "3s", "--limit", "speed=0..60 m/s",
		"--ledger", "l.sqlite", "--record", "w.record", "--out", "w.csv", "--json", "--metrics", "now.txt", "--unit", "LK-6")
	c.wants(t, 0)
	var res watchJSON
	if err := json.Unmarshal([]byte(c.out), &res); err != nil {
		t.Fatal(err, c.out)
	}
	total := 0
	for _, m := range res.Limits {
		if total += m.Series.N; m.Series.N < 100 {
			t.Errorf("%s: %d values", m.What, m.Series.N)
		}
		if strings.HasSuffix(m.What, " line") && (m.Series.Least != 1 || m.Series.Greatest != float64(m.Series.N)) {
			t.Errorf("%s: %d lines from %v to %v", m.What, m.Series.N, m.Series.Least, m.Series.Greatest)
		}
	}
	if len(res.Limits) != 16 || res.Verdict != "passed" {
		t.Errorf("%d values, %s", len(res.Limits), res.Verdict)
	}
	b.run("report", "w.record", "--verify").wants(t, 0, "whole")
	table := b.run("report", "w.record", "--as", "csv", "--table", "samples").wants(t, 0).out
	if n := strings.Count(table, "\r\n") - 1; n != total {
		t.Errorf("the record has %d of %d values", n, total)
	}
	if n := strings.Count(b.read("w.csv"), "\r\n") - 1; n != total {
		t.Errorf("the rows have %d of %d values", n, total)
	}
	for name, where := range map[string]string{"filed": "l.sqlite", "filed anew": "m.sqlite"} {
		if name == "filed anew" {
			b.run("results", "add", "w.record", "--ledger", where).wants(t, 0)
		}
		exported := b.run("results", "export", "--table", "samples", "--as", "jsonl", "--ledger", where).wants(t, 0).out
		if n := strings.Count(exported, "\n"); n != total {
			t.Errorf("%s: %d of %d values", name, n, total)
		}
		b.run("results", "series", "mast2 speed", "--ledger", where, "--plot", where+".png", "--view", "spread").wants(t, 0, "LK-6", "0..60 m/s")
	}
	if m := b.read("now.txt"); !strings.HasSuffix(m, "# EOF\n") || !strings.Contains(m, `uparrot_readings_total{what="mast1 line",port="mast1",unit=""} `) || strings.Count(m, "uparrot_limit_high{") != 4 {
		t.Error(m)
	}
	b.run("report", "w.record", "--as", "html", "--out", "w.html").wants(t, 0)
}

// A watch that is killed leaves every value but those of the last moment.
func TestWatchKilled(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("masts.toml", masts(1, 10))
	b.start("for other commands", "standin", "masts.toml")
	cmd, _, _ := b.command("watch", "mast1", mastLine, "--bench", "masts.toml", "--start", "start", "--ledger", "l.sqlite", "--record", "w.record")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	came, kept := 0, 0
	b.eventually("300 lines", func() bool { return strings.Count(b.readSome("w.record"), " s1=a") > 300 })
	cmd.Process.Kill()
	cmd.Wait()
	var inAt, keptAt time.Time
	f, err := os.Open(b.dir + "/w.record")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := record.Read(f, func(e record.Event) error {
		switch e.Kind {
		case record.In:
			came += strings.Count(e.Text, " s1=a")
			inAt = e.Time
		case record.Sampled:
			s, err := record.SamplesOf(e)
			if s.Series == 1 {
				kept += len(s.At)
			}
			keptAt = s.At[len(s.At)-1]
			return err
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if kept == 0 || came < 300 || inAt.Sub(keptAt) > time.Second || came-kept > 110 {
		t.Errorf("of %d lines %d are kept, the last %v before the end", came, kept, inAt.Sub(keptAt))
	}
	b.run("report", "w.record", "--as", "html", "--out", "w.html").wants(t, 0)
	if page := b.read("w.html"); !strings.Contains(page, "Values over time") {
		t.Error("the page shows no values")
	}
	b.run("results", "add", "w.record", "--ledger", "l.sqlite").wants(t, 0, "is filed as run")
	if n := strings.Count(b.run("results", "export", "--table", "samples", "--ledger", "l.sqlite").wants(t, 0).out, ",line,"); n != kept {
		t.Errorf("the ledger has %d of %d lines", n, kept)
	}
}

// readSome is a file that may not be there yet.
func (b *bench) readSome(name string) string {
	text, _ := os.ReadFile(b.dir + "/" + name) // then it is empty
	return string(text)
}

// What a watch comes to, in every way that it can end and be asked for.
func TestWatchCommand(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("masts.toml", masts(1, 20))
	b.start("for other commands", "standin", "masts.toml")
	b.start("for other commands", "standin", "workshop.toml")
	watch := func(args ...string) call {
		return b.run(append([]string{"watch", "--bench", "masts.toml", "--ledger", "l.sqlite"}, args...)...)
	}
	watch("mast1", "--reading", "wind", "--count", "20").wants(t, 0, "wind", "direction", "longest silence of mast1", "passed in")
	watch("mast1", "--reading", "wind", "--count", "20", "--limit", "wind=0..1").wants(t, 1, "20 of 20 outside 0..1 m/s", "failed in")
	watch("mast1", "--reading", "supply", "--count", "3", "--every", "100ms", "--as", "jsonl").wants(t, 0, `"what":"supply","value":2`, `"unit":"V"`)
	watch("mast1", "--value", `names=xpath(line, "//sensor[2]/@name")`, "--poll", "status", "--every", "100ms", "--count", "2").wants(t, 0, "names", "direction", "measured in")
	watch("mast1", mastLine, "--start", "start", "--stop", "stop", "--until-true", "line > 0 && speed > 0").wants(t, 0, "line   1 ", "measured in")
	watch("mast1", "--value", "both=speed + gust in m/s", mastLine, "--start", "start", "--stop", "stop", "--count", "5", "--as", "csv").wants(t, 0, ",both,", ",m/s,")
	watch("mast1", "volts {v:num}", "--start", "start", "--stop", "stop", "--for", "500ms").wants(t, 1, "nothing like volts {v:num} came in")
	watch("mast1", mastLine, "--for", "500ms", "--record", "/dev/full", "--start", "start", "--stop", "stop").wants(t, 5, "no space left", "measured in")
	watch("mast1", mastLine, "--for", "500ms", "--out", "/dev/full", "--start", "start", "--stop", "stop").wants(t, 5, "no space left", "The watch goes on", "measured in")
	b.run("watch", "gauge", "--bench", "workshop.toml", "--every", "50ms", "--count", "5", "--no-ledger").wants(t, 0, "wind", "0..60 m/s", "passed in")
	b.run("watch", "brakes", "--bench", "workshop.toml", "--every", "500ms", "--count", "2", "--no-ledger").wants(t, 0, "volts", "22..28 V", "passed in")
	for want, args := range map[string][]string{
		"no port is named": {mastLine},
		"has no such reading. Did you mean \"wind\"?": {"mast1", "--reading", "wnd"},
		"--limit speed=5..1: the limits":              {"mast1", mastLine, "--limit", "speed=5..1"},
		"--limit sped: no value is called so":         {"mast1", mastLine, "--limit", "sped=1..5"},
		"no reading has the values that it reads":     {"mast1", mastLine, "--until-true", "volts > 3"},
		"--every says how often to ask":               {"mast1", mastLine, "--every", "1s"},
		"wanted NAME=EXPRESSION":                      {"mast1", "--value", "line"},
		"the expression cannot be used":               {"mast1", mastLine, "--value", "x=speed + 'a'"},
		"tells of packets":                            {"mast1", "--packet", "wind"},
		"there is no form \"xml\"":                    {"mast1", mastLine, "--as", "xml"},
		"wanted a file that ends in .png or .svg":     {"mast1", mastLine, "--plot", "x.pdf"},
		"says what mast1 tells: give a text to hear":  {"mast1", "--phrasebook", "siskin.toml"},
		"there is no type \"nun\"":                    {"mast1", "volts {v:nun}"},
	} {
		if c := watch(args...); c.status != 2 || !strings.Contains(c.err, want) {
			t.Errorf("%q: %d, %s", args, c.status, c.err)
		}
	}
	b.write("again.parrot", watch("mast1", "--reading", "wind", "--reading", "supply", "--for", "2s", "--plan").wants(t, 0).out)
	b.run("check", "again.parrot").wants(t, 0, "no mistakes")
	b.run("tidy", "again.parrot", "--diff").wants(t, 0)
	b.run("run", "again.parrot", "--bench", "masts.toml", "--no-ledger").wants(t, 0, "wind", "supply")

	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{{nil, 0, "measured in"}, {[]string{"--for", "1m"}, 130, "interrupted"}} {
		cmd, out, errs := b.command(append([]string{"watch", "mast1", mastLine, "--bench", "masts.toml", "--no-ledger", "--start", "start", "--stop", "stop", "--record", fmt.Sprintf("stop%d.record", c.status)}, c.args...)...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		name := fmt.Sprintf("stop%d.record", c.status)
		b.eventually("values", func() bool { return strings.Contains(b.readSome(name), `"kind":"samples"`) })
		cmd.Process.Signal(syscall.SIGINT)
		if status := b.status(cmd.Wait()); status != c.status || !strings.Contains(out.String()+errs.String(), c.want) {
			t.Errorf("%v: %d, %s%s", c.args, status, out, errs)
		}
		b.run("report", name, "--verify").wants(t, 0, "whole")
	}
}

// A value that stops coming is told with its time, and fails the watch where it has limits.
func TestWatchStops(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("masts.toml", masts(1, 100))
	b.start("for other commands", "standin", "masts.toml")
	cmd, out, errs := b.command("watch", "mast1", mastLine, "--bench", "masts.toml", "--no-ledger", "--start", "start", "--stop", "stop", "--record", "w.record", "--limit", "speed=0..60")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	b.eventually("values", func() bool { return strings.Count(b.readSome("w.record"), `"kind":"samples"`) > 12 })
	b.run("standin", "masts.toml", "--tell", "hand mast1 ice 1 on").wants(t, 0)
	b.eventually("that it has stopped", func() bool { return strings.Contains(b.readSome("w.record"), "has stopped: nothing like it since") })
	cmd.Process.Signal(syscall.SIGINT)
	if status := b.status(cmd.Wait()); status != 1 || !strings.Contains(out.String(), "stopped coming at") {
		t.Errorf("%d, %s%s", status, out, errs)
	}
}

// A person watches: chooses a value, zooms, has the picture stand still, marks a moment, and
// leaves; the terminal is given back with the values in it.
func TestWatchView(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("masts.toml", masts(1, 50))
	b.start("for other commands", "standin", "masts.toml")
	p := b.sit("watch", "mast1", mastLine, "--bench", "masts.toml", "--no-ledger", "--record", "w.record", "--start", "start", "--stop", "stop", "--limit", "speed=0..60 m/s", "--plot", "w.svg")
	p.asked("F1 keys", 1)
	sees := func(text string) {
		t.Helper()
		if !p.sees(text, 20*time.Second) {
			t.Fatalf("%q does not stand there:\n%s", text, p.screen.String())
		}
	}
	sees("speed (m/s)")
	sees("▶ line")
	p.types("\x1b[B", "▶ speed (m/s)")
	sees("speed (m/s), wanted 0..60")
	p.types("+", "charts show 30 s")
	p.types("---", "charts show 20 min")
	p.types("------", "charts show all")
	p.types(" ", "stands still at")
	p.types(" ", "● reading")
	p.types("\x1bOP", "mark this moment with a word")
	p.types("\x1bOP", "▶ speed (m/s)")
	p.types("m", "mark: ")
	p.types("lever pulled\r", "mark: lever pulled")
	p.keys.WriteString("q")
	if err := p.wait(20 * time.Second); err != nil {
		t.Fatal(err)
	}
	sees("passed in")
	if rec := b.read("w.record"); !strings.Contains(rec, `"data":{"mark":"lever pulled"}`) {
		t.Error("the record has no mark")
	}
	if svg := b.read("w.svg"); !strings.Contains(svg, "lever pulled") {
		t.Error("the picture has no mark")
	}
}
