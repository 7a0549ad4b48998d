package writing

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/source"
	"uparrot/core/text"
)

// Spot is a place in a file.
type Spot struct {
	File string
	Range
}

// spotOf is where a use of a name stands.
func spotOf(u procedure.Use) Spot {
	return Spot{u.File, Range{u.Line, u.Column, u.Column + u.Width}}
}

// Hover is what a place means, as Markdown, and the stretch of which it is told; "" if nothing is known.
func (d *Doc) Hover(at Place) (string, Range) {
	if d.Kind != Procedure {
		return d.hoverTable(at)
	}
	if u := d.file.UseAt(d.Path, at.Line, at.Column); u != nil {
		return d.meaning(u), spotOf(*u).Range
	}
	line := d.Lines.At(at.Line)
	if m := spoken().FindStringSubmatchIndex(line); m != nil {
		text := []rune(line)
		if from := len([]rune(line[:m[6]])) + 1; at.Column >= from {
			verb, between := line[m[2]:m[3]], line[m[4]:m[5]]
			c := &completion{Doc: d, at: at}
			if about := d.spokenWords(c.bookOf(c.portOf(between)), verb, strings.TrimSpace(line[m[6]:m[7]])); about != "" {
				return about, Range{at.Line, from, len(text) + 1}
			}
			return "", Range{}
		}
	}
	return d.wordAt(at)
}

// wordAt is the meaning of a word of the language.
func (d *Doc) wordAt(at Place) (string, Range) {
	line := d.Lines.At(at.Line)
	for _, m := range regexp.MustCompile(`[A-Za-z_]+[0-9]*`).FindAllStringIndex(line, -1) {
		from, to := len([]rune(line[:m[0]]))+1, len([]rune(line[:m[1]]))+1
		if at.Column < from || at.Column > to {
			continue
		}
		name := line[m[0]:m[1]]
		var tables [][]word
		open, _ := d.openBlocks(at.Line)
		switch first := firstWord(line); {
		case strings.TrimSpace(line[:m[0]]) == "" && len(open) == 0:
			tables = [][]word{header}
		case first == "port" && len(open) == 0:
			tables = [][]word{portWords, values["dialect"]}
		case first == "step" && len(open) == 0:
			tables = [][]word{stepWords}
		case strings.TrimSpace(line[:m[0]]) == "":
			tables = [][]word{statements}
		case first == "line":
			tables = [][]word{lineWords, values["dialect"]}
		default:
			tables = [][]word{functions}
			if !strings.HasPrefix(line[m[1]:], "(") {
				return "", Range{}
			}
		}
		for _, t := range tables {
			if w := find(t, name); w != nil {
				return fmt.Sprintf("`%s`\n\n%s", firstOf(w.form, w.name), w.does), Range{at.Line, from, to}
			}
		}
	}
	return "", Range{}
}

// meaning is what a name stands for.
func (d *Doc) meaning(u *procedure.Use) string {
	switch u.Kind {
	case procedure.PortUse:
		for _, p := range d.file.Ports {
			if p.Name == u.Name {
				return strings.TrimSpace(fmt.Sprintf("port `%s`: %s\n\n%s", p.Name, p.Whole().Words(), bookWords(p.Phrasebook)))
			}
		}
	case procedure.SettingUseOf:
		if pb := d.bookOf(u.Port); pb != nil {
			if s, ok := pb.Setting(u.Name); ok {
				return fmt.Sprintf("setting **%s**\n\n%s", s.Name, settingWords(s))
			}
			for _, i := range pb.Identity {
				if i.Name == u.Name {
					return fmt.Sprintf("**%s**: what the module says that it is\n\n%s", i.Name, i.Meaning)
				}
			}
		}
	case procedure.PacketUseOf:
		if pb := d.bookOf(u.Port); pb != nil {
			if p, ok := pb.Packet(u.Name); ok {
				return fmt.Sprintf("packet **%s** `%s`\n\n%s", p.Name, p.Bytes, p.Meaning)
			}
		}
	case procedure.FileUse:
		return "`" + u.Path + "`"
	case procedure.RoutineUse:
		return "routine `" + u.What + "`"
	}
	if about := d.inputWords(u.Name); about != "" {
		return fmt.Sprintf("input `%s`: %s", u.Name, about)
	}
	return strings.TrimSpace(fmt.Sprintf("`%s`: %s %s", u.Name, u.What, u.Type))
}

// spokenWords is what a phrasebook tells of what is said or heard.
func (d *Doc) spokenWords(pb *phrasebook.Phrasebook, verb, text string) string {
	if pb == nil || text == "" {
		return ""
	}
	if verb == "say" || verb == "poll" {
		if name, _, about := command(pb, text); name != "" {
			return fmt.Sprintf("`%s`\n\n%s", name, about)
		}
		return ""
	}
	for _, n := range pb.Notices {
		if _, is := n.Pattern.Match([]byte(text)); is {
			return fmt.Sprintf("notice **%s**\n\n%s", n.Name, n.Meaning)
		}
	}
	return pb.Explain(text)
}

