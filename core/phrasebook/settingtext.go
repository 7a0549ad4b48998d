package phrasebook

import (
	"fmt"
	"strconv"
	"strings"

	"uparrot/core/source"
	"uparrot/core/source/toml"
)

// ModuleSetup is what must be done round reading and writing settings, in statements of the
// language in which {port} stands for the port.
type ModuleSetup struct {
	Enter   []string `toml:"enter" about:"before settings are read or written"`
	Leave   []string `toml:"leave" about:"after, however that ends"`
	Save    []string `toml:"save" about:"once they are written, to keep them"`
	Restart []string `toml:"restart" about:"has it start again, and waits until it has"`
}

// Switch is what has a board switch something on and off, such as the power of another module, in
// statements of the procedure language; {port} stands for the port's name, {switch} for the switch's.
type Switch struct {
	Names []string `toml:"names" about:"its switches, such as relay 1"`
	On    []string `toml:"on" about:"switches on"`
	Off   []string `toml:"off" about:"switches off"`
}

// Statements switch one of the switches, with on or off.
func (s Switch) Statements(word, port, name string) []string {
	list := s.On
	if word == "off" {
		list = s.Off
	}
	var all []string
	for _, text := range at(port, list) {
		all = append(all, strings.ReplaceAll(text, "{switch}", name))
	}
	return all
}

func (s Switch) check(d *toml.Doc) {
	if len(s.Names)+len(s.On)+len(s.Off) == 0 {
		return
	}
	switch {
	case len(s.Names) == 0:
		d.Add("switch", "it names no switches", `Add names = ["relay 1", "relay 2"].`)
	case len(s.On) == 0 || len(s.Off) == 0:
		d.Add("switch", "it says not how they are switched on and off", `Add on = ["say {port}: {switch} on", "hear {port}: {switch} is on"], and off.`)
	}
}

// Identity is something by which a module tells what it is, such as its serial number. It is
// read as a setting is.
type Identity struct {
	Name         string `toml:"name" about:"by which procedures and commands call it"`
	Meaning      string `toml:"meaning" about:"what it is, in a few words"`
	Read         string `toml:"read" about:"said to read it"`
	Answer       string `toml:"answer" about:"heard then, with a capture named value: ~CHANNEL: {value:int}"`
	ReadPacket   string `toml:"read_packet" about:"in place of read, of modules that speak in packets: NAME(FIELD = EXPRESSION)"`
	AnswerPacket string `toml:"answer_packet" about:"in place of answer"`
	Value        string `toml:"value" about:"what of the packet's fields the value is; an expression"`

	At source.Mistake `toml:"-"` // where it stands
}

// Way is how it is read.
func (i Identity) Way() Way { return Way{i.Read, i.Answer, i.ReadPacket, i.AnswerPacket, i.Value} }

// checkIdentity checks by what a module tells what it is, and what settings come after.
func (pb *Phrasebook) checkIdentity(d *toml.Doc, seen map[string]bool) {
	pb.Switch.check(d)
	for i := range pb.Identity {
		id, path := &pb.Identity[i], fmt.Sprintf("identity[%d]", i)
		id.At = d.Place(path+".name", id.Name)
		switch {
		case id.Name == "":
			d.Add(path, "it has no name", `Add name = "serial number".`)
		case seen[id.Name]:
			d.Add(path+".name", fmt.Sprintf("there are two named %q", id.Name), "Give each its own name.")
		case !id.Way().Readable():
			d.Add(path, "nothing tells how it is read", `Add read = "..." and answer = "...{value}...".`)
		}
		seen[id.Name] = true
		if id.Read != "" {
			if p := heard(d, path+".answer", id.Answer); !captures(p, "value") {
				d.Add(path+".answer", "the answer does not say which part of it is the value", "Capture it with the name value, such as {value:word}.")
			}
		}
	}
	for i, s := range pb.Settings {
		for j, before := range s.After {
			if _, ok := pb.Setting(before); !ok || before == s.Name {
				d.Add(fmt.Sprintf("setting[%d].after[%d]", i, j), fmt.Sprintf("there is no other setting %q", before), "Name one that must be written before this.")
			}
		}
	}
}

// at puts a port's name into statements.
func at(port string, statements []string) []string {
	var all []string
	for _, s := range statements {
		all = append(all, strings.ReplaceAll(s, "{port}", port))
	}
	return all
}

// Statements are those of a kind, for a port.
func (s ModuleSetup) Statements(kind, port string) []string {
	return at(port, map[string][]string{"enter": s.Enter, "leave": s.Leave, "save": s.Save, "restart": s.Restart}[kind])
}

