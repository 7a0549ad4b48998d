// Package procedure reads the procedure language: what is said to a module and
// what must come back. It turns text into a tree with positions and reports
// every mistake; performing the tree is another package's task.
//
// The language is line-oriented: one statement a line, blocks closed by end.
// It is described in docs/language.md.
package procedure

import (
	"time"

	"github.com/expr-lang/expr/vm"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Pos is a place in a procedure's text.
type Pos struct {
	File   string
	Line   int // 1-based
	Column int // 1-based, in characters
	Width  int // characters
}

// File is a procedure as written.
type File struct {
	Path      string
	Title     string
	About     string
	Ports     []*PortDecl
	Inputs    []*Input
	Secrets   []*Secret
	Lets      []*Let
	Answers   time.Duration // how long an answer may take where nothing else is said
	Late      bool          // it gets or sets settings at a port whose phrasebook only the bench names
	KeepGoing bool          // a failed step does not stop the others
	Routines  []*Routine
	Steps     []*Step
	Texts     map[string]source.Lines // the file itself and those it includes, by path
	Uses      []Use                   // of names, in the order of the text

	// Warnings are findings that do not keep the procedure from running.
	Warnings source.Mistakes
}

// Text is the line of a place as written.
func (f *File) Text(at Pos) string { return f.Texts[at.File].At(at.Line) }

// defaultAnswers is how long an answer may take unless the header says.
const defaultAnswers = 2 * time.Second

// PortDecl is a port that the procedure speaks at.
type PortDecl struct {
	Pos
	Name       string
	Setup      phrasebook.Setup
	Phrasebook *phrasebook.Phrasebook // nil if the header names none

	// Socket and At are for a port that is a socket of this machine: "tcp" or
	// "udp", and the host and port number where it listens or, with To, that it
	// connects or sends to. That may hold values which a step gives.
	Socket string
	To     bool
	At     *Wording
}

// Whole is the setup with what the phrasebook says.
func (p *PortDecl) Whole() phrasebook.Setup {
	if p.Phrasebook == nil {
		return p.Setup
	}
	return p.Setup.Or(p.Phrasebook.Setup())
}

// Wording is text in quotes, with the values of expressions in it.
type Wording struct {
	Said  *pattern.Said
	Exprs map[string]*Expr
}

// Input is a value given at the start.
type Input struct {
	Pos
	Name    string
	Type    string // int, num or text
	Low     *float64
	High    *float64
	Default *string // as written; nil if it must be given
	Pool    string  // of the ledger that gives it; "" if it comes from elsewhere
	About   string
}

// Secret is a value that is asked for at the start and shown nowhere.
type Secret struct {
	Pos
	Name  string
	Pool  string // of the ledger that gives it; "" if it comes from elsewhere
	About string
}

// Step is statements that pass or fail together.
type Step struct {
	Pos
	Title  string
	Tries  int           // at least 1
	Every  time.Duration // from the beginning of a try to the beginning of the next
	Within time.Duration // for all tries together; 0 means no limit
	Always bool          // runs also after a failure
	Needed bool          // runs also where only other steps were asked for
	Uses   []string      // what it shares with others on the bench, such as the air
	Body   []Node

	// Needs are the values that it reads and other steps give, each with the titles of
	// those steps.
	Needs map[string][]string
}

// Node is one statement within a step.
type Node interface{ At() Pos }

// At is the place of the statement.
func (p Pos) At() Pos { return p }

// Say says a line, or bytes without a line ending.
type Say struct {
	Pos
	Port     string
	Bytes    bool
	NoAnswer bool          // nothing is owed for it
	Later    bool          // its answer may end after the step
	Restarts bool          // the module starts again
	Within   time.Duration // how long that may take; 0 is RestartWithin
	Text     *pattern.Said
	TextAt   Pos
	Exprs    map[string]*Expr
	Packet   *PacketUse // what is said, in place of Text; nil if that is no packet of the phrasebook
}

// Reads are the expressions that what is said is made of.
func (s *Say) Reads() map[string]*Expr {
	if s.Packet != nil {
		return s.Packet.Given
	}
	return s.Exprs
}

// Hear waits for something to come or, with Not, for it not to come.
type Hear struct {
	Pos
	Port    string
	Form    pattern.Form
	Not     bool
	Later   bool          // it may come after the end of the answer
	Earlier bool          // it may be older than what was done last
	Within  time.Duration // 0 means the procedure's Answers
	Took    string        // the name that holds how long it took, in seconds; "" if nobody asks
	Pattern *pattern.Pattern
	Exprs   map[string]*Expr
	Packet  *PacketUse // that the pattern is; nil if it is no packet of the phrasebook
}

// PacketUse is a packet of the phrasebook as a statement says or hears it.
type PacketUse struct {
	*phrasebook.Packet
	Given map[string]*Expr // fields that the statement gives a value
	Made  map[string]*Expr // fields that the phrasebook makes of others
}

// Check fails the step if its expression is false.
type Check struct {
	Pos
	Expr  *Expr
	Why   string   // as written
	Words *Wording // Why with values in it; nil if it has none

	Left, Right *Expr // where it compares two with ==; else nil
}

// Limit holds a measured value against limits.
type Limit struct {
	Pos
	Expr *Expr
	Low  *Expr // nil: open
	High *Expr // nil: open
	Measure
}

// Measure is what a value is called, and its unit, as written.
type Measure struct {
	Unit string
	What string

	Title  *Wording // What with values in it; nil if it has none
	UnitOf *Wording // Unit so
}

// Named reports whether a measurement may be called so.
func (m *Measure) Named(what string) bool {
	if m.Title == nil {
		return m.What == what
	}
	is, _ := m.Title.Said.Template()
	return is.MatchString(what)
}

// NoteValue keeps a value without limits: a number or a text.
type NoteValue struct {
	Pos
	Expr *Expr
	Measure
	Identity bool // it names the unit
}

// Let gives a value a name.
type Let struct {
	Pos
	Name string
	Expr *Expr
}

// Pause waits for a fixed time.
type Pause struct {
	Pos
	For time.Duration
}

// Quiet waits until nothing has come for a while.
type Quiet struct {
	Pos
	Port   string
	Still  time.Duration
	Within time.Duration // 0 means ten seconds
}

// Any waits for whichever of its cases comes first.
type Any struct {
	Pos
	Within time.Duration // 0 means the procedure's Answers
	Cases  []*Case
}

// Case is one of the things that an Any waits for, and what to do then.
type Case struct {
	Pos
	Hear *Hear // nil: nothing has come in time
	Body []Node
}

// All waits for several things in any order.
type All struct {
	Pos
	Within time.Duration // 0 means the procedure's Answers
	Hears  []*Hear
}

// If performs the first arm whose condition is true, or else Else.
type If struct {
	Pos
	Arms   []*Arm
	Else   []Node
	ElseAt Pos
}

// Arm is one condition of an If and what it leads to.
type Arm struct {
	Pos
	Cond *Expr
	Body []Node
}

// Repeat performs its body so many times.
// The times are of seconds, and each may be nil; one of Times and For is not.
type Repeat struct {
	Pos
	Times *Expr // how often
	For   *Expr // for so long: no time begins later
	Every *Expr // from the beginning of one time to that of the next
	Body  []Node
}

// For performs its body for each element of a list.
type For struct {
	Pos
	Name string
	List *Expr
	Body []Node
}

// Routine is statements with a name, to be done from several places.
type Routine struct {
	Pos
	Name   string
	Params []*Param
	Body   []Node

	gives map[string]*value // the names that have a value after it
}

// Param is what a routine is given: a value, or a port.
type Param struct {
	Pos
	Name string
	Port bool // it is spoken at
}

// Do performs a routine.
type Do struct {
	Pos
	Routine *Routine
	Args    []Arg
}

// Arg is what is given for a parameter: a port's name or an expression.
type Arg struct {
	Port string
	Expr *Expr
}

// Collect gathers many lines into one value, until a prompt, a line or a time
// of quiet.
type Collect struct {
	Pos
	Port    string
	Name    string
	Prompt  bool
	Quiet   time.Duration
	Pattern *pattern.Pattern
	Bytes   bool // the pattern is one of bytes
	Exprs   map[string]*Expr
	Within  time.Duration // 0 means CollectWithin
}

// Rows judges a table that a module gives in one answer: the statements are performed for
// every line that is a row of it.
type Rows struct {
	Pos
	Collect *Collect // what belongs to the answer; its name is empty
	Row     *pattern.Pattern
	Exprs   map[string]*Expr // of Row
	Body    []Node           // checks, limits, notes and lets
}

// SettingUse reads or writes a setting of a module through its phrasebook: the statements that
// this comes to, between those that the phrasebook wants before and after.
type SettingUse struct {
	Pos
	Port               string
	Name               string
	Gets               string // the name that has the value then; "" if it is written
	Value              *Expr  // what is written
	Enter, Body, Leave []Node // empty while the phrasebook of the port is not known
}

// SettingsMatch holds the settings of a module against those in a file.
type SettingsMatch struct {
	Pos
	Port         string
	File         string
	Enter, Leave []Node
	Each         []*MatchOne // empty while the phrasebook of the port is not known
	LeftOut      []string    // settings of the file that must differ from module to module
}

// MatchOne is a setting that is read, and what it must be.
type MatchOne struct {
	Get     *SettingUse
	Setting phrasebook.Setting
	Want    string
}

// Watch reads values that modules tell by themselves, or when they are asked, for so long,
// so often, or until one of them is as it says.
type Watch struct {
	Pos
	For      *Expr    // seconds; nil: as long as it takes
	Times    *Expr    // readings; nil: however many come
	Reopen   bool     // a port that goes away is waited for until it comes back
	Broken   *float64 // the share of readings that may be unusable; nil: none
	Polls    []*Poll
	Readings []*Reading
}

// Poll is what a watch says at a pace.
type Poll struct {
	Say   *Say
	Every time.Duration
}

// Reading is what a watch hears, and what is made of it each time. Within the time of its
// Hear one must follow on another.
type Reading struct {
	Pos
	Hear *Hear
	Body []Node // checks, limits, notes, lets and untils
}

// Until ends a watch where its condition is true.
type Until struct {
	Pos
	Cond *Expr
}

// CollectWithin bounds a collect that says no time of its own.
const CollectWithin = 30 * time.Second

// LogIn logs in at a console.
type LogIn struct {
	Pos
	Port     string
	Name     *Expr         // nil: only a password is asked for
	Password *Expr         // nil: none must be asked for
	Open     bool          // a session that is open already will do
	Within   time.Duration // 0 means LogInWithin
}

// Lacks is what a port that is set so does not say and a login needs, in words; "" if it says all.
func (n *LogIn) Lacks(s phrasebook.Setup) string {
	if len(s.Login) == 0 && n.Name != nil || len(s.Password) == 0 && (n.Name == nil || n.Password != nil) || len(s.Prompt) == 0 {
		return "the port does not say what asks for a name, a password and a command: write login \"...login:\", password \"Password:\", prompt \"...#\" at the port, or in its phrasebook"
	}
	return ""
}

// LogInWithin bounds a login that says no time of its own.
const LogInWithin = 30 * time.Second

// Keep keeps a value as a file.
type Keep struct {
	Pos
	Name string
	File *Wording
}

// Tell says something to the operator.
type Tell struct {
	Pos
	Text *Wording
}

// Ask asks the operator: yes or no, or for a value if there is an Input.
type Ask struct {
	Pos
	Text  *Wording
	Input *Input
}

// SetLine changes how a port is spoken to. What is nil or empty stays.
type SetLine struct {
	Pos
	Port    string
	Speed   *Expr
	Setup   phrasebook.Setup // frame, ending, dialect
	Signals []Signal
	Break   time.Duration
	Reopen  bool
	Within  time.Duration // for Reopen
}

// Power gives the module at a port power or takes it away.
type Power struct {
	Pos
	Port string
	How  string        // on, off or cycle
	For  time.Duration // of a cycle, without power; 0 is what the bench says
}

// What power can do.
const (
	PowerOn    = "on"
	PowerOff   = "off"
	PowerCycle = "cycle"
)

// Signal is an outgoing signal line and the state to give it.
type Signal struct {
	Line uart.Signal
	On   bool
}

// RestartWithin bounds a say that restarts a module and says no time of its own.
const RestartWithin = 60 * time.Second

// ReopenWithin bounds a reopen that says no time of its own.
const ReopenWithin = 60 * time.Second

// Reach proves that something answers in the network.
type Reach struct {
	Pos
	Host   *Wording
	TCP    *Expr         // port number; nil: ping
	Within time.Duration // 0 means ReachWithin
}

// ReachWithin bounds a reach that says no time of its own.
const ReachWithin = 10 * time.Second

// Fail ends the step as failed, skipped or untested.
type Fail struct {
	Pos
	As  verdict.Verdict
	Why *Wording
}

// Link tests the link between two ports.
type Link struct {
	Pos
	A, B    string
	Count   int
	Every   time.Duration
	Size    int // 0 means the default
	Both    bool
	MaxLoss *float64
	MaxP95  time.Duration
}

// Expr is a compiled expression.
type Expr struct {
	Source  string
	Program *vm.Program
	Names   []string // the values it reads
	Loops   bool     // it goes through a list
}

// Body is statements inside a statement.
type Body struct {
	Head *Pos // the line they stand below, where that is not the statement's own
	Body []Node
}

// Bodies are the statements inside a statement, in the order written. Those of
// a routine are told for each Do of it; an All has its hears.
func Bodies(n Node) []Body {
	if n, ok := n.(interface{ bodies() []Body }); ok {
		return n.bodies()
	}
	return nil
}

func (n *Any) bodies() (all []Body) {
	for _, c := range n.Cases {
		all = append(all, Body{&c.Pos, c.Body})
	}
	return all
}

func (n *All) bodies() []Body {
	var hears []Node
	for _, h := range n.Hears {
		hears = append(hears, h)
	}
	return []Body{{nil, hears}}
}

func (n *If) bodies() (all []Body) {
	for i, arm := range n.Arms {
		head := &arm.Pos
		if i == 0 {
			head = nil
		}
		all = append(all, Body{head, arm.Body})
	}
	if n.Else != nil {
		all = append(all, Body{&n.ElseAt, n.Else})
	}
	return all
}

func (n *Repeat) bodies() []Body { return []Body{{nil, n.Body}} }
func (n *For) bodies() []Body    { return []Body{{nil, n.Body}} }
func (n *Rows) bodies() []Body   { return []Body{{nil, n.Body}} }
func (n *Do) bodies() []Body     { return []Body{{nil, n.Routine.Body}} }

func (n *SettingUse) bodies() []Body { return []Body{{nil, n.Enter}, {nil, n.Body}, {nil, n.Leave}} }

func (n *SettingsMatch) bodies() []Body {
	all := []Body{{nil, n.Enter}}
	for _, one := range n.Each {
		all = append(all, Body{nil, one.Get.Body})
	}
	return append(all, Body{nil, n.Leave})
}

func (n *Watch) bodies() (all []Body) {
	for _, poll := range n.Polls {
		all = append(all, Body{&poll.Say.Pos, nil})
	}
	for _, r := range n.Readings {
		all = append(all, Body{&r.Pos, r.Body})
	}
	return all
}

// PortsOf are the names of the ports that a statement itself uses, without those inside
// it.
func PortsOf(n Node) []string {
	if n, ok := n.(interface{ ports() []string }); ok {
		return n.ports()
	}
	return nil
}

func (n *Say) ports() []string           { return []string{n.Port} }
func (n *Hear) ports() []string          { return []string{n.Port} }
func (n *Quiet) ports() []string         { return []string{n.Port} }
func (n *Collect) ports() []string       { return []string{n.Port} }
func (n *Rows) ports() []string          { return []string{n.Collect.Port} }
func (n *SettingUse) ports() []string    { return []string{n.Port} }
func (n *SettingsMatch) ports() []string { return []string{n.Port} }
func (n *LogIn) ports() []string         { return []string{n.Port} }
func (n *SetLine) ports() []string       { return []string{n.Port} }
func (n *Power) ports() []string         { return []string{n.Port} }
func (n *Link) ports() []string          { return []string{n.A, n.B} }

func (n *Watch) ports() (all []string) {
	for _, poll := range n.Polls {
		all = append(all, poll.Say.Port)
	}
	for _, r := range n.Readings {
		all = append(all, r.Hear.Port)
	}
	return all
}

func (n *All) ports() (all []string) {
	for _, h := range n.Hears {
		all = append(all, h.Port)
	}
	return all
}

func (n *Any) ports() (all []string) {
	for _, c := range n.Cases {
		if c.Hear != nil {
			all = append(all, c.Hear.Port)
		}
	}
	return all
}

// AtKnown reports whether all that the port's At holds has a value.
func (p *PortDecl) AtKnown(values map[string]any) bool {
	for _, e := range p.At.Exprs {
		for _, name := range e.Names {
			if _, ok := values[name]; !ok {
				return false
			}
		}
	}
	return true
}

// Address is the address of a socket, as it is written elsewhere, where its At comes to
// a text.
func (p *PortDecl) Address(at string) string {
	if p.To {
		return p.Socket + "://" + at
	}
	return p.Socket + "-listen://" + at
}
