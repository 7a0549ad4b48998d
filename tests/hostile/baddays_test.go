//go:build linux

package hostile

import (
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Values, files and devices that mean harm, a row each: what is done, how it ends, what is said, and what is in no
// file and on no screen.
func TestBadDays(t *testing.T) {
	t.Parallel()
	key := "frost-and-rime"
	colons := strings.TrimSuffix(strings.ToUpper(strings.Join(strings.SplitAfter(hex.EncodeToString([]byte(key)), ""), "")), ":")
	for i := 2; i < len(colons); i += 3 {
		colons = colons[:i] + ":" + colons[i:]
	}
	endless := "procedure \"Endless\"\nport radio: phrasebook \"dunlin.toml\"\nstep \"s\"\n say radio: AT\n repeat 1000000 times\n repeat 1000000 times\n let x = 1\n end\n end\nend\n"
	node := "procedure \"Node\"\nport radio: phrasebook \"dunlin.toml\"\ninput name: text\nstep \"s\"\n say radio: AT~NAME=\"{name}\"\nend\n"
	said := "procedure \"Said\"\nport radio: dialect at, ending cr\nsecret code\ninput x: text\nstep \"s\"\n say radio: AT~TRY={x}\nend\n"
	for name, c := range map[string]struct {
		files  map[string]string
		do     []string // calls, one after the other; the last is held against what follows
		status int
		says   string
		never  string // in no file and on no screen
	}{
		"one value in two writings":         {nil, []string{"units pool addresses 5 6 --ledger l.sqlite", "units pool addresses 7 05 --ledger l.sqlite"}, 2, "05 is 5 in another writing", ""},
		"a second line in an input":         {map[string]string{"n.parrot": node, "set.toml": "name = \"tower\\rAT~NODE=9\"\n"}, []string{"run n.parrot --bench larkfell.ports/bench.toml --port valley --set-file set.toml --no-ledger --record r.record"}, 1, "\\r", "~NODE=9\\r\\n\\r\\nOK"},
		"a second line in a settings file":  {map[string]string{"s.toml": "[settings]\nname = \"tower\\rAT~NODE=9\"\n"}, []string{"settings apply valley --bench larkfell.ports/bench.toml --file s.toml --yes --no-ledger"}, 2, "", "OK\\r\\nAT~NODE=9"},
		"a record of settings without sums": {nil, []string{"settings apply valley --bench larkfell.ports/bench.toml --set power=9 --yes --record s.record --no-ledger", "STRIP s.record", "settings restore valley --bench larkfell.ports/bench.toml --from-record s.record --yes --no-ledger"}, 2, "--allow-unprotected", ""},
		"a rehearsal without end":           {map[string]string{"e.parrot": endless}, []string{"rehearse e.parrot --for 500ms --json"}, 4, "it is not over after 500ms", ""},
		"a device for a phrasebook":         {map[string]string{"d.parrot": "procedure \"D\"\nport radio: phrasebook \"/dev/null\"\nstep \"s\"\n say radio: AT\nend\n"}, []string{"check d.parrot"}, 2, "it is a device, which is not opened to be read as a file", "Did you mean"},
		"a secret with colons between":      {map[string]string{"said.parrot": said}, []string{"run said.parrot --set x=" + colons + " --bench larkfell.ports/bench.toml --port valley --no-ledger --record r.record"}, 1, "[secret]", colons},
		"a secret in a pool":                {map[string]string{"keys.txt": "hoar-and-glaze\n"}, []string{"units pool keys --file keys.txt --secret --pool-key k --ledger l.sqlite", "DROP keys.txt", "results export --table runs --ledger l.sqlite"}, 0, "", "hoar-and-glaze"},
		"a procedure without a name":        {map[string]string{"p.parrot": "procedure \"\"\nstep \"\"\n pause 1ms\nend\n"}, []string{"check p.parrot"}, 2, "the step's title is empty", ""},
		"a database that refuses":           {nil, []string{"results --ledger postgres://bench@127.0.0.1:1/larkfell?sslmode=disable"}, 3, "the database does not answer", ""},
		"a name that steers the terminal":   {map[string]string{"\x1b]0;owned\x07.parrot": "x"}, []string{"check \x1b]0;owned\x07.parrot"}, 2, "\\x1b]0;owned", "\x1b]0;owned\x07"},
		"a code that no one asked for":      {nil, []string{"units pool keys hoar --secret --pool-key none/k --ledger l.sqlite", "units pool keys rime --secret --pool-key other --ledger l.sqlite"}, 2, "are encrypted under the key", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := &hit{t: t, dir: bench(t, c.files)}
			h.startBench()
			defer h.stopBench()
			var out []byte
			var err error
			for _, call := range c.do {
				word, file, _ := strings.Cut(call, " ")
				switch word {
				case "STRIP": // of its checksums
					text, rerr := os.ReadFile(h.file(file))
					if rerr != nil {
						t.Fatal(rerr)
					}
					lines := strings.Split(string(text), "\n")
					for i, l := range lines {
						if j := strings.Index(l, `,"sum":"`); j > 0 {
							lines[i] = l[:j] + l[j+len(`,"sum":""`)+64:]
						}
					}
					if err := os.WriteFile(h.file(file), []byte(strings.Replace(strings.Join(lines, "\n"), `"version":4`, `"version":1`, 1)), 0o600); err != nil {
						t.Fatal(err)
					}
				case "DROP":
					if err := os.Remove(h.file(file)); err != nil {
						t.Fatal(err)
					}
				default:
					cmd := h.program("", call)
					cmd.Env = append(cmd.Env, "UPARROT_CODE="+key)
					out, err = cmd.CombinedOutput()
				}
			}
			status := 0
			if exit, is := err.(*exec.ExitError); is {
				status = exit.ExitCode()
			}
			if status != c.status || !strings.Contains(strings.Join(strings.Fields(string(out)), " "), c.says) || c.never != "" && strings.Contains(string(out), c.never) {
				t.Errorf("ends with %d, want %d and %q:\n%s", status, c.status, c.says, out)
			}
			left, err := filepath.Glob(filepath.Join(h.dir, "*"))
			if err != nil {
				t.Fatal(err)
			}
			for _, path := range left {
				text, err := os.ReadFile(path)
				if _, own := c.files[filepath.Base(path)]; err == nil && !own && c.never != "" && strings.Contains(string(text), c.never) {
					t.Errorf("%s holds %q", path, c.never)
				}
			}
		})
	}
}