// Way is how a value is read out of a module: a line said and one heard, or packets.
type Way struct {
	Read         string // said to read it
	Answer       string // heard then, with a capture named value
	ReadPacket   string // in place of these: a packet to say, NAME(FIELD = EXPRESSION)
	AnswerPacket string // ... and one to hear
	Value        string // what of its fields the value is, as an expression
}

// Readable reports whether there is a way.
func (w Way) Readable() bool { return w.Read != "" || w.ReadPacket != "" }

// Statements read the value into a name.
func (w Way) Statements(dialect Dialect, port, name string) []string {
	if w.ReadPacket != "" {
		return []string{
			fmt.Sprintf("say packet %s: %s", port, w.ReadPacket),
			fmt.Sprintf("hear packet %s: %s", port, w.AnswerPacket),
			fmt.Sprintf("let %s = %s", name, w.Value),
		}
	}
	bytes := map[bool]string{true: "bytes "}[dialect == Bytes]
	return []string{
		fmt.Sprintf("say %s%s: \"%s\"", bytes, port, w.Read),
		fmt.Sprintf("hear %s%s: \"%s\"", bytes, port, renamed(w.Answer, "{"+name)),
	}
}

// renamed is heard text with its capture value under another name, or with begin as what is
// wanted.
func renamed(heard, begin string) string {
	for _, end := range []string{"}", ":"} {
		heard = strings.ReplaceAll(heard, "{value"+end, begin+end)
	}
	return strings.ReplaceAll(heard, "(?P<value>", "(?P<"+strings.TrimPrefix(begin, "{")+">")
}

// SettingNow is the name that holds what a module has, after a setting was written.
const SettingNow = "setting_now"

// WriteStatements write a setting, and with back read it back where that shows at once. The
// value is an expression in parentheses.
func (s Setting) WriteStatements(dialect Dialect, port, value string, back bool) []string {
	var all []string
	if s.WritePacket != "" {
		all = append(all, fmt.Sprintf("say packet %s: %s", port, strings.ReplaceAll(s.WritePacket, "{value}", value)))
		if s.WrittenPacket != "" {
			all = append(all, fmt.Sprintf("hear packet %s: %s", port, strings.ReplaceAll(s.WrittenPacket, "{value}", value)))
		}
	} else {
		bytes := map[bool]string{true: "bytes "}[dialect == Bytes]
		all = append(all, fmt.Sprintf("say %s%s: \"%s\"", bytes, port, strings.ReplaceAll(s.Write, "{value}", "{"+value+"}")))
		if s.Written != "" {
			all = append(all, fmt.Sprintf("hear %s%s: \"%s\"", bytes, port, wanted(s.Written, value)))
		}
	}
	if !back || !s.ReadBack() {
		return all
	}
	all = append(all, s.Way().Statements(dialect, port, SettingNow)...)
	return append(all, fmt.Sprintf("check %s == %s \"%s has not taken the value\"", SettingNow, value, strings.ReplaceAll(s.Name, `"`, "'")))
}

// ReadBack reports whether what was written shows at once.
func (s Setting) ReadBack() bool {
	return s.Effect != "restart" && s.Way().Readable() && !s.Secret
}

// wanted is heard text in which the capture value must be a value.
func wanted(heard, value string) string {
	for _, typ := range []string{"", ":int", ":num", ":hex", ":word", ":text"} {
		heard = strings.ReplaceAll(heard, "{value"+typ+"}", "{="+value+"}")
	}
	return strings.ReplaceAll(heard, "{value:quoted}", `"{=`+value+`}"`)
}

// Quoted is a value as an expression has it: a text in quotes.
func (s Setting) Quoted(value string) string {
	if s.Type == "text" {
		return strconv.Quote(value)
	}
	return value
}

// Same reports whether two values of the setting are the same: numbers by what they are.
func (s Setting) Same(a, b string) bool {
	if s.Type == "int" || s.Type == "num" {
		x, err1 := strconv.ParseFloat(a, 64)
		y, err2 := strconv.ParseFloat(b, 64)
		if err1 == nil && err2 == nil {
			return x == y
		}
	}
	return a == b
}

// Way is how the setting is read.
func (s Setting) Way() Way {
	return Way{s.Read, s.Answer, s.ReadPacket, s.AnswerPacket, s.ValueExpr}
}

// Writable reports whether it can be written.
func (s Setting) Writable() bool { return s.Write != "" || s.WritePacket != "" }
