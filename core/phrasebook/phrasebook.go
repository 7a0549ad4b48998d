// Package phrasebook reads what a module family understands and answers.
//
// A phrasebook is a TOML file, one a family: how the module is spoken to, its
// banner, what it says when it refuses, what it sends by itself, its settings,
// and how a payload travels through it. Reading is strict: an unknown key or a
// pattern that cannot be compiled is a mistake with its line. The format is
// described in docs/phrasebook.md.
package phrasebook

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uparrot/core/pattern"
	"uparrot/core/schema"
	"uparrot/core/source"
	"uparrot/core/source/toml"
)

// Phrasebook is one module family.
type Phrasebook struct {
	File    string  `toml:"-"`
	Family  string  `toml:"family" about:"the name of the family"`
	About   string  `toml:"about" about:"what it is, in a sentence"`
	Dialect Dialect `toml:"dialect" about:"how commands and answers follow each other" words:"at,console,lines,bytes"`

	// Complete says that the commands, settings and carrier below are all that
	// the module understands, so that any other command is a mistake.
	Complete bool `toml:"complete" about:"what stands here is all that the module understands, so that any other command is a mistake"`
	// Echo says that the module repeats what is said to it.
	Echo bool `toml:"echo" about:"the module repeats what is said to it"`

	Line     Setup       `toml:"line" about:"how it is spoken to"`
	Banner   *Banner     `toml:"banner" about:"the line that tells that it has started"`
	Final    Final       `toml:"final" about:"what ends an answer when all went well"`
	Refusal  Refusal     `toml:"refusal" about:"how it says no"`
	Notices  []Notice    `toml:"notice" about:"a line that the module sends by itself"`
	Commands []Command   `toml:"command" about:"something that can be said beside what reads and writes settings"`
	Settings []Setting   `toml:"setting" about:"one value that the module keeps"`
	Identity []Identity  `toml:"identity" about:"what a module tells of itself, such as its serial number"`
	Round    ModuleSetup `toml:"setup" about:"what must be done round reading and writing settings: statements, with {port} for the port"`
	Switch   Switch      `toml:"switch" about:"how a board switches something, such as the power of another module: statements, with {port} and {switch}"`
	Packets  []Packet    `toml:"packet" about:"bytes that a module sends or takes, and what they hold"`
	Readings []Reading   `toml:"reading" about:"something that a module tells again and again"`
	Carrier  *Carrier    `toml:"carrier" about:"how a payload travels through the module to another"`

	finals   []*pattern.Pattern
	refusals []*pattern.Pattern
}

// Schema is what a phrasebook may hold.
var Schema = sync.OnceValue(func() *schema.Table {
	return schema.FromStruct[Phrasebook]("what one module family understands and answers")
})

// Banner is the line that tells that the module has started.
type Banner struct {
	Heard   string           `toml:"heard" about:"the line; heard text"`
	Within  duration         `toml:"within" about:"how long after power-up or a restart it comes" form:"time"`
	Pattern *pattern.Pattern `toml:"-"`
}

// Final is what ends an answer when all went well, beside the results of V.250 in
// dialect AT and the prompt of a console.
type Final struct {
	Heard []string `toml:"heard" about:"lines; heard text"`
}

// Refusal is how the module says no, beside the results of V.250.
type Refusal struct {
	Heard   []string          `toml:"heard" about:"lines; heard text, with {number} for what meaning explains"`
	Meaning map[string]string `toml:"meaning" about:"what each number means"`
	Unknown string            `toml:"unknown" about:"the number for a command that there is not"`
	Range   string            `toml:"range" about:"the number for a value that is out of range"`
}

// Command is something that can be said beside what reads and writes settings.
type Command struct {
	Say     string   `toml:"say" about:"what is said, with {...} for what may vary"`
	Meaning string   `toml:"meaning" about:"what it does"`
	Answer  []string `toml:"answer" about:"the lines that come before any final result; heard text"`
	Restart bool     `toml:"restart" about:"the module starts again then"`
	Carries bool     `toml:"carries" about:"from then on the line carries plain data"`
	Follows string   `toml:"follows" about:"the prompt after which {length} bytes are to be said"`

	Said *pattern.Said `toml:"-"`
}

