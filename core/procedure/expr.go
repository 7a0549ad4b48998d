package procedure

import (
	"errors"
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	exprparser "github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"

	"uparrot/core/source"
)

// scope is the names that have a value at some line.
type scope struct{ values map[string]value }

type value struct {
	what    string // in words, such as "an input"
	typ     types.Type
	at      Pos
	port    bool
	capture bool
	let     bool
	read    bool
}

func newScope() *scope { return &scope{map[string]value{}} }

func (s *scope) add(name string, v value) { s.values[name] = v }

func (s *scope) find(name string) (value, bool) {
	v, ok := s.values[name]
	return v, ok
}

func (s *scope) markRead(name string) {
	v := s.values[name]
	v.read = true
	s.values[name] = v
}

// names are the values that an expression may read.
func (s *scope) names() []string {
	var list []string
	for n, v := range s.values {
		if !v.port {
			list = append(list, n)
		}
	}
	sort.Strings(list)
	return list
}

func typeOf(name string) types.Type {
	switch name {
	case "int", "hex":
		return types.Int
	case "num":
		return types.Float
	}
	return types.String
}

// functions are those that expressions have beside the library's own.
var functions = []expr.Option{
	expr.Function("hex", func(args ...any) (any, error) {
		n, ok := args[0].(int)
		if !ok {
			return nil, fmt.Errorf("hex takes a whole number, not %v", args[0])
		}
		return strings.ToUpper(strconv.FormatInt(int64(n), 16)), nil
	}, new(func(int) string)),
	expr.Function("number", func(args ...any) (any, error) {
		s := strings.TrimSpace(fmt.Sprint(args[0]))
		if n, err := strconv.Atoi(s); err == nil {
			return float64(n), nil
		}
		f, err := strconv.ParseFloat(s, 64)
		if err != nil {
			return nil, fmt.Errorf("%q is no number", s)
		}
		return f, nil
	}, new(func(string) float64), new(func(int) float64), new(func(float64) float64)),
}

// parses reports whether text is an expression by its form.
func parses(text string) bool {
	_, err := exprparser.Parse(text)
	return err == nil
}

// compile compiles an expression that stands at an offset of a line. It reports
// mistakes and returns nil then. The type is what a let of it would have.
func (p *parser) compile(l *line, text string, offset int, wantBool bool) (*Expr, types.Type) {
	at := l.pos(offset, len(text))
	tree, err := exprparser.Parse(text)
	if err != nil {
		p.exprMistake(l, err, at, offset)
		return nil, types.Any
	}
	names := identifiers(tree.Node)
	env := types.Map{}
	for name, v := range p.values.values {
		if !v.port {
			env[name] = v.typ
		}
	}
	for _, n := range names {
		v, ok := p.values.find(n.name)
		where := l.pos(offset+n.from, len(n.name))
		switch {
		case ok && v.port:
			p.mistake(where, fmt.Sprintf("%s is a port, not a value", n.name), "")
			return nil, types.Any
		case !ok:
			p.mistake(where, fmt.Sprintf("%q has no value here", n.name), source.DidYouMean(n.name, p.values.names()))
			return nil, types.Any
		}
		p.values.markRead(n.name)
	}
	options := append([]expr.Option{expr.Env(env)}, functions...)
	if wantBool {
		options = append(options, expr.AsBool())
	}
	program, err := expr.Compile(text, options...)
	if err != nil {
		p.exprMistake(l, err, at, offset)
		return nil, types.Any
	}
	e := &Expr{Source: text, Program: program}
	for _, n := range names {
		e.Names = append(e.Names, n.name)
	}
	return e, resultType(program)
}

// resultType is the type of what an expression gives, as far as it is known.
func resultType(program *vm.Program) types.Type {
	t := program.Node().Type()
	if t == nil {
		return types.Any
	}
	switch t.Kind() {
	case reflect.Int:
		return types.Int
	case reflect.Float64:
		return types.Float
	case reflect.String:
		return types.String
	case reflect.Bool:
		return types.Bool
	}
	return types.Any
}

func (p *parser) exprMistake(l *line, err error, at Pos, offset int) {
	what := err.Error()
	if e, ok := errors.AsType[*file.Error](err); ok {
		what = e.Message
		at = l.pos(offset+e.From, max(1, e.To-e.From))
	}
	mend := ""
	if kind, ok := strings.CutPrefix(what, "expected bool, but got "); ok {
		what, mend = "this is a "+kind+", not something that is true or false", "Write a comparison, such as: check now == address"
	}
	p.mistake(at, "the expression cannot be used: "+what, mend)
}

type identifier struct {
	name string
	from int
}

// identifiers are the values that a tree reads, each once.
func identifiers(node ast.Node) []identifier {
	v := &collector{seen: map[string]bool{"hex": true, "number": true}}
	ast.Walk(&node, v)
	found := v.found[:0]
	for _, id := range v.found {
		if !isOneOf(id.name, v.local) {
			found = append(found, id)
		}
	}
	return found
}

type collector struct {
	found []identifier
	seen  map[string]bool
	local []string // named inside the expression itself
}

func (c *collector) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.VariableDeclaratorNode:
		c.local = append(c.local, n.Name)
	case *ast.IdentifierNode:
		if !c.seen[n.Value] {
			c.seen[n.Value] = true
			c.found = append(c.found, identifier{n.Value, n.Location().From})
		}
	}
}

// Run evaluates the expression with values by name.
func (e *Expr) Run(values map[string]any) (any, error) {
	v, err := expr.Run(e.Program, values)
	if err != nil {
		if fe, ok := errors.AsType[*file.Error](err); ok {
			return nil, fmt.Errorf("%s: %s", e.Source, fe.Message)
		}
		return nil, fmt.Errorf("%s: %w", e.Source, err)
	}
	return v, nil
}

// Text is a value as it goes into a said or heard text.
func Text(v any) string {
	if f, ok := v.(float64); ok {
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

// warn gathers what is odd but does no harm.
func (p *parser) warn() {
	for _, port := range p.file.Ports {
		if !p.used[port.Name] {
			p.file.Warnings = append(p.file.Warnings, p.finding(port.Pos, fmt.Sprintf("no step uses the port %s", port.Name), "Use it or delete it."))
		}
	}
	for name, v := range p.values.values {
		mend := "Use it or delete it."
		if v.capture {
			mend = "Check it, or write ... in its place."
		}
		if !v.read && (v.capture || v.let || v.what == "an input") && v.at.Line > 0 {
			p.file.Warnings = append(p.file.Warnings, p.finding(v.at, fmt.Sprintf("nothing reads %s", name), mend))
		}
	}
	_ = p.file.Warnings.Err() // puts them in order
}
