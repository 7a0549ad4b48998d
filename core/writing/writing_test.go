package writing

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"uparrot/core/procedure"
	"uparrot/core/source"
)

// sample is a procedure, a phrasebook or a bench of the examples or of the documents.
type sample struct {
	path, text string
}

// samples are all example files, and the procedures that the documents show.
func samples(t testing.TB, ending string) (all []sample) {
	t.Helper()
	files, err := filepath.Glob("../../examples/*" + ending)
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, sample{f, string(text)})
	}
	if ending != ".parrot" {
		return all
	}
	docs, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range docs {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for i, part := range strings.Split(string(text), "```parrot\n")[1:] {
			shown, _, _ := strings.Cut(part, "```")
			all = append(all, sample{fmt.Sprintf("../../examples/%s-%d.parrot", filepath.Base(f), i), shown})
		}
	}
	return all
}

func doc(t testing.TB, s sample) *Doc {
	t.Helper()
	d := Read(s.path, s.text, source.ReadFile)
	if err := d.Mistakes.Err(); err != nil {
		t.Fatalf("%s: %v", s.path, err)
	}
	return d
}

// again is a file with edits of it.
func again(s sample, edits ...Edit) *Doc {
	return Read(s.path, Apply(s.text, edits), source.ReadFile)
}

// At every place of every example where a name, a word or a command stands, what stands there is among
// what could, and putting it in gives the file back.
func TestComplete(t *testing.T) {
	offered := func(s sample, line, column int, what string, head bool) {
		t.Helper()
		from := Edit{s.path, Range{line, column + 1, column + len([]rune(what))}, ""}
		d := again(s, from) // only its first character is there
		at := Place{line, column + 1}
		for _, it := range d.Complete(at) {
			if it.Text != what && !(head && strings.HasPrefix(it.Text, what)) {
				continue
			}
			put := Edit{s.path, it.Put, it.Text}
			if got := Apply(strings.Join(d.Lines, "\n"), []Edit{put}); got != s.text && !head {
				t.Errorf("%s:%d:%d: %q put in gives %q", s.path, line, column, what, source.SplitLines(got).At(line))
			}
			return
		}
		t.Errorf("%s:%d:%d: %q is not offered at %q", s.path, line, column, what, d.before(at))
	}
	places := 0
	for _, s := range samples(t, ".parrot") {
		d := doc(t, s)
		for _, u := range d.file.Uses {
			if u.Kind == procedure.SettingUseOf && d.bookOf(u.Port) == nil {
				continue // only the bench names its phrasebook
			}
			if u.File != s.path || u.Gives || len(u.Name) < 2 || u.Kind == procedure.FileUse && strings.Contains(u.Name, "/") {
				continue
			}
			offered(s, u.Line, u.Column, u.Name, u.Kind == procedure.RoutineUse)
			places++
		}
		done := map[string]bool{} // each word once in each sort of block
		for i, l := range d.Lines {
			open, _ := d.openBlocks(i + 1)
			key := firstWord(l) + " in " + strings.Join(open, " ")
			if w := firstWord(l); w != "" && !strings.HasPrefix(strings.TrimSpace(l), "#") && !done[key] {
				done[key] = true
				offered(s, i+1, len(l)-len(strings.TrimLeft(l, " "))+1, w, false)
				places++
			}
		}
	}
	for _, s := range samples(t, ".toml") {
		for i, l := range doc(t, s).Lines {
			if m := keyLine().FindStringSubmatchIndex(l); m != nil && len(l[m[2]:m[3]]) > 1 {
				if tab, _ := doc(t, s).tableAt(i + 1); tab == nil || tab.Key(l[m[2]:m[3]]) == nil {
					continue // a name that the person chose
				}
				without := Read(s.path, Apply(s.text, []Edit{{s.path, Range{i + 1, m[2] + 2, len([]rune(l)) + 1}, ""}}), source.ReadFile)
				if !slices.ContainsFunc(without.Complete(Place{i + 1, m[2] + 2}), func(it Item) bool { return it.Label == l[m[2]:m[3]] }) {
					t.Errorf("%s:%d: %q is not offered", s.path, i+1, l[m[2]:m[3]])
				}
				places++
			}
		}
	}
	if places < 700 {
		t.Errorf("only %d places", places)
	}
}