// Notice is a line that the module sends by itself.
type Notice struct {
	Name    string           `toml:"name" about:"what it is called"`
	Heard   string           `toml:"heard" about:"the line; heard text"`
	Meaning string           `toml:"meaning" about:"what it tells"`
	Every   duration         `toml:"every" about:"how often a stand-in sends it; never unless given" form:"time"`
	Pattern *pattern.Pattern `toml:"-"`
}

// Setting is one value that the module keeps.
type Setting struct {
	Name    string    `toml:"name" about:"by which procedures and commands call it"`
	Meaning string    `toml:"meaning" about:"what it is, in a few words"`
	Type    string    `toml:"type" about:"of the value" words:"int,num,text"`
	Range   []float64 `toml:"range" about:"lowest and highest value; of a text, the number of characters"`
	Unit    string    `toml:"unit" about:"of the value"`
	Read    string    `toml:"read" about:"said to read it"`
	Answer  string    `toml:"answer" about:"heard then, with a capture named value: ~CHANNEL: {value:int}"`
	Write   string    `toml:"write" about:"said to write it, with {value}"`
	Written string    `toml:"written" about:"heard when it has been written, with a capture named value"`
	Default string    `toml:"default" about:"as delivered"`
	Effect  string    `toml:"effect" about:"when it takes effect" words:"at once,restart"`
	Pair    string    `toml:"pair" about:"what two modules of a pair need" words:"equal,different"`

	// In place of read, answer, write and written, for modules that speak in packets.
	ReadPacket    string `toml:"read_packet" about:"in place of read, of modules that speak in packets: NAME(FIELD = EXPRESSION)"`
	AnswerPacket  string `toml:"answer_packet" about:"in place of answer"`
	ValueExpr     string `toml:"value" about:"what of the packet's fields the value is; an expression"`
	WritePacket   string `toml:"write_packet" about:"in place of write, with {value}"`
	WrittenPacket string `toml:"written_packet" about:"in place of written, with {value}"`

	After    []string `toml:"after" about:"settings that must be written before it"`
	Secret   bool     `toml:"secret" about:"its value is shown nowhere"`
	Firmware string   `toml:"firmware" about:"the first that has it"`

	At             source.Mistake   `toml:"-"` // where it stands
	AnswerPattern  *pattern.Pattern `toml:"-"`
	WrittenPattern *pattern.Pattern `toml:"-"`
	ReadSaid       *pattern.Said    `toml:"-"`
	WriteSaid      *pattern.Said    `toml:"-"`
}

// Carrier is how a payload travels through the module to another.
type Carrier struct {
	Send      string  `toml:"send" about:"said, with {payload}, and {to} and {length} where the module wants them"`
	Arrives   string  `toml:"arrives" about:"heard at the other module, with {payload}; {from}, {length}, {strength} and {snr} where it tells them"`
	Address   string  `toml:"address" about:"the setting that holds a module's own address"`
	Broadcast string  `toml:"broadcast" about:"the address that means everyone"`
	Greatest  int     `toml:"greatest" about:"bytes in a payload"`
	Allowed   ByteSet `toml:"allowed" about:"bytes that a payload may hold"`

	SendSaid       *pattern.Said    `toml:"-"`
	ArrivesPattern *pattern.Pattern `toml:"-"`
}

// Read reads a phrasebook. Mistakes in it are returned as source.Mistakes.
func Read(file string) (*Phrasebook, error) {
	text, err := source.ReadFile(file)
	if err != nil {
		return nil, source.Unreadable(file, err)
	}
	return Parse(file, string(text))
}

// Parse is Read on text that has been read already.
func Parse(file, text string) (*Phrasebook, error) {
	if m, is := source.Unfit(file, text, source.Phrasebook); is {
		return nil, source.Mistakes{m}
	}
	pb := &Phrasebook{File: file}
	d := toml.Parse(file, text, pb)
	pb.check(d)
	if err := d.Mistakes.Err(); err != nil {
		return nil, err
	}
	return pb, nil
}

// Setup is how a module of the family is spoken to.
func (pb *Phrasebook) Setup() Setup {
	s := pb.Line
	s.Dialect = pb.Dialect
	return s
}

