//go:build unix

package tests

import (
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The script of the documents does in a build what they say, and tells what did not pass.
func TestBuildScript(t *testing.T) {
	t.Parallel()
	script, err := filepath.Abs("../docs/ci/bench.sh")
	if err != nil {
		t.Fatal(err)
	}
	build := func(b *bench, env ...string) call {
		t.Helper()
		cmd := exec.Command("sh", script, "results")
		cmd.Dir = b.dir
		cmd.Env = append(append(os.Environ(), "PATH="+filepath.Dir(uparrot)+string(os.PathListSeparator)+os.Getenv("PATH")), env...)
		out, err := cmd.CombinedOutput()
		return call{b.status(err), string(out), ""}
	}
	cases := func(b *bench, file string) (tests, failures int) {
		t.Helper()
		var suites struct {
			Cases []struct {
				Failure *struct{} `xml:"failure"`
			} `xml:"testcase"`
			Suites []struct {
				Cases []struct {
					Failure *struct{} `xml:"failure"`
				} `xml:"testcase"`
			} `xml:"testsuite"`
		}
		if err := xml.Unmarshal([]byte(b.read(file)), &suites); err != nil {
			t.Fatal(err)
		}
		all := suites.Cases
		for _, s := range suites.Suites {
			all = append(all, s.Cases...)
		}
		for _, c := range all {
			tests++
			if c.Failure != nil {
				failures++
			}
		}
		return tests, failures
	}
	good := newBench(t)
	c := build(good)
	if c.status != 0 || strings.Count(c.out, ": passed") != 5 {
		t.Fatalf("%d: %s", c.status, c.out)
	}
	if n, failed := cases(good, "results/run.xml"); n != 7 || failed > 0 {
		t.Errorf("%d steps, %d failed", n, failed)
	}
	if n, failed := cases(good, "results/rehearse.xml"); n < 40 || failed > 0 {
		t.Errorf("%d modules, %d failed", n, failed)
	}
	if !strings.Contains(good.read("results/run.html"), "Commission a tower radio") || !strings.Contains(good.read("results/check.sarif"), `"results": []`) {
		t.Error("the page or the findings are not what they should be")
	}
	// A procedure that lets bad modules through, one with a mistake, and a module that is not there.
	weak := newBench(t)
	if c := build(weak, "PROCEDURE=hasty.parrot"); c.status != 1 || !strings.Contains(c.out, "rehearse: did not pass (status 1)") || !strings.Contains(c.out, "run: passed") {
		t.Errorf("%d: %s", c.status, c.out)
	}
	wrong := newBench(t)
	wrong.write("commission.parrot", strings.Replace(wrong.read("commission.parrot"), "say radio: AT\n", "sya radio: AT\n", 1))
	if c := build(wrong); c.status != 1 || !strings.Contains(c.out, "check: did not pass (status 2)") || !strings.Contains(c.out, `unknown word "sya"`) || !strings.Contains(wrong.read("results/check.sarif"), "unknown word") {
		t.Errorf("%d: %s", c.status, c.out)
	}
	gone := newBench(t)
	if c := build(gone, "BENCH=none.toml"); c.status != 1 || !strings.Contains(c.out, "none.toml cannot be read") {
		t.Errorf("%d: %s", c.status, c.out)
	}
}
