package cli

import (
	"bytes"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli/shell"
	"uparrot/docs"
)

// eachFlag gives each command's own flags to f.
func eachFlag(f func(c *cobra.Command, flag *pflag.Flag)) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		c.NonInheritedFlags().VisitAll(func(flag *pflag.Flag) { f(c, flag) })
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root((&shell.Streams{Out: io.Discard, Err: shell.NewScreen(io.Discard)})))
}

// The table of docs/code.md has each flag of two commands or more, its letter and the kinds of its
// value, and no others.
func TestTableOfFlags(t *testing.T) {
	page, err := docs.Files.ReadFile("code.md")
	if err != nil {
		t.Fatal(err)
	}
	type row struct{ letter, values string }
	told := map[string]row{}
	for _, m := range regexp.MustCompile("(?m)^\\| `--([a-z-]+)`(?:, `-([a-z])`)? \\| ([a-z, ]+) \\| .+ \\|$").FindAllStringSubmatch(string(page), -1) {
		told[m[1]] = row{m[2], m[3]}
	}
	words := map[string]string{"bool": "none", "int": "number", "float64": "number", "uint64": "number", "duration": "time", "string": "text", "stringArray": "texts", "stringSlice": "texts"}
	values, letters, commands := map[string]map[string]bool{}, map[string]string{}, map[string]int{}
	eachFlag(func(_ *cobra.Command, f *pflag.Flag) {
		if values[f.Name] == nil {
			values[f.Name] = map[string]bool{}
		}
		values[f.Name][words[f.Value.Type()]] = true
		letters[f.Name] = f.Shorthand
		commands[f.Name]++
	})
	for name, n := range commands {
		want := row{letters[name], strings.Join(slices.Sorted(maps.Keys(values[name])), ", ")}
		if name != "help" && n > 1 && told[name] != want {
			t.Errorf("--%s is of %d commands, and is %+v; the table has %+v", name, n, want, told[name])
		}
	}
	for name := range told {
		if commands[name] < 2 {
			t.Errorf("--%s is in the table, and of %d commands", name, commands[name])
		}
	}
	used := 0
	for name, letter := range shell.Shorts {
		if letters[name] == letter {
			used++
		}
	}
	if used != 10 {
		t.Errorf("%d of the ten letters are used", used)
	}
}

// What holds for the flags of all commands holds where it is used: letters, days, earlier names that
// are understood and not shown, flags that exclude each other, and - for standard input and output.
func TestGrammar(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TMPDIR", t.TempDir())
	t.Chdir(dir) // whose path may have a blank, at which the calls below are cut
	const in = "in.parrot"
	if err := os.WriteFile(in, []byte("procedure \"A\"\nport radio\nstep \"s\"\n    say radio: AT\nend\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		words  string
		status int
		out    string // in standard output
		errs   string // in standard error
	}{
		{"link budget --payload 48 --speed 9600", 0, "48 bytes", ""},
		{"link budget --size 48 --speed 9600 --every 0.5d", 0, "48 bytes", ""},
		{"link budget --size 48 --every 1d12h -j", 0, `"payload": 48`, ""},
		{"link budget --every 1x", 2, "", "1d"},
		{"link test tcp://127.0.0.1:1 tcp://127.0.0.1:2 --bits prbs9 --time 0s", 2, "", "--for 0s is no time"},
		{"probe tcp://127.0.0.1:1 --write y --into z --plan", 0, "", ""},
		{"check " + in + " --out o --overwrite --keep-both", 2, "", "--keep-both and --overwrite exclude each other"},
		{"run " + in + " --only s --from s", 2, "", "--from and --only exclude each other"},
		{"schema bench -o -", 0, `"$schema"`, ""},
		{"check " + in + " --as sarif -o -", 0, `"runs"`, "no mistakes"},
		{"check " + in + " -o - -j", 2, "", "both print to standard output"},
		{"link map --plot -", 2, "", ".png or .svg"},
		{"standin x --truth -", 2, "", ""},
		{"report - --verify", 2, "", ""},
	} {
		var out, errs bytes.Buffer
		status := Main(strings.Fields(c.words), strings.NewReader("no record\n"), &out, &errs)
		if status != c.status || !strings.Contains(out.String(), c.out) || !strings.Contains(errs.String(), c.errs) {
			t.Errorf("uparrot %s: exit status %d\n%s\n%s", c.words, status, out.String(), errs.String())
		}
		if strings.Contains(c.words, "-o -") && status == 0 && strings.Contains(out.String(), "no mistakes") {
			t.Errorf("uparrot %s: more than the result in standard output:\n%s", c.words, out.String())
		}
	}
	for path, names := range shell.Earlier {
		for was, now := range names {
			found := map[string]bool{}
			eachFlag(func(c *cobra.Command, f *pflag.Flag) {
				if c.CommandPath() == path {
					found[f.Name] = true
				}
			})
			if found[was] || !found[now] {
				t.Errorf("%s: --%s is shown, or --%s is not there", path, was, now)
			}
		}
	}
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "uparrot-record-*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

// Patterns become the files that fit them; what fits none, and the name of a file, stays.
func TestFilled(t *testing.T) {
	t.Chdir(t.TempDir())
	for _, name := range []string{"a.parrot", "b.parrot", "c.toml", "odd[1].parrot"} {
		if err := os.WriteFile(name, nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	got := shell.Filled([]string{"*.parrot", "none*.parrot", "c.toml", "?.toml", "odd[1].parrot", "[", "-"})
	want := "a.parrot b.parrot odd[1].parrot none*.parrot c.toml c.toml odd[1].parrot [ -"
	if strings.Join(got, " ") != want {
		t.Errorf("%q, want %q", got, want)
	}
	var takes []string
	eachCommand(func(c *cobra.Command) {
		if shell.TakesFiles().MatchString(c.Use) {
			takes = append(takes, c.Name())
		}
	})
	if got := strings.Join(takes, " "); got != "learn check tidy add" {
		t.Errorf("files are taken by %s", got)
	}
}

func eachCommand(f func(c *cobra.Command)) {
	seen := map[*cobra.Command]bool{}
	eachFlag(func(c *cobra.Command, _ *pflag.Flag) {
		if !seen[c] {
			seen[c] = true
			f(c)
		}
	})
}

// What is longer than a file may be is refused, never cut.
func TestLongStandardInput(t *testing.T) {
	var out, errs bytes.Buffer
	long := strings.NewReader("procedure \"A\"\n" + strings.Repeat("# a comment that goes on\n", 1<<20))
	if status := Main([]string{"tidy", "-"}, long, &out, &errs); status != 2 || out.Len() > 0 || !strings.Contains(errs.String(), "longer than 16 MiB") {
		t.Errorf("status %d, %d bytes, %s", status, out.Len(), errs.String())
	}
}