// command is what a phrasebook tells of a said text: as it says it, where it stands, and what it does.
func command(pb *phrasebook.Phrasebook, text string) (form string, at source.Mistake, about string) {
	open := regexp.MustCompile(`\{[^}]*\}`)
	shape := func(s string) string { return open.ReplaceAllString(s, "\x00") }
	like := func(form string) bool {
		if form == "" {
			return false
		}
		if shape(form) == shape(text) {
			return true
		}
		re := "^" + strings.ReplaceAll(regexp.QuoteMeta(shape(form)), "\x00", ".*") + "$"
		ok, err := regexp.MatchString(re, shape(text))
		return err == nil && ok
	}
	for _, s := range pb.Settings {
		switch {
		case like(s.Read):
			return s.Read, s.At, "reads " + s.Name + ": " + settingWords(s)
		case like(s.Write):
			return s.Write, s.At, "sets " + s.Name + ": " + settingWords(s)
		}
	}
	for _, i := range pb.Identity {
		if like(i.Read) {
			return i.Read, i.At, "reads " + i.Name + ": " + i.Meaning
		}
	}
	for _, k := range pb.Commands {
		if like(k.Say) {
			return k.Say, source.Mistake{}, k.Meaning
		}
	}
	if c := pb.Carrier; c != nil && like(c.Send) {
		return c.Send, source.Mistake{}, "sends a payload"
	}
	return "", source.Mistake{}, ""
}

// Definition is where what stands at a place gets its meaning; false if that is not known.
func (d *Doc) Definition(at Place) (Spot, bool) {
	if d.Kind != Procedure {
		return d.namedFile(at)
	}
	u := d.file.UseAt(d.Path, at.Line, at.Column)
	if u == nil {
		return d.commandPlace(at)
	}
	switch u.Kind {
	case procedure.FileUse:
		return Spot{u.Path, Range{1, 1, 1}}, true
	case procedure.SettingUseOf, procedure.PacketUseOf:
		return d.inBook(u)
	}
	for _, other := range d.file.Same(u) {
		if other.Gives {
			return spotOf(other), true
		}
	}
	for i := len(d.file.Uses) - 1; i >= 0; i-- { // a field of a packet that was heard
		if p := &d.file.Uses[i]; p.File == u.File && p.Line < u.Line && slices.Contains(p.Fields, u.Name) {
			return spotOf(*p), true
		}
	}
	return Spot{}, false
}

var phrasebookKey = text.Regexp(`^\s*phrasebook\s*=\s*"([^"]+)"`)

// namedFile is the phrasebook that a line of a bench names.
func (d *Doc) namedFile(at Place) (Spot, bool) {
	m := phrasebookKey().FindStringSubmatch(d.Lines.At(at.Line))
	if m == nil || d.Kind != Bench {
		return Spot{}, false
	}
	return Spot{source.Beside(d.Path, m[1]), Range{1, 1, 1}}, true
}

// inBook is where a phrasebook tells of a setting or a packet.
func (d *Doc) inBook(u *procedure.Use) (Spot, bool) {
	pb := d.bookOf(u.Port)
	if pb == nil {
		return Spot{}, false
	}
	text, err := d.read(pb.File)
	if err != nil {
		return Spot{}, false // it has gone since it was read
	}
	name := regexp.MustCompile(`^\s*name\s*=\s*"` + regexp.QuoteMeta(u.Name) + `"`)
	for i, l := range source.SplitLines(string(text)) {
		if m := name.FindStringIndex(l); m != nil {
			return Spot{pb.File, Range{i + 1, 1, len([]rune(l)) + 1}}, true
		}
	}
	return Spot{}, false
}

// commandPlace is where the phrasebook tells of what is said in a line.
func (d *Doc) commandPlace(at Place) (Spot, bool) {
	m := spoken().FindStringSubmatch(d.Lines.At(at.Line))
	if m == nil || m[1] != "say" && m[1] != "poll" {
		return Spot{}, false
	}
	c := &completion{Doc: d, at: at}
	pb := d.bookOf(c.portOf(m[2]))
	if pb == nil {
		return Spot{}, false
	}
	_, where, _ := command(pb, strings.TrimSpace(m[3]))
	if where.Line == 0 {
		return Spot{}, false
	}
	return Spot{where.File, Range{where.Line, where.Column, where.Column + max(1, where.Width)}}, true
}

