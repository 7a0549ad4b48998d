package writing

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/text"
)

// ItemKind is what an item stands for.
type ItemKind string

// The kinds of items.
const (
	WordItem     ItemKind = "word"
	PortItem     ItemKind = "port"
	ValueItem    ItemKind = "value"
	FunctionItem ItemKind = "function"
	RoutineItem  ItemKind = "routine"
	CommandItem  ItemKind = "command"
	SettingItem  ItemKind = "setting"
	PacketItem   ItemKind = "packet"
	FileItem     ItemKind = "file"
	KeyItem      ItemKind = "key"
)

// Item is something that could stand at a place.
type Item struct {
	Label  string // what is shown
	Text   string // what is put in
	Detail string // in a few words
	About  string // more of it; may be empty
	Kind   ItemKind
	Put    Range // in whose place
}

// Complete is what could stand at a place, those that are likely first.
func (d *Doc) Complete(at Place) []Item {
	if d.Kind != Procedure {
		return d.completeTable(at)
	}
	c := &completion{Doc: d, at: at, text: d.before(at)}
	c.gather()
	for i := range c.items {
		if c.items[i].Put == (Range{}) {
			c.items[i].Put = Range{at.Line, at.Column - len([]rune(c.part)), at.Column}
		}
	}
	return c.items
}

// completion gathers what could stand at a place.
type completion struct {
	*Doc
	at    Place
	text  string // of the line before the place
	part  string // what of the word is there already
	items []Item
}

func (c *completion) add(kind ItemKind, label, detail, about string) {
	c.items = append(c.items, Item{Label: label, Text: label, Detail: detail, About: about, Kind: kind})
}

