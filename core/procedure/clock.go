package procedure

import (
	"errors"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"

	"uparrot/core/text"
)

// Clock tells the time to the expressions of a run.
type Clock interface {
	// Elapsed is how long the step has gone on, in seconds.
	Elapsed() float64
	// Since is how long ago a name got its value, in seconds.
	Since(name string) (float64, error)
	// Now is the time of day, as 2026-11-26 11:45:03.
	Now() string
}

// WithClock has the expressions that read values ask a clock.
func WithClock(values map[string]any, c Clock) { values[clockName] = c }

// clockName is the name by which an expression finds the clock. Nobody can write it.
const clockName = "\x00clock"

// clockFunctions are those of ours that ask the clock: what stands for each within an
// expression, and its types.
var clockFunctions = map[string]function{
	"elapsed": {func(args ...any) (any, error) {
		c, err := clockOf(args)
		if err != nil {
			return nil, err
		}
		return c.Elapsed(), nil
	}, []any{new(func(any) float64)}},
	"since": {func(args ...any) (any, error) {
		c, err := clockOf(args)
		if err != nil {
			return nil, err
		}
		return c.Since(args[1].(string))
	}, []any{new(func(any, string) float64)}},
	"now": {func(args ...any) (any, error) {
		c, err := clockOf(args)
		if err != nil {
			return nil, err
		}
		return c.Now(), nil
	}, []any{new(func(any) string)}},
}

func clockOf(args []any) (Clock, error) {
	c, ok := args[0].(Clock)
	if !ok {
		return nil, errors.New("only a run has a clock")
	}
	return c, nil
}

// clockOptions are the functions as the library is to know them.
func clockOptions() []expr.Option {
	options := []expr.Option{expr.DisableBuiltin("now"), expr.Patch(clocked{})} // the library's own is a value of a type of its own
	for _, name := range keys(clockFunctions) {
		options = append(options, expr.Function("\x00"+name, clockFunctions[name].do, clockFunctions[name].types...))
	}
	return options
}

// clocked has each call of a clock's function find the clock, and since the name of what
// it is asked about.
type clocked struct{}

// Visit is called for each part of an expression.
func (clocked) Visit(node *ast.Node) {
	call, ok := (*node).(*ast.CallNode)
	if !ok {
		return
	}
	name, ok := call.Callee.(*ast.IdentifierNode)
	if !ok || clockFunctions[name.Value].do == nil {
		return
	}
	args := []ast.Node{&ast.IdentifierNode{Value: clockName}}
	for _, a := range call.Arguments {
		if id, is := a.(*ast.IdentifierNode); is && name.Value == "since" {
			a = &ast.StringNode{Value: id.Value}
		}
		args = append(args, a)
	}
	*node = &ast.CallNode{Callee: &ast.IdentifierNode{Value: "\x00" + name.Value}, Arguments: args}
}

// misusedClock finds a since of what is no name.
func misusedClock(node ast.Node) (what, mend string) {
	v := &sinceSeeker{}
	ast.Walk(&node, v)
	if v.wrong {
		return "since takes the name of a value: how long ago it got that", "Write: since(heard)"
	}
	return "", ""
}

type sinceSeeker struct{ wrong bool }

func (v *sinceSeeker) Visit(node *ast.Node) {
	if call, ok := (*node).(*ast.CallNode); ok {
		if name, is := call.Callee.(*ast.IdentifierNode); is && name.Value == "since" {
			named := false
			if len(call.Arguments) == 1 {
				_, named = call.Arguments[0].(*ast.IdentifierNode)
			}
			v.wrong = v.wrong || !named
		}
	}
}

// seconds is an expression that is nothing but a time of the clock.
var seconds = text.Regexp(`^(?:elapsed\(\)|since\(\w+\))$`)

// unitOf is the unit of an expression where nobody says one: times are in seconds.
func (p *parser) unitOf(expr, said string) string {
	if said == "" && (seconds().MatchString(expr) || p.times[expr]) {
		return "s"
	}
	return said
}
