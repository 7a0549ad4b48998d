package cli

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli/shell"
)

// completed is what Cobra's own completion call offers, and what a shell is to do with it.
func completed(t *testing.T, args ...string) (offers []string, directive string) {
	t.Helper()
	var out bytes.Buffer
	root := root((&shell.Streams{In: strings.NewReader(""), Out: &out, Err: shell.NewScreen(&bytes.Buffer{})}))
	root.SetOut(&out)
	root.SetErr(&bytes.Buffer{})
	root.SetArgs(append([]string{cobra.ShellCompNoDescRequestCmd}, args...))
	if err := root.Execute(); err != nil {
		t.Fatalf("%v: %v", args, err)
	}
	lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
	return lines[:len(lines)-1], lines[len(lines)-1]
}

// Each flag with a value is completed: with words, with files of its endings, or with nothing; none falls
// back to all files unless a file of any name is meant.
func TestFlagsAreCompleted(t *testing.T) {
	any := map[string]bool{"out": true, "metrics": true, "checkpoint": true, "resume": true, "from-list": true, "from-log": true}
	flags := 0
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		path := strings.Fields(c.CommandPath())[1:]
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if f.Value.Type() == "bool" || len(path) == 0 {
				return
			}
			flags++
			_, directive := completed(t, append(append([]string{}, path...), "--"+f.Name, "")...)
			if directive == ":0" && !any[f.Name] {
				t.Errorf("%s --%s is completed with any file", c.CommandPath(), f.Name)
			}
		})
		for _, sub := range c.Commands() {
			visit(sub)
		}
	}
	visit(root((&shell.Streams{In: os.Stdin, Out: &bytes.Buffer{}, Err: shell.NewScreen(&bytes.Buffer{})})))
	if flags < 200 {
		t.Errorf("only %d flags", flags)
	}
}

// What is offered comes from the files that the call names.
func TestCompletedFromFiles(t *testing.T) {
	const dir = "../examples/"
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"run", dir + "commission.parrot", "--bench", dir + "larkfell.toml", "--port", ""}, "summit valley radio=summit radio=valley"},
		{[]string{"run", dir + "greeting.parrot", "--bench", dir + "larkfell.toml", "--port", "v"}, "valley=summit valley=valley"},
		{[]string{"run", dir + "commission.parrot", "--set", ""}, "address= group= channel="},
		{[]string{"run", dir + "hasty.parrot", "--only", "it"}, "it is set|it starts again"},
		{[]string{"run", dir + "tower.parrot", "--secret-file", ""}, "code="},
		{[]string{"run", dir + "anyradio.parrot", "--bench", dir + "tray.toml", "--slots", ""}, "all 1 2 3 4"},
		{[]string{"talk", "--bench", dir + "larkfell.toml", ""}, "summit valley"},
		{[]string{"watch", "gauge", "--bench", dir + "workshop.toml", "--reading", ""}, "wind"},
		{[]string{"report", "--as", "ju"}, "junit"},
		{[]string{"rehearse", "x", "--as", "s"}, "sarif"},
		{[]string{"talk", "x", "--dialect", ""}, "at console lines bytes"},
		{[]string{"schema", ""}, "phrasebook bench units"},
		{[]string{"example", "tr"}, "tray.csv tray.toml"},
		{[]string{"results", "--verdict", "f"}, "failed"},
		{[]string{"link", "test", "a", "b", "--every", ""}, "500ms 1s 10s 1m 10m 1h"},
		{[]string{"run", "--bench", ""}, "toml"},
		{[]string{"reh"}, "rehearse"},
	} {
		offers, _ := completed(t, c.args...)
		sep := " "
		if strings.Contains(c.want, "|") {
			sep = "|"
		}
		if got := strings.Join(offers, sep); got != c.want {
			t.Errorf("%v: %q, wanted %q", c.args, got, c.want)
		}
	}
}
