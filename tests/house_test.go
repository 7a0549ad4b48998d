package tests

import (
	"encoding/json"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// rooms is the order of the rooms in core: each imports only rooms named above it,
// and its own parts.
var rooms = []string{
	"uart", "syserr", "text", "source", "schema", "manual", "output", "secret", "verdict", "pattern", "stats", "pace", "prbs", "series", "phrasebook", "record", "procedure", "port", "dialog", "bench",
	"bringup", "link", "perform", "sim", "ledger", "rehearse", "learn", "talk", "draft", "report", "session", "writing",
}

// Packages that a room may not reach, through whatever it imports.
var forbidden = map[string][]string{
	"uparrot/core/procedure":  {"net", "go.bug.st/serial", "github.com/creack/pty", "uparrot/core/port", "uparrot/core/dialog"},
	"uparrot/core/phrasebook": {"net", "go.bug.st/serial", "uparrot/core/port", "uparrot/core/dialog"},
	"uparrot/core/perform":    {"uparrot/core/sim", "uparrot/core/ledger", "uparrot/core/report"},
	"uparrot/core/bench":      {"uparrot/core/sim"},
	"uparrot/core/ledger":     {"uparrot/core/sim", "uparrot/core/report", "uparrot/core/perform"},
	"uparrot/core/session":    {"github.com/spf13/cobra", "charm.land/lipgloss/v2", "uparrot/cli"},
}

// The house stands: the arrows between rooms go one way, core knows no screen and
// no commands, and a room reaches no more than it needs.
func TestHouse(t *testing.T) {
	t.Parallel()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "../...")
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	place := map[string]int{}
	for i, r := range rooms {
		place[r] = i
	}
	room := func(path string) (string, bool) {
		rest, ok := strings.CutPrefix(path, "uparrot/core/")
		name, _, _ := strings.Cut(rest, "/")
		return name, ok
	}
	seen := map[string]bool{}
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			ImportPath    string
			Imports, Deps []string
		}
		if err := dec.Decode(&p); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		for _, no := range forbidden[p.ImportPath] {
			for _, d := range p.Deps {
				if d == no {
					t.Errorf("%s reaches %s", p.ImportPath, no)
				}
			}
		}
		from, ok := room(p.ImportPath)
		if !ok || strings.HasSuffix(p.ImportPath, "/simtest") { // which is for tests of every room
			continue
		}
		if _, ok := place[from]; !ok {
			t.Errorf("%s is no room of the house", p.ImportPath)
		}
		seen[from] = true
		for _, i := range p.Imports {
			to, ok := room(i)
			switch {
			case strings.HasPrefix(i, "uparrot/") && !ok:
				t.Errorf("%s imports %s, which is outside core", p.ImportPath, i)
			case ok && to != from && place[to] >= place[from]:
				t.Errorf("%s imports %s, which stands below it", p.ImportPath, i)
			}
		}
	}
	for _, r := range rooms {
		if !seen[r] {
			t.Errorf("there is no room %s", r)
		}
	}
}

// Every regular expression that is compiled when it is first needed is right.
func TestLazyRegexps(t *testing.T) {
	t.Parallel()
	written := regexp.MustCompile("text\\.Regexp\\((`[^`]*`|\"(?:[^\"\\\\]|\\\\.)*\")\\)")
	found := 0
	for _, root := range []string{"../core", "../cli"} {
		err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") {
				return err
			}
			source, err := os.ReadFile(path)
			for _, m := range written.FindAllStringSubmatch(string(source), -1) {
				expr, uerr := strconv.Unquote(m[1])
				if _, cerr := regexp.Compile(expr); uerr != nil || cerr != nil {
					t.Errorf("%s: %s: %v, %v", path, m[1], uerr, cerr)
				}
				found++
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if found < 60 {
		t.Errorf("only %d were found", found)
	}
}