// What could stand is told with its meaning, range and unit; what a phrasebook knows comes with it.
func TestCompleteItems(t *testing.T) {
	head := "procedure \"P\"\nport radio: dialect at, ending cr, phrasebook \"dunlin.toml\"\nport other: dialect at, phrasebook \"dunlin.toml\"\ninput address: int 1..9 \"on the lid\"\nroutine greet(module)\n    say module: AT\nend\nstep \"s\"\n"
	for _, c := range []struct{ text, label, detail, about string }{
		{"    set radio cha", "channel", "0 to 79", ""},
		{"    get radio ser", "serial number", "", ""},
		{"    say radio: AT~NO", "AT~NODE={value}", "sets address", "1 to 65534"},
		{"    say radio: AT~NODE?\n    hear radio: ", "~NODE: {value:int}", "answer to AT~NODE?", ""},
		{"    check addr", "address", "an input int", "int 1..9 on the lid"},
		{"    check le", "len", "len(x)", "bytes"},
		{"    say radio: AT~NODE={addr", "address", "an input int", ""},
		{"    hear radio: {x:in", "int", "a whole number", ""},
		{"    do gr", "greet", "do greet(module)", ""},
		{"    do greet(ot", "other", "port", ""},
		{"    set radio channel = ", "41", "as delivered", ""},
		{"    power radio c", "cycle", "off and on", ""},
		{"    line radio dia", "dialect", "", ""},
		{"    line radio dialect c", "console", "a prompt", ""},
		{"end\nport more: dialect a", "at", "final results", ""},
		{"end\nport more: dialect at, end", "ending", "", "said line"},
		{"end\nport more: phrasebook \"red", "redshank.toml", "", ""},
		{"end\nstep \"t\" tr", "tries", "tries N", ""},
		{"end\nro", "routine", "", ""},
		{"    any\n    c", "case", "case hear", ""},
		{"    watch for 1s\n    poll radio every 1s: AT~N", "AT~NODE?", "reads address", ""},
	} {
		text := head + c.text
		lines := strings.Split(text, "\n")
		d := Read("../../examples/x.parrot", text, source.ReadFile)
		items := d.Complete(Place{len(lines), len([]rune(lines[len(lines)-1])) + 1})
		i := slices.IndexFunc(items, func(it Item) bool { return it.Label == c.label })
		if i < 0 || !strings.Contains(items[i].Detail, c.detail) || !strings.Contains(items[i].About, c.about) {
			t.Errorf("%q: %+v", c.text, items)
		}
	}
	d := Read("../../examples/x.parrot", head+"    # a comm", source.ReadFile)
	if got := d.Complete(Place{9, 13}); len(got) > 0 {
		t.Errorf("in a comment: %v", got)
	}
	for _, c := range []struct{ text, label string }{
		{"[port.a]\nat = \"x\"\ndia", "dialect"}, {"[port.a]\ndialect = ", "lines"}, {"[port.a]\nphrasebook = ", "dunlin.toml"}, {"[port.a.standin]\nfam", "family"}, {"[port.a]\nat = \"x\"\n[ai", "air"},
		{"[[set", "setting"}, {"[[setting]]\nname = \"x\"\nra", "range"}, {"[[setting]]\ntype = ", "num"}, {"complete = ", "true"},
	} {
		lines := strings.Split(c.text, "\n")
		d := Read("../../examples/x.toml", c.text, source.ReadFile)
		if !slices.ContainsFunc(d.Complete(Place{len(lines), len(lines[len(lines)-1]) + 1}), func(it Item) bool { return it.Label == c.label }) {
			t.Errorf("%q: %s is not offered", c.text, c.label)
		}
	}
}

