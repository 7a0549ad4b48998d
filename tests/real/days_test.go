//go:build linux

package real

import (
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// quick are packages whose tests take little and have to do with days, hours, files or persons, with those
// of their tests that are run.
var quick = map[string]string{
	"core/record": ".", "core/series": ".", "core/talk": "Day|Time|Stamp|Notes", "core/session": ".", "core/learn": ".", "core/output": ".",
	"core/ledger": "TestAdd|TestTrend|TestDefault|TestPlace|TestRuns", "core/report/chart": ".", "core/report": "TestMarkdown|TestCSV|TestPackets", "cli/prove": ".", "cli/shell": ".",
}

// days are clocks at which tests are run once more: the turn of a year and of a day, a leap day, the nights
// on which clocks change, a day whose numbers are all the same.
var days = []struct{ zone, clock string }{
	{"UTC", "2026-12-31 23:59:30"},
	{"Asia/Kathmandu", "2028-02-29 12:00:00"},
	{"Europe/Vienna", "2027-03-28 01:59:45"},
	{"Europe/Vienna", "2027-10-31 02:59:45"},
	{"America/St_Johns", "2027-03-14 01:59:45"},
	{"America/St_Johns", "2027-11-07 01:59:45"},
	{"UTC", "2026-12-12 12:12:12"},
}

// Tests hold on any day, in any time zone, as anybody without a home, with any umask and locale, and with
// a blank in the path of temporary files. They are run in an emulated machine whose clock is set: a Go
// program asks the kernel for the time, and nothing in between can tell it another.
func TestDays(t *testing.T) {
	need(t, "qemu-system-x86_64", "qemu-system-x86")
	var a archive
	a.folders("bin", "etc", "proc", "sys", "dev", "tmp", "var of all", "var of all/a place", "src", "tests")
	a.put("bin/busybox", 0o100755, busybox(t))
	a.put("etc/passwd", 0o100644, []byte("root::0:0:root:/:/bin/sh\nrigger::1234:1234:rigger:/nowhere:/bin/sh\n"))
	tree(t, &a)
	// The clock is set from time to time, not for each package, so that each is met by its change.
	script := "#!/bin/busybox sh\n/bin/busybox --install -s /bin\nmount -t proc proc /proc\nmount -t devtmpfs dev /dev\nmount -t sysfs sys /sys\nmkdir -p /dev/pts\nmount -t devpts pts /dev/pts -o ptmxmode=666\nln -sf pts/ptmx /dev/ptmx\nifconfig lo 127.0.0.1 up\nexec >/dev/ttyS0 2>&1 </dev/null\numask 077\nchmod 777 '/var of all' '/var of all/a place'\n"
	wanted := 0
	for _, d := range days {
		script += fmt.Sprintf("export TZ=%s LC_ALL=de_AT.UTF-8 TMPDIR='/var of all/a place'\n", d.zone)
		for pkg, only := range quick {
			name := strings.ReplaceAll(pkg, "/", "-")
			// busybox reads the zone as a rule, the tests by its name: the clock is set in UTC.
			script += fmt.Sprintf("TZ=UTC0 date -s '%s' >/dev/null; cd /src/%s && su rigger -s /bin/sh -c \"env -u HOME /tests/%s -test.run '%s' -test.timeout 300s\" > '/var of all/out' 2>&1; s=$?; [ $s = 0 ] || tail -20 '/var of all/out'; echo \"DONE %s at %s %s: $s\"\n", inUTC(t, d.zone, d.clock), pkg, name, only, pkg, d.zone, d.clock)
			wanted++
		}
	}
	a.put("init", 0o100755, []byte(script+"poweroff -f\n"))
	machine, at := emulated(t, "qemu-system-x86_64", "qemu-system-x86", "-m", "2048", "-no-reboot", "-kernel", kernel(t), "-initrd", a.file(t), "-append", "console=ttyS0 panic=-1 quiet")
	conn, err := net.Dial("tcp", strings.TrimPrefix(at, "tcp://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := conn.SetReadDeadline(time.Now().Add(15 * time.Minute)); err != nil {
		t.Fatal(err)
	}
	out, err := io.ReadAll(conn)
	if err != nil {
		t.Errorf("the machine did not end: %v", err)
	}
	_ = machine
	if n := strings.Count(string(out), ": 0\r\n"); n != wanted {
		t.Errorf("%d of %d packages passed:\n%s", n, wanted, out)
	}
}

// inUTC is a time of a zone in UTC.
func inUTC(t *testing.T, zone, clock string) string {
	t.Helper()
	place, err := time.LoadLocation(zone)
	if err != nil {
		t.Fatal(err)
	}
	at, err := time.ParseInLocation(time.DateTime, clock, place)
	if err != nil {
		t.Fatal(err)
	}
	return at.UTC().Format(time.DateTime)
}

// tree puts the tests of the quick packages into an archive, and what they read: all files of the project
// that are no Go.
func tree(t *testing.T, a *archive) {
	t.Helper()
	dir := t.TempDir()
	for pkg := range quick {
		name := strings.ReplaceAll(pkg, "/", "-")
		build := exec.Command("go", "test", "-c", "-tags", "timetzdata", "-ldflags", "-s -w", "-o", filepath.Join(dir, name), "./"+pkg)
		build.Dir, build.Env = "../..", append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			t.Fatalf("build the tests of %s: %v\n%s", pkg, err, out)
		}
		program, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		a.put("tests/"+name, 0o100755, program)
	}
	err := filepath.WalkDir("../..", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel := path.Join("src", strings.TrimPrefix(filepath.ToSlash(name), "../.."))
		switch {
		case e.IsDir() && (e.Name() == ".git" || e.Name() == "screenshots" || e.Name() == "release"):
			return filepath.SkipDir
		case e.IsDir():
			if rel != "src" {
				a.folders(rel)
			}
			return nil
		case !e.Type().IsRegular() || strings.HasSuffix(name, ".go"):
			return nil
		}
		info, err := e.Info()
		if err != nil || info.Size() > 1<<20 {
			return err
		}
		text, err := os.ReadFile(name)
		a.put(rel, 0o100644, text)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}
