package tests

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// shownPage is what a page of the docs needs for its calls to be made one after the other, as they
// stand there.
type shownPage struct {
	lives   []string            // benches that are at work meanwhile
	files   map[string]string   // which the page takes for granted
	first   [][]string          // calls that have been made before
	instead map[string]string   // what stands for what only a reader has
	also    map[string][]string // what is added to calls with these words, since nobody is there
	ends    map[string]int      // exit statuses of calls with these words, if not 0
}

const crib = "AT\nATI\nAT~NODE?\nAT~GROUP=7\nAT~GROUP?\n"

var shownPages = map[string]shownPage{
	"bring-up.md": {
		lives:   []string{"station.toml", "larkfell.toml"},
		files:   map[string]string{"hand.txt": "AT\nATI\n"},
		instead: map[string]string{"/dev/ttyUSB0": "station.ports/modem", "--bench bench.toml": "--bench larkfell.toml"},
		also:    map[string][]string{"loopback": {"--no-ask"}},
	},
	"first-hour.md": {
		lives: []string{"station.toml"},
		files: map[string]string{"crib.txt": "AT\nATI\nAT+CMEE=1\n"},
		ends:  map[string]int{"run modem.parrot": 0},
	},
	"learn.md": {
		lives: []string{"larkfell.toml"},
		files: map[string]string{"crib.txt": "AT\nAT~GROUP=7\n", "session.log": "[10:00:00] TX: AT\n[10:00:01] RX: OK\n[10:00:02] TX: ATI\n[10:00:03] RX: Dunlin\n[10:00:03] RX: OK\n"},
		first: [][]string{{"talk", "summit", "--bench", "larkfell.toml", "--record", "second.record"}},
		also:  map[string][]string{"second.record": {"--overwrite"}, "--from-list": {"--overwrite"}},
	},
	"ledger.md": {lives: []string{"larkfell.toml"}},
	"phrasebook.md": {
		lives: []string{"station.toml", "larkfell.toml"},
		files: map[string]string{"guide.csv": "command,meaning,range\nAT~GROUP=<group>,group of radios,0..255\n", "earlier.csv": "command,meaning,range\nAT~GROUP=<group>,group of radios,0..99\n"},
		first: [][]string{{"talk", "valley", "--bench", "larkfell.toml", "--record", "by-hand.record"}, {"phrasebook", "new", "Dunlin", "--table", "earlier.csv", "--yes", "--out", "dunlin-2.3.toml"}, {"probe", "station.ports/modem", "--into", "bench.toml", "--name", "modem"}},
		also:  map[string][]string{"phrasebook new": {"--yes", "--overwrite"}},
		ends:  map[string]int{"phrasebook compare": 1},
	},
	"record.md": {
		lives: []string{"larkfell.toml"},
		first: [][]string{{"run", "commission.parrot", "--bench", "larkfell.toml", "--port", "valley", "--set", "address=1", "--record", "valley.record"}},
	},
	"rehearse.md": {ends: map[string]int{"hasty.parrot": 1}},
	"settings.md": {
		lives: []string{"larkfell.toml"},
		first: [][]string{{"settings", "apply", "valley", "--bench", "larkfell.toml", "--set", "group=9", "--yes", "--record", "found.record", "--unit", "LK-0017"}},
		also:  map[string][]string{"settings apply": {"--yes"}, "settings restore": {"--yes"}},
		ends:  map[string]int{"settings compare": 1, "settings read": 1}, // both radios have one address: a broken rule
	},
	"units.md": {
		lives:   []string{"larkfell.toml", "tray.toml"},
		files:   map[string]string{"units.csv": "unit,address,power\nLK-0001,11,14\nLK-0002,12,14\n", "keys.txt": "snowline-7\nsnowline-8\n"},
		instead: map[string]string{"postgres://bench@tower/larkfell": "team.sqlite", "load tray.csv": "load units.csv", "batch:tray": "batch:units", "list tray": "list units"},
		also:    map[string][]string{"--units": {"--next", "none", "--operator", "none"}},
		ends:    map[string]int{"--units units.csv": 4, "--units tray.csv": 4}, // nobody puts in the next module, which is noticed
	},
	"watch.md": {
		lives: []string{"workshop.toml"},
		also:  map[string][]string{"uparrot watch": {"--for", "2s"}},
	},
}

