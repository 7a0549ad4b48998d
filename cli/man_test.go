package cli

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli/shell"
)

// Each command has a manual page, which has its example and each of its flags; troff is asked for
// nothing by a line of text, and a formatter, where there is one, finds nothing to warn of.
func TestManualPages(t *testing.T) {
	t.Setenv("SOURCE_DATE_EPOCH", "1793000000")
	dir := t.TempDir()
	a := &shell.Streams{Out: io.Discard, Err: shell.NewScreen(io.Discard)}
	root := root(a)
	root.SetArgs([]string{"man", dir})
	if err := root.Execute(); err != nil {
		t.Fatal(err)
	}
	pages := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		b, err := os.ReadFile(filepath.Join(dir, manualName(c)+".1"))
		if err != nil {
			t.Fatal(err)
		}
		pages++
		page := strings.NewReplacer(`\-`, "-", `\(dq`, `"`, `\(ti`, "~", `\(ha`, "^", `\(ga`, "`", `\&`, "", `\e`, `\`).Replace(string(b))
		if !strings.Contains(page, "2026-10-26") {
			t.Errorf("%s: no date: %s", c.CommandPath(), strings.SplitN(page, "\n", 2)[0])
		}
		for _, m := range regexp.MustCompile(`(?m)^\.BR (\S+) \(1\)`).FindAllStringSubmatch(page, -1) {
			if _, err := os.Stat(filepath.Join(dir, m[1]+".1")); err != nil {
				t.Errorf("%s points to a page that is not there: %v", c.CommandPath(), err)
			}
		}
		want := []string{strings.TrimSpace(strings.SplitN(strings.TrimSpace(c.Example), "\n", 2)[0])}
		for line := range strings.SplitSeq(c.Long, "\n") {
			want = append(want, line)
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if !f.Hidden {
				want = append(want, "--"+f.Name)
			}
		})
		for _, w := range want {
			if !strings.Contains(page, w) {
				t.Errorf("%s: %q is not in the page", c.CommandPath(), w)
			}
		}
		for line := range strings.SplitSeq(string(b), "\n") {
			if request, _, _ := strings.Cut(line, " "); strings.HasPrefix(line, ".") && !slices.Contains([]string{".TH", ".SH", ".nf", ".fi", ".PP", ".TP", ".B", ".BR", ".ad", ".nh"}, request) || strings.HasPrefix(line, "'") {
				t.Errorf("%s: troff is asked for %q", c.CommandPath(), line)
			}
		}
		for _, sub := range c.Commands() {
			if hasPage(sub) {
				walk(sub)
			}
		}
	}
	walk(root)
	files, err := filepath.Glob(filepath.Join(dir, "*.1"))
	if err != nil || len(files) != pages || pages < 40 {
		t.Errorf("%d files for %d commands, %v", len(files), pages, err)
	}
	if mandoc, err := exec.LookPath("mandoc"); err == nil {
		if out, err := exec.Command(mandoc, append([]string{"-T", "lint", "-W", "warning"}, files...)...).CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("mandoc: %v\n%s", err, out)
		}
	} else {
		t.Log("SKIPPED: mandoc is not installed (Debian: mandoc)")
	}
}
