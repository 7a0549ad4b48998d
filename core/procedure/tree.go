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

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
)

// Pos is a place in a procedure's text.
type Pos struct {
	Line   int // 1-based
	Column int // 1-based, in characters
	Width  int // characters
}

// File is a procedure as written.
type File struct {
	Path      string
	Title     string
	About     string
	Ports     []*Port
	Inputs    []*Input
	Secrets   []*Secret
	Lets      []*Let
	Answers   time.Duration // how long an answer may take where nothing else is said
	KeepGoing bool          // a failed step does not stop the others
	Steps     []*Step
	Lines     source.Lines

	// Warnings are findings that do not keep the procedure from running.
	Warnings source.Mistakes
}

// DefaultAnswers is how long an answer may take unless the header says.
const DefaultAnswers = 2 * time.Second

// Port is a port that the procedure speaks at.
type Port struct {
	Pos
	Name       string
	Setup      phrasebook.Setup
	Phrasebook *phrasebook.Phrasebook // nil if the header names none
}

// Input is a value given at the start.
type Input struct {
	Pos
	Name    string
	Type    string // int, num or text
	Low     *float64
	High    *float64
	Default *string // as written; nil if it must be given
	About   string
}

// Secret is a value that is asked for at the start and shown nowhere.
type Secret struct {
	Pos
	Name  string
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
	Body   []Node
}

// Node is one statement within a step.
type Node interface{ At() Pos }

// At is the place of the statement.
func (p Pos) At() Pos { return p }

// Say says a line, or bytes without a line ending.
type Say struct {
	Pos
	Port  string
	Bytes bool
	Text  *pattern.Said
	Exprs map[string]*Expr
}

// Hear waits for something to come or, with Not, for it not to come.
type Hear struct {
	Pos
	Port    string
	Form    dialog.Form
	Not     bool
	Within  time.Duration // 0 means the procedure's Answers
	Pattern *pattern.Pattern
	Exprs   map[string]*Expr
}

// Check fails the step if its expression is false.
type Check struct {
	Pos
	Expr *Expr
	Why  string
}

// Limit holds a measured value against limits.
type Limit struct {
	Pos
	Expr *Expr
	Low  *Expr // nil: open
	High *Expr // nil: open
	Unit string
	What string
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

// Expr is a compiled expression.
type Expr struct {
	Source  string
	Program *vm.Program
	Names   []string // the values it reads
}
