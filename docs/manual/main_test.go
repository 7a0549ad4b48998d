package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli"
)

// Each command has a manual page, which has its example and each of its flags; troff is asked for
// nothing by a line of text, and a formatter, where there is one, finds nothing to warn of.
func TestManualPages(t *testing.T) {
	t.Setenv("SOURCE_DATE_EPOCH", "1793000000")
	dir := t.TempDir()
	if err := writeManual(cli.Command(), dir); err != nil {
		t.Fatal(err)
	}
	root := cli.Command()
	root.InitDefaultHelpCmd()
	pages := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		b, err := os.ReadFile(filepath.Join(dir, strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"))
		if err != nil {
			t.Fatal(err)
		}
		pages++
		page := strings.NewReplacer(`\-`, "-", `\(dq`, `"`, `\(ti`, "~", `\(ha`, "^", `\(ga`, "`", `\&`, "", `\fB`, "", `\fP`, "", `\e`, `\`).Replace(string(b))
		if !strings.Contains(page, "Oct 2026") {
			t.Errorf("%s: no date: %s", c.CommandPath(), strings.SplitN(page, "\n", 2)[0])
		}
		for _, m := range regexp.MustCompile(`\\fB(uparrot\S*)\(1\)`).FindAllStringSubmatch(strings.ReplaceAll(string(b), `\-`, "-"), -1) {
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
			if request, _, _ := strings.Cut(line, " "); strings.HasPrefix(line, ".") && !slices.Contains([]string{".TH", ".SH", ".EX", ".EE", ".PP", ".nh"}, request) || strings.HasPrefix(line, "'") {
				t.Errorf("%s: troff is asked for %q", c.CommandPath(), line)
			}
		}
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() || c == root && sub.Name() == "help" {
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
		out, _ := exec.Command(mandoc, append([]string{"-T", "lint", "-W", "warning"}, files...)...).CombinedOutput() // its status is that of the lines
		for line := range strings.Lines(string(out)) {
			// The generator sets flags in with tabs, and writes months as words.
			if !strings.Contains(line, "tab in filled text") && !strings.Contains(line, "cannot parse date") {
				t.Errorf("mandoc: %s", line)
			}
		}
	} else {
		t.Log("SKIPPED: mandoc is not installed (Debian: mandoc)")
	}
}