func (c *completion) words(table []word, but ...string) {
	for _, w := range table {
		if !slices.Contains(but, w.name) {
			c.add(WordItem, w.name, firstOf(w.form, w.does), w.does)
		}
	}
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

var (
	wordEnd   = text.Regexp(`[A-Za-z_][A-Za-z0-9_-]*$`)
	nameEnd   = text.Regexp(`[A-Za-z_][A-Za-z0-9_]*$`)
	spoken    = text.Regexp(`^\s*(say|poll|hear|not hear|case hear|reading|collect|rows|row)\b([^:"]*):\s?(.*)$`)
	spokenTo  = text.Regexp(`^\s*(say|poll|hear|not hear|case hear|reading)\s+((?:bytes|packet|next|later|earlier)\s+)?([A-Za-z0-9_-]*)$`)
	atPort    = text.Regexp(`^\s*(get|set|settings|line|power|quiet|rows|log in|collect \w+ from)\s+([A-Za-z0-9_-]*)$`)
	ofSetting = text.Regexp(`^\s*(get|set)\s+([A-Za-z0-9_-]+)\s+("?[^"=]*)$`)
	setTo     = text.Regexp(`^\s*set\s+([A-Za-z0-9_-]+)\s+(?:"([^"]+)"|([A-Za-z0-9_-]+))\s*=\s*(\S*)$`)
	inPort    = text.Regexp(`^\s*port\s+[A-Za-z0-9_-]+\s*:(.*)$`)
	inStep    = text.Regexp(`^\s*step\s+"[^"]*"(.*)$`)
	inLine    = text.Regexp(`^\s*line\s+([A-Za-z0-9_-]+)\s+(.*)$`)
	inBraces  = text.Regexp(`^\s*(?:port|line|reach|tell|ask|fail|skip|keep|repeat)\b.*\{[^}]*$`)
	inLink    = text.Regexp(`^\s*link\s+(?:\S+\s+)?[A-Za-z0-9_-]*$`)
	inLogIn   = text.Regexp(`^\s*log in\s+.*\b(?:as|with)\s+\S*$`)
	inPower   = text.Regexp(`^\s*power\s+[A-Za-z0-9_-]+\s+\w*$`)
	inInput   = text.Regexp(`^\s*input\s+\w+\s*:\s*\w*$`)
	inDo      = text.Regexp(`^\s*do\s+(\w*)$`)
	inFile    = text.Regexp(`^\s*(include|settings\s+\S+\s+match|port\b.*\bphrasebook)\s+"([^"]*)$`)
	inCapture = text.Regexp(`\{[A-Za-z_][A-Za-z0-9_]*:([A-Za-z0-9]*)$`)
	inCount   = text.Regexp(`:bytes\([A-Za-z0-9_]*$`)
	expressed = text.Regexp(`^\s*(check|limit|note|identity|until|if|else if|let\s+\w+\s*=|for\s+\w+\s+in|repeat|do\s+\w+\s*\(|set\b.*=|keep)(.*)$`)
)

// gather finds out what stands before the place, and what could follow.
func (c *completion) gather() {
	c.part = wordEnd().FindString(c.text)
	if strings.HasPrefix(strings.TrimSpace(c.text), "#") {
		return
	}
	switch m := []string(nil); {
	case strings.TrimSpace(c.text) == c.part:
		c.first()
	case c.matches(inFile(), &m):
		c.files(m[1], m[2])
	case c.matches(spokenTo(), &m):
		c.speakers(m[1], m[2])
	case c.matches(spoken(), &m):
		c.module(m[1], m[2], m[3])
	case c.matches(atPort(), &m):
		c.ports()
	case c.matches(setTo(), &m):
		c.settingValues(m[1], firstOf(m[2], m[3]))
		c.expression()
	case c.matches(ofSetting(), &m):
		c.part = strings.TrimPrefix(m[3], `"`)
		c.settings(m[1], m[2], strings.HasPrefix(m[3], `"`))
	case c.matches(inBraces(), &m):
		c.expression()
	case c.matches(inPort(), &m):
		c.listed(m[1], portWords)
	case c.matches(inStep(), &m):
		c.words(stepWords)
	case c.matches(inLink(), &m):
		c.ports()
	case c.matches(inLogIn(), &m):
		c.expression()
	case c.matches(inLine(), &m):
		c.listed(m[2], lineWords)
	case c.matches(inPower(), &m):
		c.words(values["power"])
	case c.matches(inInput(), &m):
		c.words(values["input"])
	case c.matches(inDo(), &m):
		c.routines()
	case c.matches(expressed(), &m):
		c.expression()
		if strings.HasPrefix(strings.TrimSpace(c.text), "do") {
			c.ports()
		}
	case strings.Contains(c.text, `{`) && strings.LastIndex(c.text, "{") > strings.LastIndex(c.text, "}"):
		c.expression()
	}
}

func (c *completion) matches(re *regexp.Regexp, m *[]string) bool {
	*m = re.FindStringSubmatch(c.text)
	return *m != nil
}

// openBlocks are the words of the blocks that are open before a line, and where the innermost began.
func (d *Doc) openBlocks(line int) (open []string, begin int) {
	var begins []int
	for i := 1; i < line; i++ {
		switch w := firstWord(d.Lines.At(i)); {
		case procedure.Opens(w):
			open, begins = append(open, w), append(begins, i)
		case w == "end" && len(open) > 0:
			open, begins = open[:len(open)-1], begins[:len(begins)-1]
		}
	}
	if len(begins) > 0 {
		begin = begins[len(begins)-1]
	}
	return open, begin
}

func firstWord(line string) string {
	return regexpFirst().FindString(strings.TrimLeft(line, " \t"))
}

var regexpFirst = text.Regexp(`^[A-Za-z_]+`)

// first is what a line may begin with.
func (c *completion) first() {
	open, begin := c.openBlocks(c.at.Line)
	inner := ""
	if len(open) > 0 {
		inner = open[len(open)-1]
	}
	has := func(word string) bool {
		for i := begin + 1; i < c.at.Line; i++ {
			if firstWord(c.Lines.At(i)) == word {
				return true
			}
		}
		return false
	}
	only := func(names ...string) {
		for _, n := range names {
			c.words([]word{*find(statements, n)})
		}
	}
	switch {
	case inner == "":
		c.words(header)
	case inner == "all":
		only("hear", "end")
	case inner == "any" && !has("case"):
		only("case")
	case inner == "rows" && !has("row"):
		only("row")
	case inner == "rows":
		only("check", "limit", "note", "let", "end")
	case inner == "watch" && !has("reading"):
		only("reading", "poll", "end")
	case inner == "watch":
		only("limit", "check", "note", "let", "until", "reading", "end")
	default:
		but := []string{"row", "poll", "reading", "until"}
		if inner != "any" {
			but = append(but, "case")
		}
		if inner != "if" {
			but = append(but, "else")
		}
		c.words(statements, but...)
	}
}

// ports are the procedure's ports, and parameters that stand for one.
func (c *completion) ports() {
	for _, p := range c.file.Ports {
		c.add(PortItem, p.Name, "port, "+p.Whole().Words(), bookWords(p.Phrasebook))
	}
	for _, p := range c.parameters() {
		c.add(PortItem, p, "a parameter", "")
	}
}

func bookWords(pb *phrasebook.Phrasebook) string {
	if pb == nil {
		return ""
	}
	return strings.TrimRight(pb.Family+": "+pb.About, ": ")
}

// parameters are those of the routine in which the place is.
func (c *completion) parameters() (names []string) {
	for i := c.at.Line - 1; i > 0; i-- {
		switch line := c.Lines.At(i); {
		case strings.TrimRight(line, " \t") == "end":
			return nil
		case firstWord(line) == "routine" && !strings.HasPrefix(line, " "):
			if _, list, ok := strings.Cut(line, "("); ok {
				for _, p := range strings.Split(strings.TrimRight(list, ") \t"), ",") {
					names = append(names, strings.TrimSpace(p))
				}
			}
			return names
		}
	}
	return nil
}

// speakers are what may stand between say or hear and the colon.
func (c *completion) speakers(verb, how string) {
	c.ports()
	if how != "" {
		return
	}
	c.words([]word{{"bytes", "bytes PORT: BYTES", "exactly these bytes"}, {"packet", "packet PORT: NAME", "a packet of the phrasebook"}})
	if verb == "hear" {
		c.words([]word{{"next", "next PORT: TEXT", "the very next line"}, {"later", "later PORT: TEXT", "which may come after the end of the answer"}, {"earlier", "earlier PORT: TEXT", "which may be older than what was done last"}})
	}
}

// portOf is the port in what stands between say or hear and the colon: the only one, if none is named.
func (c *completion) portOf(between string) string {
	for _, w := range strings.Fields(between) {
		for _, p := range c.file.Ports {
			if p.Name == w {
				return w
			}
		}
	}
	if len(c.file.Ports) == 1 {
		return c.file.Ports[0].Name
	}
	return ""
}

// bookOf is the phrasebook of a port; nil if none is known.
func (d *Doc) bookOf(port string) *phrasebook.Phrasebook {
	if d.file == nil {
		return d.book
	}
	for _, p := range d.file.Ports {
		if p.Name == port {
			return p.Phrasebook
		}
	}
	return nil
}

// module is what can be said to a module, or heard of it.
func (c *completion) module(verb, between, text string) {
	if open := strings.LastIndex(text, "{"); open > strings.LastIndex(text, "}") {
		says := verb == "say" || verb == "poll"
		switch {
		case !says && inCapture().MatchString(text):
			c.part = inCapture().FindStringSubmatch(text)[1]
			c.words(values["capture"])
		case says || strings.HasPrefix(text[open:], "{=") || inCount().MatchString(text):
			c.expression()
		}
		return
	}
	pb := c.bookOf(c.portOf(between))
	if pb == nil {
		return
	}
	c.part = text
	if slices.Contains(strings.Fields(between), "packet") {
		if strings.Contains(text, "(") {
			c.expression()
			return
		}
		for _, p := range pb.Packets {
			c.add(PacketItem, p.Name, p.Meaning, "`"+p.Bytes+"`")
		}
		return
	}
	if verb == "say" || verb == "poll" {
		c.commands(pb)
		return
	}
	c.answers(pb)
}

// commands are what a phrasebook knows to be said.
func (c *completion) commands(pb *phrasebook.Phrasebook) {
	for _, s := range pb.Settings {
		if s.Write != "" {
			c.add(CommandItem, s.Write, "sets "+s.Name, settingWords(s))
		}
		if s.Read != "" {
			c.add(CommandItem, s.Read, "reads "+s.Name, settingWords(s))
		}
	}
	for _, i := range pb.Identity {
		if i.Read != "" {
			c.add(CommandItem, i.Read, "reads "+i.Name, i.Meaning)
		}
	}
	for _, k := range pb.Commands {
		c.add(CommandItem, k.Say, k.Meaning, "")
	}
	if pb.Carrier != nil && pb.Carrier.Send != "" {
		c.add(CommandItem, pb.Carrier.Send, "sends a payload", "")
	}
	c.fillIn()
}

// answers are what a phrasebook tells that a module says, those first that belong to what was said
// last above the place.
func (c *completion) answers(pb *phrasebook.Phrasebook) {
	said := c.saidAbove()
	answers := func(say string, list []string, about string) {
		for _, a := range list {
			c.add(CommandItem, a, "answer to "+say, about)
		}
	}
	for _, k := range pb.Commands {
		answers(k.Say, k.Answer, k.Meaning)
	}
	for _, s := range pb.Settings {
		if s.Answer != "" {
			answers(s.Read, []string{s.Answer}, settingWords(s))
		}
		if s.Written != "" {
			answers(s.Write, []string{s.Written}, settingWords(s))
		}
	}
	for _, i := range pb.Identity {
		if i.Answer != "" {
			answers(i.Read, []string{i.Answer}, i.Meaning)
		}
	}
	for _, n := range pb.Notices {
		c.add(CommandItem, n.Heard, "notice: "+n.Name, n.Meaning)
	}
	if pb.Banner != nil {
		c.add(CommandItem, pb.Banner.Heard, "when it has started", "")
	}
	for _, r := range pb.Refusal.Heard {
		c.add(CommandItem, r, "refusal", "")
	}
	if pb.Carrier != nil && pb.Carrier.Arrives != "" {
		c.add(CommandItem, pb.Carrier.Arrives, "a message that arrives", "")
	}
	sort.SliceStable(c.items, func(i, j int) bool {
		is := func(it Item) bool { return said != "" && it.Detail == "answer to "+said }
		return is(c.items[i]) && !is(c.items[j])
	})
}

// saidAbove is what the nearest say above the place says.
func (c *completion) saidAbove() string {
	for i := c.at.Line - 1; i > 0; i-- {
		line := c.Lines.At(i)
		if m := spoken().FindStringSubmatch(line); m != nil && (m[1] == "say" || m[1] == "poll") {
			return strings.TrimSpace(m[3])
		}
		if w := firstWord(line); w == "step" || w == "routine" {
			break
		}
	}
	return ""
}

// fillIn names in the place of {value} a value of the procedure that is called as the setting is.
func (c *completion) fillIn() {
	names := c.valueNames()
	for i, it := range c.items {
		name := strings.TrimPrefix(it.Detail, "sets ")
		if name == it.Detail {
			continue
		}
		if own := strings.ReplaceAll(name, " ", "_"); slices.Contains(names, own) {
			c.items[i].Text = strings.ReplaceAll(it.Text, "{value}", "{"+own+"}")
		}
	}
}

// settingWords are what a setting means, with its range and unit.
func settingWords(s phrasebook.Setting) string {
	text := s.Meaning
	also := func(t string) {
		if text != "" {
			text += "; "
		}
		text += t
	}
	if len(s.Range) == 2 {
		what := ""
		if s.Type == "text" {
			what = " characters"
		}
		also(strings.TrimSpace(fmt.Sprintf("%v to %v%s %s", s.Range[0], s.Range[1], what, s.Unit)))
	} else if s.Unit != "" {
		also("in " + s.Unit)
	}
	if s.Default != "" {
		also("as delivered " + s.Default)
	}
	if s.Effect == "restart" {
		also("takes effect at a restart")
	}
	return text
}

// settings are those of a port.
func (c *completion) settings(verb, port string, quoted bool) {
	pb := c.bookOf(port)
	if pb == nil {
		return
	}
	add := func(name, about string) {
		c.add(SettingItem, name, about, "")
		if it := &c.items[len(c.items)-1]; quoted {
			it.Text = name
		} else if strings.ContainsAny(name, " ") {
			it.Text = `"` + name + `"`
		}
	}
	for _, s := range pb.Settings {
		if verb == "set" && s.Writable() || verb == "get" && s.Way().Readable() {
			add(s.Name, settingWords(s))
		}
	}
	if verb == "get" {
		for _, i := range pb.Identity {
			add(i.Name, i.Meaning)
		}
	}
}

// settingValues are values that a setting may have.
func (c *completion) settingValues(port, name string) {
	if pb := c.bookOf(port); pb != nil {
		if s, ok := pb.Setting(name); ok && s.Default != "" {
			c.add(ValueItem, s.Quoted(s.Default), "as delivered", settingWords(s))
		}
	}
}

// listed are words one after another, each with its values.
func (c *completion) listed(text string, table []word) {
	fields := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' })
	if c.part != "" && len(fields) > 0 {
		fields = fields[:len(fields)-1]
	} else if m := regexp.MustCompile(`\S+$`).FindString(text); m != "" && !strings.HasSuffix(m, ",") {
		c.part = m
		fields = fields[:max(0, len(fields)-1)]
	}
	if len(fields) > 0 && !strings.HasSuffix(strings.TrimRight(strings.TrimSuffix(text, c.part), " "), ",") {
		if list := values[fields[len(fields)-1]]; list != nil {
			c.words(list)
			return
		}
	}
	c.words(table)
}

func (c *completion) routines() {
	for _, r := range c.file.Routines {
		var names []string
		for _, p := range r.Params {
			names = append(names, p.Name)
		}
		form := r.Name + "(" + strings.Join(names, ", ") + ")"
		c.add(RoutineItem, r.Name, "do "+form, "")
		c.items[len(c.items)-1].Text = form
	}
}

// valueNames are the values that have been given above the place.
func (c *completion) valueNames() (names []string) {
	for _, u := range c.file.Uses {
		above := u.File != c.Path || u.Line < c.at.Line
		if u.Gives && above && (u.Kind == procedure.ValueUse) && u.What != "a parameter" && !slices.Contains(names, u.Name) {
			names = append(names, u.Name)
		}
		for _, f := range u.Fields {
			if above && !slices.Contains(names, f) {
				names = append(names, f)
			}
		}
	}
	for _, m := range captured().FindAllStringSubmatch(c.text, -1) { // in the line itself
		if !slices.Contains(names, m[1]) {
			names = append(names, m[1])
		}
	}
	return append(names, c.parameters()...)
}

var captured = text.Regexp(`\{([A-Za-z_][A-Za-z0-9_]*):int\}`)

// expression is what may stand in an expression.
func (c *completion) expression() {
	c.part = nameEnd().FindString(c.text)
	for _, name := range c.valueNames() {
		detail := "a value"
		for _, u := range c.file.Uses {
			if u.Name == name && u.Gives {
				detail = strings.TrimSpace(u.What + " " + u.Type)
				break
			}
		}
		c.add(ValueItem, name, detail, c.inputWords(name))
	}
	for _, f := range functions {
		c.add(FunctionItem, f.name, f.form, f.does)
	}
}

// inputWords are what an input means, with its range.
func (d *Doc) inputWords(name string) string {
	if d.file == nil {
		return ""
	}
	for _, in := range d.file.Inputs {
		if in.Name != name {
			continue
		}
		text := in.Type
		if in.Low != nil || in.High != nil {
			text += " " + in.Range()
		}
		if in.Default != nil {
			text += " = " + *in.Default
		}
		return strings.TrimSpace(text + " " + in.About)
	}
	return ""
}

// files are those that could be named.
func (c *completion) files(what, part string) {
	ending := ".toml"
	if what == "include" {
		ending = ".parrot"
	}
	c.part = filepath.Base("/" + part)
	if strings.HasSuffix(part, "/") || part == "" {
		c.part = ""
	}
	dir := filepath.Join(filepath.Dir(c.Path), filepath.Dir(part+"x"))
	entries, err := os.ReadDir(dir)
	if err != nil {
		return // there is nothing to name
	}
	for _, e := range entries {
		if name := e.Name(); filepath.Ext(name) == ending && name != filepath.Base(c.Path) {
			c.add(FileItem, name, "", "")
		}
	}
}