// Setting finds a setting by name.
func (pb *Phrasebook) Setting(name string) (Setting, bool) {
	for _, s := range pb.Settings {
		if s.Name == name {
			return s, true
		}
	}
	return Setting{}, false
}

// Finals are the patterns of the module's own final results.
func (pb *Phrasebook) Finals() []*pattern.Pattern { return pb.finals }

// Refusals are the patterns of the module's own refusals.
func (pb *Phrasebook) Refusals() []*pattern.Pattern { return pb.refusals }

// Restarts reports whether a said line is a command that restarts the module.
func (pb *Phrasebook) Restarts(line string) bool {
	for _, c := range pb.Commands {
		if !c.Restart {
			continue
		}
		if re, _ := c.Said.Template(); re.MatchString(line) {
			return true
		}
	}
	return false
}

// Refuse is a refusal as the module says it, with a number where it tells one;
// "" if the phrasebook knows none.
func (pb *Phrasebook) Refuse(number string) string {
	if len(pb.refusals) == 0 {
		return ""
	}
	for _, p := range pb.refusals {
		for _, n := range p.Names() {
			if number != "" && n.Name == "number" {
				return p.Example(map[string]string{"number": number})
			}
		}
	}
	return pb.refusals[0].Example(nil)
}

// Explain is what a refusal means in words, or "" if the phrasebook does not say.
func (pb *Phrasebook) Explain(line string) string {
	if pb == nil {
		return ""
	}
	for _, p := range pb.refusals {
		caps, ok := p.Match([]byte(line))
		if !ok {
			continue
		}
		for _, c := range caps {
			if m, ok := pb.Refusal.Meaning[c.Text]; ok {
				return m
			}
		}
	}
	return ""
}

func (pb *Phrasebook) check(d *toml.Doc) {
	if pb.Family == "" && !d.Slipped("family") {
		d.Add("family", "the phrasebook does not name its family", `Add family = "..." at the top.`)
	}
	if pb.Line.Dialect != DialectNotSaid {
		d.Add("line.dialect", "the dialect belongs at the top of the file", "Move it above [line].")
	}
	for _, one := range []struct {
		list      Phrases
		key, mend string
	}{{pb.Line.Final, "final", "[final] and heard = [\"...\"]"}, {pb.Line.Refusal, "refusal", "[refusal] and heard = [\"...\"]"}, {pb.Line.Notice, "notice", "[[notice]] and heard = \"...\""}} {
		if len(one.list) > 0 {
			d.Add("line."+one.key, fmt.Sprintf("in a phrasebook a %s stands in a table of its own", one.key), "Write "+one.mend+".")
		}
	}
	pb.Line.Check(d, "line")
	if pb.Banner != nil {
		pb.Banner.Pattern = heard(d, "banner.heard", pb.Banner.Heard)
	}
	for _, h := range pb.Final.Heard {
		if p := heard(d, "final.heard", h); p != nil {
			pb.finals = append(pb.finals, p)
		}
	}
	for _, h := range pb.Refusal.Heard {
		if p := heard(d, "refusal.heard", h); p != nil {
			pb.refusals = append(pb.refusals, p)
		}
	}
	for i := range pb.Notices {
		n := &pb.Notices[i]
		n.Pattern = heard(d, fmt.Sprintf("notice[%d].heard", i), n.Heard)
	}
	for i := range pb.Commands {
		pb.Commands[i].check(d, fmt.Sprintf("command[%d]", i))
	}
	seen := map[string]bool{}
	for i := range pb.Settings {
		path := fmt.Sprintf("setting[%d]", i)
		once(d, path, "settings", pb.Settings[i].Name, seen)
		pb.Settings[i].At = d.Place(path+".name", pb.Settings[i].Name)
		pb.Settings[i].check(d, path)
	}
	pb.checkPackets(d)
	pb.checkReadings(d)
	pb.checkIdentity(d, seen)
	if pb.Carrier != nil {
		pb.Carrier.check(d, pb)
	}
}

func (c *Command) check(d *toml.Doc, path string) {
	if c.Say == "" {
		d.Add(path, "the command does not say what to say", `Add say = "...".`)
	}
	var err error
	if c.Said, err = pattern.CompileSaid(c.Say); err != nil {
		e := err.(*pattern.SyntaxError)
		d.AddInValue(path+".say", c.Say, e.Offset, e.Width, e.What, e.Mend)
	}
	for j, a := range c.Answer {
		heard(d, fmt.Sprintf("%s.answer[%d]", path, j), a)
	}
}