// References are all places of what stands at a place.
func (d *Doc) References(at Place) (all []Spot) {
	if d.Kind != Procedure {
		return nil
	}
	u := d.file.UseAt(d.Path, at.Line, at.Column)
	if u == nil {
		return nil
	}
	for _, other := range d.file.Same(u) {
		all = append(all, spotOf(other))
	}
	return all
}

// CanRename is the name at a place that can be changed, and its stretch; "" if there is none.
func (d *Doc) CanRename(at Place) (string, Range) {
	if d.Kind != Procedure {
		return "", Range{}
	}
	u := d.file.UseAt(d.Path, at.Line, at.Column)
	if u == nil || u.Kind == procedure.FileUse || u.Kind == procedure.SettingUseOf || u.Kind == procedure.PacketUseOf {
		return "", Range{}
	}
	return u.Name, spotOf(*u).Range
}

// Rename gives the name at a place another one in all its places. It is refused where the procedure
// would have other mistakes than before.
func (d *Doc) Rename(at Place, to string) ([]Edit, error) {
	name, _ := d.CanRename(at)
	switch {
	case name == "":
		return nil, fmt.Errorf("there is no name here that can be changed")
	case name == to:
		return nil, nil
	}
	u := d.file.UseAt(d.Path, at.Line, at.Column)
	var edits []Edit
	for _, other := range d.file.Same(u) {
		edits = append(edits, Edit{other.File, spotOf(other).Range, to})
	}
	if !slices.ContainsFunc(d.file.Same(u), func(o procedure.Use) bool { return o.Gives }) {
		return nil, fmt.Errorf("%s does not get its meaning in this procedure", name)
	}
	changed := d.with(edits)
	before, after := len(d.Mistakes), changed.Mistakes
	if len(after) > before {
		for _, m := range after {
			if !slices.ContainsFunc(d.Mistakes, func(o source.Mistake) bool { return o.What == m.What && o.Line == m.Line }) {
				return nil, fmt.Errorf("%s cannot be called %s: %s", name, to, m.What)
			}
		}
		return nil, fmt.Errorf("%s cannot be called %s", name, to)
	}
	return edits, nil
}

// with is the file as it is with edits of it and of those that it names.
func (d *Doc) with(edits []Edit) *Doc {
	texts := map[string]string{}
	of := func(path string) []Edit {
		var own []Edit
		for _, e := range edits {
			if e.File == path {
				own = append(own, e)
			}
		}
		return own
	}
	texts[d.Path] = Apply(strings.Join(d.Lines, "\n"), of(d.Path))
	return Read(d.Path, texts[d.Path], func(path string) ([]byte, error) {
		text, err := d.read(path)
		if list := of(path); err == nil && len(list) > 0 {
			return []byte(Apply(string(text), list)), nil
		}
		return text, err
	})
}

// Symbol is a part of a file, for an outline.
type Symbol struct {
	Name   string
	Detail string
	Kind   ItemKind
	Range
	Last int // the last line of it
}

// Outline is the parts of a file: ports, inputs, routines and steps; tables.
func (d *Doc) Outline() (all []Symbol) {
	if d.Kind != Procedure {
		return d.outlineTable()
	}
	add := func(kind ItemKind, name, detail string, at procedure.Pos) {
		if at.File != d.Path {
			return
		}
		last := at.Line
		if procedure.Opens(firstWord(d.Lines.At(at.Line))) {
			for last < len(d.Lines) && strings.TrimRight(d.Lines.At(last), " \t") != "end" {
				last++
			}
		}
		all = append(all, Symbol{name, detail, kind, Range{at.Line, at.Column, at.Column + at.Width}, last})
	}
	for _, p := range d.file.Ports {
		detail := p.Whole().Words()
		if p.Phrasebook != nil {
			detail = filepath.Base(p.Phrasebook.File)
		}
		add(PortItem, p.Name, detail, p.Pos)
	}
	for _, in := range d.file.Inputs {
		add(ValueItem, in.Name, d.inputWords(in.Name), in.Pos)
	}
	for _, s := range d.file.Secrets {
		add(ValueItem, s.Name, "secret", s.Pos)
	}
	for _, r := range d.file.Routines {
		add(RoutineItem, r.Name, "routine", r.Pos)
	}
	for _, s := range d.file.Steps {
		add(WordItem, firstOf(s.Title, "step"), "step", s.Pos)
	}
	slices.SortStableFunc(all, func(a, b Symbol) int { return a.Line - b.Line })
	return all
}

// Tidy is the file in the one standard layout; only procedures without mistakes have one.
func (d *Doc) Tidy() (string, error) {
	if d.Kind != Procedure {
		return "", fmt.Errorf("only procedures have a standard layout")
	}
	return procedure.Tidy(d.Path, strings.Join(d.Lines, "\n"))
}