var shownCall = regexp.MustCompile(`(?m)^    (?:\$ )?(uparrot .*)$`)

// Each call that a page shows as one to be made does what the page says: its exit status is the one
// that is told, in the order of the page, with the stand-ins in the place of hardware.
func TestCallsOfTheDocs(t *testing.T) {
	t.Parallel()
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range pages {
		name := filepath.Base(path)
		calls := shownCall.FindAllStringSubmatch(page(t, name), -1)
		setting, known := shownPages[name]
		if len(calls) == 0 {
			if known {
				t.Errorf("%s shows no calls any more", name)
			}
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if !known {
				t.Fatal("nothing is known of what its calls need")
			}
			r := &reader{bench: newBench(t), page: setting, lives: map[string]*exec.Cmd{}}
			r.make(calls)
		})
	}
}

// reader makes the calls of a page.
type reader struct {
	*bench
	page  shownPage
	lives map[string]*exec.Cmd
}

func (r *reader) live(args ...string) {
	r.t.Helper()
	name := args[len(args)-1]
	if running := r.lives[name]; running != nil {
		stop(r.t, running)
	}
	r.lives[name] = r.start("for other commands", append([]string{"standin"}, args...)...)
}

func (r *reader) make(calls [][]string) {
	r.t.Helper()
	for name, text := range r.page.files {
		r.write(name, text)
	}
	for _, name := range r.page.lives {
		r.live(name)
	}
	own := []string{"XDG_DATA_HOME=" + filepath.Join(r.dir, "data")}
	for _, args := range r.page.first {
		if c := r.runWith(own, crib, args...); c.status != 0 {
			r.t.Fatalf("%v before: status %d\n%s%s", args, c.status, c.out, c.err)
		}
	}
	for _, m := range calls {
		line, _, _ := strings.Cut(m[1], "  #")
		for from, to := range r.page.instead {
			line = strings.ReplaceAll(line, from, to)
		}
		line, from, piped := strings.Cut(strings.TrimSpace(line), " < ")
		args := shellWords(strings.TrimPrefix(line, "uparrot "))
		for words, more := range r.page.also {
			if strings.Contains(line, words) {
				args = append(args, more...)
			}
		}
		switch {
		case args[0] == "standin" && !slices.Contains(args, "--tell"):
			r.live(args[1:]...)
			continue
		case slices.Contains(args, "--follow"):
			stop(r.t, r.follow(args))
			continue
		case args[0] == "loopback":
			r.run("standin", "station.toml", "--tell", "wire modem looped").wants(r.t, 0)
		}
		in := crib
		switch {
		case piped:
			in = r.read(from)
		case strings.Contains(line, "talk valley summit"): // which of two, each line says
			in = "valley: AT\nsummit: ATI\n"
		}
		want := 0
		for words, status := range r.page.ends {
			if strings.Contains(line, words) {
				want = status
			}
		}
		if c := r.runWith(own, in, args...); c.status != want {
			r.t.Errorf("%s: status %d, want %d:\n%s%s", line, c.status, want, c.out, c.err)
		}
		if args[0] == "loopback" {
			r.run("standin", "station.toml", "--tell", "wire modem crossed").wants(r.t, 0)
		}
	}
}

// follow starts a call that goes on until a person ends it, and waits until it says so.
func (r *reader) follow(args []string) *exec.Cmd {
	r.t.Helper()
	cmd := exec.Command(uparrot, args...)
	cmd.Dir = r.dir
	errs, err := os.CreateTemp(r.dir, "followed-")
	if err != nil {
		r.t.Fatal(err)
	}
	defer errs.Close()
	cmd.Stderr = errs
	if err := cmd.Start(); err != nil {
		r.t.Fatal(err)
	}
	r.waitFor(filepath.Base(errs.Name()), "Following.")
	return cmd
}