// Every name of every example is told, leads to where it gets its meaning, and can be changed in all
// its places: the file has no mistakes then, and is laid out as before; changed back it is the same.
func TestNames(t *testing.T) {
	names := 0
	for _, s := range samples(t, ".parrot") {
		d := doc(t, s)
		for _, u := range d.file.Uses {
			if u.File != s.path || u.Kind == procedure.SettingUseOf && d.bookOf(u.Port) == nil {
				continue
			}
			at := Place{u.Line, u.Column + u.Width/2}
			if text, r := d.Hover(at); text == "" || r.From != u.Column {
				t.Errorf("%s:%d:%d: nothing is told of %s: %q", s.path, u.Line, u.Column, u.Name, text)
			}
			if spot, ok := d.Definition(at); !ok || spot.Line == 0 {
				t.Errorf("%s:%d:%d: %s leads nowhere", s.path, u.Line, u.Column, u.Name)
			}
			if name, _ := d.CanRename(at); !u.Gives || name == "" || u.What == "a capture" && strings.Contains(strings.Join(d.Lines, "\n"), "?P<"+u.Name) {
				continue
			}
			if spot, _ := d.Definition(at); spot.Range != spotOf(u).Range {
				continue // it is changed where it was first given
			}
			names++
			edits, err := d.Rename(at, u.Name+"_2")
			if err != nil {
				t.Errorf("%s:%d: %s: %v", s.path, u.Line, u.Name, err)
				continue
			}
			changed := again(s, edits...)
			if err := changed.Mistakes.Err(); err != nil || len(changed.Warnings) != len(d.Warnings) {
				t.Errorf("%s:%d: %s changed: %v, %v", s.path, u.Line, u.Name, err, changed.Warnings)
			}
			was, err1 := procedure.Tidy(s.path, s.text)
			is, err2 := procedure.Tidy(s.path, strings.Join(changed.Lines, "\n"))
			if err1 != nil || err2 != nil || strings.Count(was, "\n") != strings.Count(is, "\n") {
				t.Errorf("%s:%d: %s changed is laid out otherwise: %v %v", s.path, u.Line, u.Name, err1, err2)
			}
			back, err := changed.Rename(Place{u.Line, u.Column}, u.Name)
			if got := Apply(strings.Join(changed.Lines, "\n"), back); err != nil || got != s.text {
				t.Errorf("%s:%d: %s changed back: %v\n%s", s.path, u.Line, u.Name, err, got)
			}
		}
	}
	if names < 80 {
		t.Errorf("only %d names", names)
	}
	s := sample{"x.parrot", "procedure \"P\"\nport radio\ninput a: int = 1\ninput b: int = 2\nlet e = \"ä\" + string(a) + string(a)\nstep \"s\"\n    say radio: {a} {b}\n    check b == a\nend\n"}
	d := Read(s.path, s.text, source.ReadFile)
	for to, want := range map[string]string{"b": "a cannot be called b: b is the name of an input already", "check": "", "in": "is a word of the language", "len": "is the name of a function", "two words": "cannot be called two words"} {
		if _, err := d.Rename(Place{3, 7}, to); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", to, err)
		}
	}
	edits, err := d.Rename(Place{3, 7}, "first")
	if err != nil || len(edits) != 5 || !strings.Contains(Apply(s.text, edits), "let e = \"ä\" + string(first) + string(first)") {
		t.Errorf("%v %v:\n%s", edits, err, Apply(s.text, edits))
	}
}

// Names of the same letters that are not of the same thing keep apart.
func TestRenameScope(t *testing.T) {
	s := sample{"x.parrot", "procedure \"P\"\nport radio\nroutine a(n)\n    say radio: {n}\nend\nroutine b(n)\n    say radio: {n} {n + 1}\nend\nstep \"s\"\n    do a(1)\n    do b(2)\n    any\n    case hear radio: x {v:int}\n    case hear radio: y {v:int}\n    end\n    check v > 1\nend\n"}
	d := doc(t, s)
	for _, c := range []struct {
		at   Place
		want int
	}{{Place{3, 11}, 2}, {Place{6, 11}, 3}, {Place{13, 25}, 3}, {Place{16, 11}, 3}, {Place{2, 6}, 5}} {
		if got := d.References(c.at); len(got) != c.want {
			t.Errorf("%v: %d places, wanted %d: %v", c.at, len(got), c.want, got)
		}
	}
}

// A slip in any name of any example is mended by the change that is offered.
func TestFixes(t *testing.T) {
	slips := 0
	for _, s := range samples(t, ".parrot") {
		d := doc(t, s)
		done := map[string]bool{} // each name once in each sort of statement
		for _, u := range d.file.Uses {
			key := u.Name + firstWord(d.Lines.At(u.Line))
			if done[key] {
				continue
			}
			done[key] = true
			if u.File != s.path || u.Gives || len(u.Name) < 5 || u.Kind == procedure.FileUse || u.Kind == procedure.SettingUseOf && d.bookOf(u.Port) == nil {
				continue
			}
			wrong := u.Name[:len(u.Name)-2] + u.Name[len(u.Name)-1:]
			bad := again(s, Edit{s.path, spotOf(u).Range, wrong})
			mended := false
			for _, m := range bad.Mistakes {
				for _, f := range bad.Fixes(m) {
					mended = mended || Apply(strings.Join(bad.Lines, "\n"), f.Edits) == s.text
				}
			}
			if slips++; !mended {
				t.Errorf("%s:%d:%d: %s for %s: %v", s.path, u.Line, u.Column, wrong, u.Name, bad.Mistakes)
			}
		}
	}
	if slips < 100 {
		t.Errorf("only %d slips", slips)
	}
	bad := Read("x.toml", "family = \"X\"\n[[setting]]\nnmae = \"a\"\n", source.ReadFile)
	if fixes := bad.Fixes(bad.Mistakes[len(bad.Mistakes)-1]); len(fixes) != 1 || fixes[0].Edits[0].Text != "name" {
		t.Errorf("%v %v", bad.Mistakes, fixes)
	}
}

