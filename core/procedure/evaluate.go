package procedure

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
)

// Run evaluates the expression with values by name, unless ctx is done first.
func (e *Expr) Run(ctx context.Context, values map[string]any) (any, error) {
	for _, n := range e.Names {
		if _, ok := values[n]; !ok {
			return nil, fmt.Errorf("%s has no value: what would have given it one was not performed", n)
		}
	}
	if used, ok := values[usedName].(*Used); ok {
		used.add(e.Names)
	}
	long, err := e.long(values)
	if err != nil {
		return nil, err
	}
	if !long {
		return e.evaluate(&pace{ctx: ctx}, values)
	}
	// What cannot be stopped, such as a comparison of long texts, is left to itself: it
	// has values of its own, and ends soon.
	type outcome struct {
		v   any
		err error
	}
	done := make(chan outcome, 1)
	values = maps.Clone(values)
	go func() {
		v, err := e.evaluate(&pace{ctx: ctx}, values)
		done <- outcome{v, err}
	}()
	select {
	case o := <-done:
		return o.v, o.err
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// Used are the names with which something was worked out.
type Used struct {
	mu    sync.Mutex
	names map[string]bool
}

// WithUsed has the expressions that read values keep the names that they use.
func WithUsed(values map[string]any) *Used {
	u := &Used{names: map[string]bool{}}
	values[usedName] = u
	return u
}

// usedName is the name by which an expression finds who keeps that. Nobody can write it.
const usedName = "\x00used"

func (u *Used) add(names []string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, n := range names {
		u.names[n] = true
	}
}

// Has reports whether anything was worked out with a name.
func (u *Used) Has(name string) bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.names[name]
}

func (e *Expr) evaluate(p *pace, values map[string]any) (v any, err error) {
	if e.Loops {
		values = maps.Clone(values)
		values[paceName] = p
	}
	if v, err = expr.Run(e.Program, values); err == nil {
		return v, nil
	}
	if p.ctx.Err() != nil {
		return nil, context.Cause(p.ctx)
	}
	if fe, ok := errors.AsType[*file.Error](err); ok {
		return nil, fmt.Errorf("%s: %s", e.Source, fe.Message)
	}
	return nil, fmt.Errorf("%s: %w", e.Source, err)
}

// MaxText is how many bytes the texts that one expression puts together have at most,
// so that no value can grow without end; MaxSteps is how often one goes through the
// elements of lists, all together.
const (
	MaxText  = 64 << 20
	MaxSteps = 2_000_000
)

// longText is from how many bytes on an expression may take a while.
const longText = 64 << 10

// long reports whether an expression may take a while, and refuses one whose texts could
// come to too much: each name counts as often as it stands there.
func (e *Expr) long(values map[string]any) (bool, error) {
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
		return false, fmt.Errorf("%.60s: its texts could come to more than %d MiB", e.Source, MaxText>>20)
	}
	return e.Loops || total > longText, nil
}

// pace counts the steps of one evaluation, and stops it.
type pace struct {
	ctx   context.Context
	steps int
}

// paceName is the name by which an expression finds its pace, and the function that it
// calls in each step. Nobody can write it.
const paceName = "\x00pace"

// paceOf takes a step with what it came to.
func paceOf(args ...any) (any, error) {
	p := args[0].(*pace)
	if p.steps++; p.steps > MaxSteps {
		return nil, fmt.Errorf("it takes more than %d million steps", MaxSteps/1_000_000)
	}
	return args[1], p.ctx.Err()
}

// paced has each step through a list call paceOf.
type paced struct{}

// Visit is called for each part of an expression.
func (paced) Visit(node *ast.Node) {
	n, ok := (*node).(*ast.PredicateNode)
	if !ok {
		return
	}
	if call, ok := n.Node.(*ast.CallNode); ok {
		if name, ok := call.Callee.(*ast.IdentifierNode); ok && name.Value == stepName {
			return // it has been here
		}
	}
	n.Node = &ast.CallNode{Callee: &ast.IdentifierNode{Value: stepName}, Arguments: []ast.Node{&ast.IdentifierNode{Value: paceName}, n.Node}}
}

const stepName = "\x00step"
