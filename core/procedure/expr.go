package procedure

import (
	"errors"
	"fmt"
	"reflect"
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

func typeOf(name string) types.Type {
	switch name {
	case "int", "hex":
		return types.Int
	case "num":
		return types.Float
	}
	return types.String
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
	env, key := types.Map{}, text
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
		p.values.reads(n.name)
		env[n.name] = v.typ
		key += "\x00" + n.name + fmt.Sprintf("%T", v.typ) + v.typ.String()
	}
	if done, ok := p.compiled[key]; ok && !wantBool {
		return done.expr, done.typ
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
	typ := resultType(program)
	if !wantBool {
		p.compiled[key] = compiled{e, typ}
	}
	return e, typ
}

// compiled is an expression that has been compiled before, for the same types.
type compiled struct {
	expr *Expr
	typ  types.Type
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

// elementType is the type of what a list holds, as far as it is known.
func elementType(program *vm.Program) types.Type {
	t := program.Node().Type()
	if t != nil && (t.Kind() == reflect.Slice || t.Kind() == reflect.Array) {
		switch t.Elem().Kind() {
		case reflect.Int:
			return types.Int
		case reflect.String:
			return types.String
		}
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
	v := &collector{seen: map[string]bool{}}
	for name := range ourFunctions {
		v.seen[name] = true
	}
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
	for _, n := range e.Names {
		if _, ok := values[n]; !ok {
			return nil, fmt.Errorf("%s has no value: what would have given it one was not performed", n)
		}
	}
	if err := e.bounded(values); err != nil {
		return nil, err
	}
	v, err := expr.Run(e.Program, values)
	if err != nil {
		if fe, ok := errors.AsType[*file.Error](err); ok {
			return nil, fmt.Errorf("%s: %s", e.Source, fe.Message)
		}
		return nil, fmt.Errorf("%s: %w", e.Source, err)
	}
	return v, nil
}

// MaxText is how many bytes the texts that one expression puts together have at most,
// so that no value can grow without end.
const MaxText = 64 << 20

// bounded refuses an expression whose texts could come to more than that: each name
// counts as often as it stands there.
func (e *Expr) bounded(values map[string]any) error {
	total := 0
	for _, n := range e.Names {
		if text, ok := values[n].(string); ok && len(text) > 0 {
			times := strings.Count(e.Source, n)
			if times > MaxText/len(text) {
				times = MaxText/len(text) + 1
			}
			total += times * len(text)
		}
	}
	if total > MaxText {
		return fmt.Errorf("%.60s: its texts could come to more than %d MiB", e.Source, MaxText>>20)
	}
	return nil
}

// Text is a value as it goes into a said or heard text.
func Text(v any) string {
	if f, ok := v.(float64); ok {
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}
