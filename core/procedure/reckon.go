package procedure

import (
	"fmt"
	"math"
	"reflect"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm/runtime"
)

// The library reckons with whole numbers as the machine does, where the greatest and one more is
// the least. A figure that has come about so is false, so sums, differences and products are worked
// out here, and refused where they are too great.

// sign is an operator, how it is done with whole numbers, false where the result is too great for
// one, and with anything else.
type sign struct {
	whole func(a, b int) (int, bool)
	other func(a, b any) any
}

var signs = map[string]sign{
	"+": {func(a, b int) (int, bool) { return a + b, (a+b > a) == (b > 0) || b == 0 }, runtime.Add},
	"-": {func(a, b int) (int, bool) { return a - b, (a-b < a) == (b > 0) || b == 0 }, runtime.Subtract},
	"*": {func(a, b int) (int, bool) {
		n := a * b
		return n, a == 0 || n/a == b && !(a == -1 && b == math.MinInt)
	}, runtime.Multiply},
}

// The names by which the functions are called; nobody can write them.
const (
	signName = "\x00sign"
	sumName  = "\x00sum"
)

// reckoned is the visitor that has the functions called.
type reckoned struct{}

// Visit is called for each part of an expression.
func (reckoned) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.BinaryNode:
		if _, ok := signs[n.Operator]; ok && mayBeWhole(n.Left) && mayBeWhole(n.Right) {
			ast.Patch(node, call(signName+n.Operator, n.Left, n.Right))
		}
	case *ast.BuiltinNode:
		switch {
		case n.Name != "sum":
		case len(n.Arguments) == 1:
			ast.Patch(node, call(sumName, n.Arguments[0]))
		case len(n.Arguments) == 2:
			ast.Patch(node, call(sumName, &ast.BuiltinNode{Name: "map", Arguments: n.Arguments}))
		}
	}
}

func call(name string, args ...ast.Node) ast.Node {
	return &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: args}
}

// mayBeWhole reports whether a part gives a whole number, or what is known only when it is done.
func mayBeWhole(n ast.Node) bool {
	t := n.Type()
	return t == nil || t.Kind() == reflect.Int || t.Kind() == reflect.Interface
}

// reckoning are the options that have whole numbers reckoned with so.
func reckoning() []expr.Option {
	options := []expr.Option{expr.Function(sumName, sumOf, new(func([]int) int), new(func([]float64) float64), new(func(any) any))}
	for _, s := range keys(signs) {
		do := signs[s]
		options = append(options, expr.Function(signName+s, func(args ...any) (any, error) { return do.do(s, args[0], args[1]) },
			new(func(int, int) int), new(func(any, any) any)))
	}
	return options
}

// do works out one sum, difference or product.
func (o sign) do(s string, a, b any) (any, error) {
	m, ok1 := a.(int)
	n, ok2 := b.(int)
	if !ok1 || !ok2 {
		return o.other(a, b), nil // which panics where a and b do not go together; the library tells that
	}
	whole, ok := o.whole(m, n)
	if !ok {
		return nil, fmt.Errorf("%d %s %d is too great for a whole number; number(%d) %s %d gives it as a number with a fraction", m, s, n, m, s, n)
	}
	return whole, nil
}

// sumOf is the sum of a list.
func sumOf(args ...any) (any, error) {
	list := reflect.ValueOf(args[0])
	if list.Kind() != reflect.Slice && list.Kind() != reflect.Array {
		return nil, fmt.Errorf("sum takes a list, not %v", args[0])
	}
	var sum any = 0
	for i := range list.Len() {
		var err error
		if sum, err = signs["+"].do("+", sum, list.Index(i).Interface()); err != nil {
			return nil, err
		}
	}
	return sum, nil
}
