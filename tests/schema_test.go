//go:build unix

package tests

import (
	"archive/zip"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// compiled is a schema as another program reads it.
func compiled(t *testing.T, text string) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err != nil {
		t.Fatal(err, text)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("a.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("a.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// Every phrasebook and bench of the examples is as its schema says, and what check refuses it refuses
// where that shows; rows of units have the inputs of their procedure.
func TestSchemaCommand(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	book := compiled(t, b.run("schema", "phrasebook").wants(t, 0).out)
	table := compiled(t, b.run("schema", "bench").wants(t, 0).out)
	fits := func(s *jsonschema.Schema, text string) bool {
		var v any
		if err := toml.Unmarshal([]byte(text), &v); err != nil {
			t.Fatal(err, text)
		}
		whole, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		v, err = jsonschema.UnmarshalJSON(strings.NewReader(string(whole)))
		if err != nil {
			t.Fatal(err)
		}
		return s.Validate(v) == nil
	}
	files, err := filepath.Glob("../examples/*.toml")
	if err != nil || len(files) < 10 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		text := b.read(filepath.Base(f))
		if !fits(book, text) && !fits(table, text) {
			t.Errorf("%s is as neither schema says", f)
		}
	}
	for text, want := range map[string]bool{
		"family = \"X\"\n": true, "famly = \"X\"\n": false, "family = \"X\"\n[[setting]]\nname = \"a\"\nrange = [1, 2]\n": true, "family = \"X\"\n[[setting]]\nrange = [1]\n": false,
		"family = \"X\"\ndialect = \"morse\"\n": false, "[port.a]\nat = \"x\"\n": false,
	} {
		if fits(book, text) != want {
			t.Errorf("%q fits: %v", text, !want)
		}
	}
	for text, want := range map[string]bool{"[port.a]\nat = \"x\"\n": true, "[port.a]\nta = \"x\"\n": false, "[air]\nloss = \"2%\"\n": true, "[air]\nloss = 0.02\n": true, "[shared]\nair = \"one\"\n": false} {
		if fits(table, text) != want {
			t.Errorf("%q fits: %v", text, !want)
		}
	}
	rows := compiled(t, b.run("schema", "units", "commission.parrot", "--out", "units.json").wants(t, 0).out+b.read("units.json"))
	for text, want := range map[string]bool{`{"unit":"LK-1","address":5}`: true, `{"unit":"LK-1"}`: false, `{"unit":"LK-1","address":0}`: false, `{"unit":"LK-1","adress":5,"address":5}`: false} {
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		if err != nil || (rows.Validate(v) == nil) != want {
			t.Errorf("%s fits: %v, %v", text, !want, err)
		}
	}
	b.run("schema", "units", "commission.parrot", "--out", "units.json").wants(t, 2, "exists")
	b.run("schema", "phrasebok").wants(t, 2, `Did you mean "phrasebook"?`)
	b.run("schema", "bench", "commission.parrot").wants(t, 2, "only the schema of units")
}

// The extension for an editor holds what its own manifest names.
func TestExtension(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.run("lsp", "--extension").wants(t, 2, "name the file with --out")
	b.run("lsp", "--extension", "--out", "x.vsix").wants(t, 0)
	b.run("lsp", "--extension", "--out", "x.vsix").wants(t, 2, "exists")
	z, err := zip.OpenReader(filepath.Join(b.dir, "x.vsix"))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	texts := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		texts[f.Name] = string(text)
	}
	var manifest struct {
		Main        string
		Contributes struct {
			Languages []struct{ Configuration string }
			Grammars  []struct{ Path string }
		}
	}
	if err := json.Unmarshal([]byte(texts["extension/package.json"]), &manifest); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{manifest.Main, manifest.Contributes.Languages[0].Configuration, manifest.Contributes.Grammars[0].Path} {
		if texts["extension/"+strings.TrimPrefix(name, "./")] == "" {
			t.Errorf("%s is not in it", name)
		}
	}
	if !strings.Contains(texts["extension.vsixmanifest"], "extension/package.json") || texts["[Content_Types].xml"] == "" {
		t.Errorf("%v", texts)
	}
}

// Each example is written with the files that it names, so that check finds nothing missing.
func TestExample(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	c := b.run("example").wants(t, 0, "commission.parrot", "larkfell.toml       bench, 2 ports", "uparrot example NAME writes one")
	names := 0
	for _, l := range strings.Split(c.out, "\n") {
		name, _, _ := strings.Cut(l, " ")
		if ext := filepath.Ext(name); ext != ".parrot" && ext != ".toml" {
			continue
		}
		names++
		b.run("example", name, "--dir", "own-"+name).wants(t, 0, name)
		b.run("check", "own-"+name).wants(t, 0, "no mistakes")
	}
	if names < 30 {
		t.Errorf("only %d examples", names)
	}
	b.run("example", "all", "--dir", "all").wants(t, 0)
	b.run("check", "all").wants(t, 0)
	b.run("example", "commission").wants(t, 2, "exists")
	b.write("commission.parrot", "# of my own\n")
	b.run("example", "commission.parrot", "--keep-both").wants(t, 0)
	b.run("example", "commission.parrot", "--overwrite").wants(t, 0)
	b.run("check", "commission.parrot").wants(t, 0)
	b.run("example", "comission").wants(t, 2, `Did you mean "commission"?`)
	b.run("example", "tray").wants(t, 2, "several examples", "tray.csv, tray.toml")
	b.run("help", "hear").wants(t, 0, "Statements (docs/language.md)", "hear PORT [within T]: TEXT", "a whole line that matches must come within the time")
	b.run("help", "watch").wants(t, 0, "uparrot watch PORT", "reads values as they come, or polled")
	b.run("help", "link", "test").wants(t, 0, "--max-loss")
	b.run("help", "heer").wants(t, 2, `Did you mean "hear"?`)
	b.run("--help").wants(t, 0, "Find out what is there:", "Exit statuses", "Prove:")
}

// Colours go by --color, then by the environment, then by the terminal.
func TestColours(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for _, c := range []struct {
		env  []string
		args []string
		want bool
	}{
		{nil, nil, false}, {nil, []string{"--color", "always"}, true}, {[]string{"FORCE_COLOR=1"}, nil, true}, {[]string{"CLICOLOR_FORCE=1"}, nil, true}, {[]string{"CLICOLOR_FORCE=0"}, nil, false},
		{[]string{"FORCE_COLOR=1", "NO_COLOR=1"}, nil, false}, {[]string{"NO_COLOR=1"}, []string{"--color", "always"}, true}, {[]string{"FORCE_COLOR=1"}, []string{"--color=never"}, false},
	} {
		if got := strings.Contains(b.runWith(c.env, "", append([]string{"rehearse", "hasty.parrot"}, c.args...)...).out, "\x1b["); got != c.want {
			t.Errorf("%v %v: coloured %v", c.env, c.args, got)
		}
	}
	b.run("check", "hasty.parrot", "--color", "blue").wants(t, 2, `there is no "blue"`, "always, auto, never")
}

// What is read, and how findings are told to other programs.
func TestCheckFolders(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for _, dir := range []string{"sub", "empty"} {
		if err := os.Mkdir(filepath.Join(b.dir, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	b.write("sub/bad.parrot", "procedure \"Bad\"\nport radio\nstep \"s\"\n    sya radio: AT\n    limit speed in 1..2\nend\n")
	b.write("answers.toml", "\"Is it there?\" = \"yes\"\n")
	c := b.run("check", ".").wants(t, 2, "answers.toml is not read: it is neither a bench nor a phrasebook", "commission.parrot: procedure", "sub/bad.parrot:4:5", "sub/bad.parrot:5:11", "larkfell.toml: bench, 2 ports", "it has no:")
	if strings.Count(c.out, "no mistakes") < 25 {
		t.Error(c.out)
	}
	b.run("check", "sub", "--as", "sarif", "--out", "found.sarif").wants(t, 2)
	var s struct {
		Runs []struct {
			Results []struct {
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(b.read("found.sarif")), &s); err != nil || len(s.Runs[0].Results) != 2 {
		t.Fatal(err, b.read("found.sarif"))
	}
	if at := s.Runs[0].Results[0].Locations[0].PhysicalLocation; at.ArtifactLocation.URI != "sub/bad.parrot" || at.Region.StartLine != 4 || at.Region.StartColumn != 5 || at.Region.EndColumn != 8 {
		t.Errorf("%+v", at)
	}
	b.run("check", "sub", "--as", "pdf", "--out", "x").wants(t, 2, `there is no form "pdf"`)
	b.run("check", "sub", "--as", "sarif").wants(t, 2, "name the file with --out")
	b.run("check", "sub/bad.parrot", "--as", "sarif", "--out", "sub/bad.parrot", "--overwrite").wants(t, 2, "bad.parrot")
	b.write("empty/a.txt", "x")
	b.run("check", "empty").wants(t, 2, "there is no procedure")
	b.runWith(nil, b.read("hasty.parrot"), "check", "-", "--name", "hasty.parrot").wants(t, 0, "hasty.parrot: procedure")
	b.runWith(nil, b.read("hasty.parrot"), "check", "-").wants(t, 0, "input.parrot: procedure")
	b.runWith(nil, b.read("larkfell.toml"), "check", "-").wants(t, 0, "input.toml: bench")
	b.runWith(nil, b.read("hasty.parrot"), "check", "-", "--name", "elsewhere/hasty.parrot").wants(t, 2, "the phrasebook cannot be read")
	b.runWith(nil, "procedure \"P\"\nstep \"s\"\n    sya x\nend\n", "check", "-", "--json").wants(t, 2, `"file": "input.parrot"`, `"line": 3`)
}