// Each word with which a line may begin is known with its form and its meaning.
func TestWords(t *testing.T) {
	for _, w := range procedure.Words() {
		for _, table := range [][]word{header, statements} {
			if k := find(table, w); k != nil && (k.form == "" || k.does == "" || !strings.HasPrefix(k.form, w)) {
				t.Errorf("%+v", *k)
			}
		}
		if find(header, w) == nil && find(statements, w) == nil {
			t.Errorf("nothing is known of %s", w)
		}
	}
}

// The outline of every example has all its steps, with their last lines.
func TestOutline(t *testing.T) {
	for _, s := range samples(t, ".parrot") {
		d := doc(t, s)
		steps := 0
		for _, o := range d.Outline() {
			if o.Kind == WordItem {
				steps++
				if d.Lines.At(o.Last) != "end" {
					t.Errorf("%s: step %s ends at %d: %q", s.path, o.Name, o.Last, d.Lines.At(o.Last))
				}
			}
		}
		if steps != len(d.file.Steps) {
			t.Errorf("%s: %d steps of %d", s.path, steps, len(d.file.Steps))
		}
	}
	d := Read("dunlin.toml", samples(t, "dunlin.toml")[0].text, source.ReadFile)
	if o := d.Outline(); len(o) < 10 || !slices.ContainsFunc(o, func(s Symbol) bool { return s.Name == "setting address" }) {
		t.Errorf("%v", o)
	}
}

// A file that is cut or garbled anywhere is helped with as far as it goes.
func FuzzDoc(f *testing.F) {
	for _, s := range append(samples(f, ".parrot"), samples(f, ".toml")...) {
		f.Add(s.text, len(s.text)/2, len(s.text)/2, filepath.Ext(s.path) == ".toml")
	}
	f.Fuzz(func(t *testing.T, text string, cut, at int, table bool) {
		if len(text) > 20000 || cut < 0 || at < 0 {
			return
		}
		path := "../../examples/fuzz.parrot"
		if table {
			path = "../../examples/fuzz.toml"
		}
		text = text[:min(cut, len(text))]
		d := Read(path, text, source.ReadFile)
		before := text[:min(at, len(text))]
		place := Place{strings.Count(before, "\n") + 1, len([]rune(before[strings.LastIndexByte(before, '\n')+1:])) + 1}
		lines := len(d.Lines)
		for _, it := range d.Complete(place) {
			if it.Put.Line != place.Line || it.Put.From < 1 || it.Put.From > it.Put.To || it.Put.Line > lines {
				t.Errorf("put at %v for %v", it.Put, place)
			}
		}
		d.Hover(place)
		d.Definition(place)
		d.References(place)
		d.Outline()
		if name, _ := d.CanRename(place); name != "" {
			_, _ = d.Rename(place, "other") // whether it can be does not matter
		}
		for _, m := range append(d.Mistakes, d.Warnings...) {
			d.Fixes(m)
		}
	})
}

// Completion in a procedure of a thousand lines, beside the reading of it, which is done when nobody
// types.
func BenchmarkComplete(b *testing.B) {
	text := "procedure \"Long\"\nport radio: dialect at, ending cr, phrasebook \"dunlin.toml\"\ninput address: int 1..9\n"
	for i := range 250 {
		text += fmt.Sprintf("step \"%d\"\n    say radio: AT~NODE={address}\n    hear radio: ~NODE: {n%d:int}\n    check n%d == address\nend\n", i, i, i)
	}
	text += "step \"last\"\n    check addr\nend\n"
	at := Place{strings.Count(text, "\n") - 1, 15}
	d := Read("../../examples/x.parrot", text, source.ReadFile)
	b.Run("complete", func(b *testing.B) {
		for b.Loop() {
			if len(d.With(text).Complete(at)) == 0 {
				b.Fatal("nothing")
			}
		}
	})
	b.Run("read", func(b *testing.B) {
		for b.Loop() {
			procedure.Study("../../examples/x.parrot", text, nil, source.ReadFile)
		}
	})
}