// heard compiles a pattern that stands at a key.
func heard(d *toml.Doc, path, text string) *pattern.Pattern {
	if text == "" {
		d.Add(path, "there is nothing to hear", "Write what the module sends, with ... for what may vary.")
		return nil
	}
	p, err := pattern.Compile(text)
	if e, ok := errors.AsType[*pattern.SyntaxError](err); ok {
		d.AddInValue(path, text, e.Offset, e.Width, e.What, e.Mend)
		return nil
	}
	if values := p.Exprs(); len(values) > 0 {
		e := values[0]
		if e.Count {
			d.AddInValue(path, text, e.Offset, len(e.Source), fmt.Sprintf("bytes(%s) needs an int named %q captured before it", e.Source, e.Source), "Capture the length first, such as {"+e.Source+":int}.")
			return nil
		}
		d.AddInValue(path, text, e.Offset, len(e.Source), "a phrasebook has no values to compare with", "Leave the place open: {name:type} or ...")
		return nil
	}
	return p
}

// said compiles text to say that stands at a key and may use some names.
func said(d *toml.Doc, path, text string, names ...string) *pattern.Said {
	s, err := pattern.CompileSaid(text)
	if e, ok := errors.AsType[*pattern.SyntaxError](err); ok {
		d.AddInValue(path, text, e.Offset, e.Width, e.What, e.Mend)
		return nil
	}
	for _, e := range s.Exprs() {
		if !slices.Contains(names, e.Source) {
			d.AddInValue(path, text, e.Offset, len(e.Source), fmt.Sprintf("there is no value %q here", e.Source), source.DidYouMean(e.Source, names))
		}
	}
	return s
}

func captures(p *pattern.Pattern, name string) bool {
	if p == nil {
		return true // its own mistake is told already
	}
	return slices.ContainsFunc(p.Names(), func(n pattern.Name) bool { return n.Name == name })
}

func (s *Setting) check(d *toml.Doc, path string) {
	if s.Name == "" && !d.Slipped("name") {
		d.Add(path, "the setting has no name", `Add name = "...".`)
	}
	if s.Type == "" {
		s.Type = "text"
	}
	if types := []string{"int", "num", "text"}; !slices.Contains(types, s.Type) {
		d.Add(path+".type", fmt.Sprintf("there is no type %q", s.Type), source.DidYouMean(s.Type, types))
	}
	if n := len(s.Range); n != 0 && n != 2 || n == 2 && s.Range[0] > s.Range[1] {
		d.Add(path+".range", "a range is two numbers, the lower first", "Write range = [1, 65534].")
	}
	if effects := []string{"at once", "restart"}; s.Effect != "" && !slices.Contains(effects, s.Effect) {
		d.Add(path+".effect", fmt.Sprintf("%q says not when it takes effect", s.Effect), source.DidYouMean(s.Effect, effects))
	}
	if pairs := []string{"equal", "different"}; s.Pair != "" && !slices.Contains(pairs, s.Pair) {
		d.Add(path+".pair", fmt.Sprintf("%q says not what a pair needs", s.Pair), source.DidYouMean(s.Pair, pairs))
	}
	if s.Read != "" && s.Answer == "" {
		if !d.Slipped("answer") {
			d.Add(path, "nothing tells what is heard when the setting is read", `Add answer = "...{value:int}...".`)
		}
	} else if s.Answer != "" {
		s.AnswerPattern = heard(d, path+".answer", s.Answer)
		if !captures(s.AnswerPattern, "value") {
			d.Add(path+".answer", "the answer does not say which part of it is the value", "Capture it with the name value, such as {value:int}.")
		}
	}
	if s.Read != "" {
		s.ReadSaid = said(d, path+".read", s.Read)
	}
	if s.Written != "" {
		s.WrittenPattern = heard(d, path+".written", s.Written)
	}
	if s.Default != "" && len(d.Mistakes) == 0 {
		if err := s.Check(s.Default); err != nil {
			d.Add(path+".default", err.Error(), "")
		}
	}
	if s.Write != "" {
		if s.WriteSaid = said(d, path+".write", s.Write, "value"); s.WriteSaid != nil && len(s.WriteSaid.Exprs()) == 0 {
			d.Add(path+".write", "what is said does not hold the value", "Write {value} where it stands.")
		}
	}
}

