package procedure

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/builtin"
	"github.com/expr-lang/expr/file"
	exprparser "github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"

	"uparrot/core/series"
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
	if what, mend := unknownStandard(tree.Node); what != "" {
		p.mistake(at, what, mend)
		return nil, types.Any
	}
	if name := bareFunction(tree.Node); name != "" {
		p.mistake(at, name+" is a function, and no value", fmt.Sprintf("Write %s(...), or give the value another name.", name))
		return nil, types.Any
	}
	if what, mend := misusedClock(tree.Node); what != "" {
		p.mistake(at, what, mend)
		return nil, types.Any
	}
	names, loops := identifiers(tree.Node)
	for i, n := range names { // the library counts characters
		names[i].from = bytesOf(text, n.from)
		for j, from := range n.all {
			n.all[j] = bytesOf(text, from)
		}
	}
	env, key := types.Map{}, text
	for _, n := range names {
		v, ok := p.values.find(n.name)
		where := l.pos(offset+n.from, len(n.name))
		switch {
		case ok && v.port:
			p.mistake(where, fmt.Sprintf("%s is a port, not a value", n.name), "")
			return nil, types.Any
		case !ok:
			if !p.meant(n.name) {
				p.mistake(where, fmt.Sprintf("%q "+noValue, n.name), p.nameHint(n.name, text[n.from+len(n.name):]))
			}
			return nil, types.Any
		}
		for _, from := range n.all {
			p.note(Use{Pos: l.pos(offset+from, len(n.name)), Name: n.name, Kind: ValueUse, Type: typeWord(v.typ), What: v.what, bind: v.bind})
		}
		p.values.reads(n.name)
		env[n.name] = v.typ
		key += "\x00" + n.name + fmt.Sprintf("%T", v.typ) + v.typ.String()
	}
	if done, ok := p.compiled[key]; ok && !wantBool {
		return done.expr, done.typ
	}
	env[paceName], env[clockName] = types.Any, types.Any
	options := append([]expr.Option{expr.Env(env)}, functions()...)
	if wantBool {
		options = append(options, expr.AsBool())
	}
	program, err := expr.Compile(text, options...)
	if err != nil {
		p.exprMistake(l, err, at, offset)
		return nil, types.Any
	}
	e := &Expr{Source: text, Program: program, Loops: loops}
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
		what, mend = "this is "+typeWords(kind)+", not something that is true or false", "Write a comparison, such as: check now == address"
	}
	if mend == "" {
		what, mend = inWords(what)
	}
	p.mistake(at, "the expression cannot be used: "+what, mend)
}

type identifier struct {
	name string
	from int   // in bytes
	all  []int // wherever it stands
}

// nameHint is what to write in the place of a name that has no value, or of a function that there is not.
func (p *parser) nameHint(name, behind string) string {
	if !strings.HasPrefix(behind, "(") {
		return source.DidYouMean(name, p.values.names())
	}
	known := slices.Concat(keys(ourFunctions), keys(clockFunctions), builtin.Names)
	return source.DidYouMeanOr(name, known, "docs/language.md tells which functions there are.")
}

// typeWord is a type as an input has it; "" if it is not known.
func typeWord(t types.Type) string {
	switch t {
	case types.Int:
		return "int"
	case types.Float:
		return "num"
	case types.String:
		return "text"
	}
	return ""
}

// identifiers are the values that a tree reads, each once. loops is true if it goes
// through a list.
func identifiers(node ast.Node) (found []identifier, loops bool) {
	v := &collector{seen: map[string]bool{}}
	for name := range ourFunctions {
		v.seen[name] = true
	}
	ast.Walk(&node, v)
	found = v.found[:0]
	for _, id := range v.found {
		if !isOneOf(id.name, v.local) {
			found = append(found, id)
		}
	}
	return found, v.loops
}

type collector struct {
	found []identifier
	seen  map[string]bool
	local []string // named inside the expression itself
	loops bool
}

func (c *collector) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.PredicateNode:
		c.loops = true
	case *ast.VariableDeclaratorNode:
		c.local = append(c.local, n.Name)
	case *ast.CallNode:
		if name, is := n.Callee.(*ast.IdentifierNode); is && clockFunctions[name.Value].do != nil { // a value may be called so, too
			c.found = slices.DeleteFunc(c.found, func(id identifier) bool { return id.from == name.Location().From && id.name == name.Value })
			c.seen[name.Value] = slices.ContainsFunc(c.found, func(id identifier) bool { return id.name == name.Value })
		}
	case *ast.IdentifierNode:
		from := n.Location().From
		if i := slices.IndexFunc(c.found, func(id identifier) bool { return id.name == n.Value }); i >= 0 {
			c.found[i].all = append(c.found[i].all, from)
		} else if !c.seen[n.Value] {
			c.seen[n.Value] = true
			c.found = append(c.found, identifier{n.Value, from, []int{from}})
		}
	}
}

// bytesOf is how many bytes the first n characters of a text have.
func bytesOf(text string, n int) int {
	for i := range text {
		if n == 0 {
			return i
		}
		n--
	}
	return len(text)
}

// Text is a value as it goes into a said or heard text.
func Text(v any) string {
	if f, ok := v.(float64); ok {
		return series.Digits(f)
	}
	return fmt.Sprint(v)
}

// NamesIn are the names that an expression reads.
func NamesIn(text string) ([]string, error) {
	tree, err := exprparser.Parse(text)
	if err != nil {
		return nil, err
	}
	found, _ := identifiers(tree.Node)
	var names []string
	for _, one := range found {
		names = append(names, one.name)
	}
	return names, nil
}
