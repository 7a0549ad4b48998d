//go:build unix

package tests

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"uparrot/core/port"
)

// talker says lines at a pace until it is closed.
func talker(t *testing.T, link string, every time.Duration, line func(i int) string) (pull func()) {
	t.Helper()
	at, err := port.OpenPseudo()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(at.Path(), link); err != nil {
		t.Fatal(err)
	}
	done, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		for i := 0; ; i++ {
			select {
			case <-done:
				return
			case <-time.After(every):
				at.Write([]byte(line(i)))
			}
		}
	}()
	return func() {
		close(done)
		<-over
		at.Close()
		os.Remove(link)
	}
}

// A watch goes on over a plug that is pulled and put back; what leaves its limits and returns is told a program
// once each time, whatever the module sends; and each port has its own limits.
func TestWatchPlug(t *testing.T) {
	t.Parallel()
	b := &bench{t, t.TempDir()}
	at := func(name string) string { return filepath.Join(b.dir, name) }
	var level atomic.Int32
	level.Store(3)
	volts := func(int) string {
		return fmt.Sprintf("volts %d $(touch broken);`touch broken`\r\n", level.Load())
	}
	b.write("alarm", "#!/bin/sh\necho \"$UPARROT_WATCH_NAME $UPARROT_WATCH_STATE $UPARROT_WATCH_VALUE $UPARROT_WATCH_UNIT $UPARROT_WATCH_LIMITS\" >> said\n")
	if err := os.Chmod(at("alarm"), 0o700); err != nil {
		t.Fatal(err)
	}
	pull := talker(t, at("hut"), 50*time.Millisecond, volts)
	pullTower := talker(t, at("tower"), 50*time.Millisecond, func(int) string { return "volts 9 x\r\n" })
	defer pullTower()
	cmd, out, errs := b.command("watch", "./hut", "./tower", "volts {v:num} {rest}", "--limit", "hut.v=0..5 V", "--limit", "tower.v=8..10 V", "--reopen", "--on-outside", "./alarm", "--bell", "--as", "jsonl", "--no-ledger", "--record", "w.record")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	b.waitFor("w.record", "volts 3")
	b.waitFor("w.record", "volts 9")
	level.Store(9)
	b.waitFor("said", "hut v outside 9")
	level.Store(3)
	b.waitFor("said", "hut v inside 3")
	pull()
	b.waitFor("w.record", "hut gone")
	pull = talker(t, at("hut"), 50*time.Millisecond, func(int) string { return "volts 4 x\r\n" })
	defer func() { pull() }()
	b.waitFor("w.record", "volts 4")
	cmd.Process.Signal(os.Interrupt)
	status := b.status(cmd.Wait())
	all := out.String() + errs.String()
	if status != 1 || !strings.Contains(all, "hut has come back, after") || !strings.Contains(all, "hut was away 1 times") || strings.Count(errs.String(), "\a") != 1 {
		t.Errorf("ended with %d:\n%s", status, all)
	}
	if said := b.read("said"); said != "hut v outside 9 V 0..5 V\nhut v inside 3 V 0..5 V\n" && said != "hut v outside 9 V 0..5\nhut v inside 3 V 0..5\n" {
		t.Errorf("the program was told %q", said)
	}
	if _, err := os.Stat(at("broken")); err == nil {
		t.Error("what the module sent was a command")
	}
	notes := 0
	for line := range strings.SplitSeq(strings.TrimSpace(out.String()), "\n") {
		var one struct{ Time, What, Note string }
		if err := json.Unmarshal([]byte(line), &one); err == nil && one.Note != "" {
			notes++
		}
	}
	if notes < 3 || !strings.Contains(b.read("w.record"), `"mark":"hut gone"`) {
		t.Errorf("%d notes in\n%s", notes, out)
	}
	b.run("watch", "./hut", "volts {v:num} {rest}", "--on-outside", "./alarm", "--count", "1", "--no-ledger").wants(t, 2, "are of values with limits")
	b.run("watch", "./hut", "volts {v:num} {rest}", "--limit", "v=0..5", "--on-outside", "nowhere", "--count", "1", "--no-ledger").wants(t, 2, "it is one program, without arguments")
	b.run("watch", "./hut", "volts {v:num} {rest}", "--limit", "tower.v=0..5", "--count", "1", "--no-ledger").wants(t, 2, "no value is called so")
}

// A share of what is heard may be of no use, and no more.
func TestWatchBroken(t *testing.T) {
	t.Parallel()
	b := &bench{t, t.TempDir()}
	pull := talker(t, filepath.Join(b.dir, "hut"), 5*time.Millisecond, func(i int) string {
		return fmt.Sprintf("volts %s\r\n", map[bool]string{true: "bad", false: "3"}[i%20 == 7])
	})
	defer pull()
	for share, status := range map[string]int{"": 1, "4%": 1, "6%": 0} {
		args := []string{"watch", "./hut", "volts {v:word}", "--value", "volts=number(v) in V", "--limit", "volts=0..5", "--count", "190", "--no-ledger"}
		if share != "" {
			args = append(args, "--max-broken", share)
		}
		c := b.run(args...).wants(t, status, "could not be used")
		if share != "" && !strings.Contains(c.out, "broken of hut") {
			t.Error(c.out)
		}
	}
	b.run("watch", "./hut", "volts {v:word}", "--count", "1", "--max-broken", "1", "--no-ledger").wants(t, 2, "this is no share")
}

// What an account and a page show of a watch, and what they say that there is more of, is all that came.
func TestWatchCounted(t *testing.T) {
	t.Parallel()
	b := &bench{t, t.TempDir()}
	pull := talker(t, filepath.Join(b.dir, "hut"), 5*time.Millisecond, func(i int) string { return fmt.Sprintf("volts %d.5\r\n", i%7) })
	defer pull()
	b.write("w.parrot", "procedure \"W\"\nport hut: dialect lines\nstep \"w\"\n watch 1000 times\n reading hut: volts {v:num}\n note v in V \"volts\"\n end\nend\n")
	c := b.run("run", "w.parrot", "--port", "hut=./hut", "--no-ledger", "--record", "w.record").wants(t, 0)
	b.run("report", "w.record", "--as", "html", "--out", "w.html").wants(t, 0)
	page := b.read("w.html")
	steps, _, _ := strings.Cut(page[strings.Index(page, `id="steps"`):], `id="measurements"`)
	for name, text := range map[string]string{"account": c.err, "page": steps} {
		n, want := strings.Count(text, "heard"), 1000
		if name == "page" { // whose step shows what came behind the last reading, too, but not what came before or after it
			_, step, _ := strings.Cut(b.run("report", "w.record").out, "  step: w")
			step, _, _ = strings.Cut(step, "  passed")
			n, want = strings.Count(text, ">heard<"), strings.Count(step, "  heard ")
		}
		for _, more := range regexp.MustCompile(`(\d+) times? more like that`).FindAllStringSubmatch(text, -1) {
			hidden, _ := strconv.Atoi(more[1])
			n += hidden
		}
		if n != want || want < 1000 || want > 1100 {
			t.Errorf("the %s tells of %d readings, want %d\n%.3000s", name, n, want, text)
		}
	}
}
