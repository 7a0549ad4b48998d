package tests

import (
	"encoding/json"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// rooms is the order of the rooms in core: each imports only rooms named above it,
// and its own parts.
var rooms = []string{
	"uart", "syserr", "text", "source", "schema", "manual", "output", "secret", "verdict", "pattern", "stats", "pace", "prbs", "series", "phrasebook", "record", "procedure", "port", "dialog", "bench",
	"bringup", "link", "perform", "sim", "ledger", "rehearse", "learn", "talk", "draft", "report", "session", "batch", "writing",
}

// commands is the order of the rooms in cli: each imports only those named above it. The commands from
// find on do not know each other; begin, whose demo makes calls of them, may know all.
var commands = []string{"shell", "view", "account", "find", "speak", "watch", "write", "rehearse", "run", "measure", "prove", "begin"}

// mostLines is how many lines a room in cli has at most, its tests aside.
const mostLines = 2500

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
		checkCommands(t, p.ImportPath, p.Imports)
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

// checkCommands holds a room of cli against the order of such rooms, and its size.
func checkCommands(t *testing.T, path string, imports []string) {
	t.Helper()
	name, ok := strings.CutPrefix(path, "uparrot/cli/")
	if !ok {
		return
	}
	at := slices.Index(commands, name)
	if at < 0 {
		t.Errorf("%s is no room of the house", path)
	}
	for _, i := range imports {
		to, ok := strings.CutPrefix(i, "uparrot/cli/")
		above := slices.Index(commands, to)
		switch {
		case i == "uparrot/cli" || ok && above >= at:
			t.Errorf("%s imports %s, which stands below it", path, i)
		case ok && name != "begin" && above >= slices.Index(commands, "find"):
			t.Errorf("%s imports %s, which is about something else", path, i)
		}
	}
	files, err := filepath.Glob("../cli/" + name + "/*.go")
	if err != nil {
		t.Fatal(err)
	}
	lines := 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasSuffix(file, "_test.go") {
			lines += strings.Count(string(text), "\n")
		}
	}
	if lines > mostLines {
		t.Errorf("%s has %d lines, and may have %d", path, lines, mostLines)
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
