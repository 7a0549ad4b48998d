package tests

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var block = regexp.MustCompile("(?ms)^```(parrot|toml)\n(.*?)^```")

func page(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile("../docs/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// Every procedure, phrasebook and bench in the docs is without mistakes.
func TestDocs(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil || len(pages) < 5 {
		t.Fatal(pages, err)
	}
	checked := 0
	for _, p := range pages {
		for _, m := range block.FindAllStringSubmatch(page(t, filepath.Base(p)), -1) {
			checked++
			name := fmt.Sprintf("block%d.%s", checked, m[1])
			b.write(name, m[2])
			b.run("check", name).wants(t, 0, "no mistakes")
		}
	}
	if checked < 8 {
		t.Errorf("only %d blocks were found", checked)
	}
}

// Every procedure of the language reference passes at the stand-ins.
func TestLanguageExamples(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("all.toml", b.read("larkfell.toml")+b.read("workshop.toml"))
	b.start("for other commands", "standin", "all.toml")
	examples := block.FindAllStringSubmatch(page(t, "language.md"), -1)
	if len(examples) < 4 {
		t.Fatalf("only %d examples", len(examples))
	}
	for i, m := range examples {
		name := fmt.Sprintf("example%d.parrot", i+1)
		text := strings.ReplaceAll(m[2], "47201", freePort(t, "tcp"))
		b.write(name, text)
		b.runWith([]string{"UPARROT_NETWORK_KEY=frost-and-rime"}, "", "run", name, "--bench", "all.toml", "--operator", "yes").wants(t, 0, "passed: all")
	}
}

// The tutorial does what it says: its files are written, its commands are run
// in order, and every line that it shows is in what came out.
func TestTutorial(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	file, fence := "", ""
	var lines, shown []string
	var last call
	ran := 0
	check := func() {
		for _, line := range shown {
			if !strings.Contains(last.out+last.err, strings.TrimSpace(line)) {
				t.Errorf("missing %q in\n%s%s", line, last.err, last.out)
			}
		}
		shown = nil
	}
	named := regexp.MustCompile("[Ff]ile\\s+`([a-z.]+)`")
	text := strings.ReplaceAll(page(t, "tutorial.md"), "File\n`", "File `")
	for _, line := range strings.Split(text, "\n") {
		switch {
		case strings.HasPrefix(line, "```") && fence == "":
			fence, lines = strings.TrimPrefix(line, "```"), nil
		case strings.HasPrefix(line, "```"):
			if fence == "console" {
				check()
			} else {
				b.write(file, strings.Join(lines, "\n")+"\n")
				if file == "bench.toml" {
					b.start("for other commands", "standin", file)
				}
			}
			fence = ""
		case fence == "console" && strings.HasPrefix(line, "$ uparrot "):
			check()
			command, exit, _ := strings.Cut(strings.TrimPrefix(line, "$ uparrot "), " ; exit ")
			last = b.run(strings.Fields(command)...)
			if want := map[string]int{"": 0, "2": 2}[exit]; last.status != want {
				t.Fatalf("%s ended with %d:\n%s%s", command, last.status, last.err, last.out)
			}
			ran++
		case fence == "console":
			shown = append(shown, line)
		case fence != "":
			lines = append(lines, line)
		default:
			if m := named.FindStringSubmatch(line); m != nil {
				file = m[1]
			}
		}
	}
	if ran < 7 {
		t.Errorf("only %d commands were run", ran)
	}
}