// Check says what is wrong with a value for the setting, or nil.
func (s Setting) Check(value string) error {
	size, kind := 0.0, "number"
	switch s.Type {
	case "int":
		n, err := strconv.Atoi(value)
		if err != nil {
			return fmt.Errorf("%s takes a whole number, not %q", s.Name, value)
		}
		size = float64(n)
	case "num":
		n, err := strconv.ParseFloat(value, 64)
		if err != nil {
			return fmt.Errorf("%s takes a number, not %q", s.Name, value)
		}
		size = n
	default:
		size, kind = float64(len([]rune(value))), "number of characters"
	}
	if len(s.Range) == 2 && (size < s.Range[0] || size > s.Range[1]) {
		return fmt.Errorf("%s takes a %s from %v to %v, not %s", s.Name, kind, s.Range[0], s.Range[1], value)
	}
	return nil
}

func (c *Carrier) check(d *toml.Doc, pb *Phrasebook) {
	c.SendSaid = said(d, "carrier.send", c.Send, "to", "length", "payload")
	if !strings.Contains(c.Send, "{payload}") {
		d.Add("carrier.send", "the carrier does not say where the payload goes", "Write {payload} in its place.")
	}
	c.ArrivesPattern = heard(d, "carrier.arrives", c.Arrives)
	if !captures(c.ArrivesPattern, "payload") {
		d.Add("carrier.arrives", "the carrier does not say where the payload arrives", "Capture it: {payload:bytes(length)}, or {payload} where its length is not told.")
	}
	if pb.Setup().Dialect == Bytes && !strings.Contains(c.Arrives, "bytes(") {
		d.Add("carrier.arrives", "with dialect bytes there are no lines, so nothing tells where a payload ends: every frame would count as lost", "Capture its length too, as in {length:int},{payload:bytes(length)}, or leave the dialect out.")
	}
	if c.Greatest <= 0 {
		d.Add("carrier.greatest", "the carrier does not say how many bytes a payload may have", "Add greatest = 96, or what the guide says.")
	}
	if strings.Contains(c.Send, "{to}") {
		if s, ok := pb.Setting(c.Address); !ok {
			d.Add("carrier.address", fmt.Sprintf("%q is no setting, so an address for {to} cannot be read", c.Address), "Name the setting that holds a module's own address.")
		} else if s.Read == "" {
			d.Add("carrier.address", fmt.Sprintf("the setting %q cannot be read", c.Address), "Give it read and answer.")
		}
	}
}

// ByteSet is which bytes a payload may hold; the zero value is text, from blank
// to tilde.
type ByteSet struct {
	said bool
	has  [256]bool
}

// Has reports whether a byte is in the set.
func (s ByteSet) Has(b byte) bool { return s.has[b] || !s.said && b >= ' ' && b <= '~' }

// UnmarshalText reads "any", "text", or characters and ranges such as
// "A-Za-z0-9_-".
func (s *ByteSet) UnmarshalText(text []byte) (err error) {
	*s = ByteSet{said: true}
	switch string(text) {
	case "", "text":
		s.said = false
	case "any":
		for i := range s.has {
			s.has[i] = true
		}
	default:
		s.has, err = ranges(string(text))
	}
	return err
}

// ranges is the set of bytes that characters and ranges such as "A-Z_" stand for.
func ranges(s string) (set [256]bool, err error) {
	for i := 0; i < len(s); i++ {
		if i+2 < len(s) && s[i+1] == '-' {
			if s[i] > s[i+2] {
				return set, &source.Problem{What: fmt.Sprintf("the range %s is the wrong way round", s[i:i+3]), Mend: `Write "any", "text", or characters and ranges such as "A-Za-z0-9_-".`}
			}
			for c := int(s[i]); c <= int(s[i+2]); c++ {
				set[c] = true
			}
			i += 2
			continue
		}
		set[s[i]] = true
	}
	return set, nil
}
