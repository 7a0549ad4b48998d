package procedure

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"sort"
	"strconv"
	"strings"
	"sync"

	"github.com/antchfx/xpath"
	"github.com/expr-lang/expr"

	"uparrot/core/pattern"
)

// function is one of ours with the types that it may be called with.
type function struct {
	do    func(args ...any) (any, error)
	types []any
}

// ourFunctions are those that expressions have beside the library's own, with
// the types that they may be called with.
var ourFunctions = map[string]function{
	"len":     {lenOf, []any{new(func(any) int)}},
	"char":    {charOf, []any{new(func(int) string)}},
	"byte":    {byteOf, []any{new(func(string, int) int)}},
	"uint":    {uintOf, []any{new(func(string) int)}},
	"hex":     {hexOf, []any{new(func(int) string)}},
	"unhex":   {unhexOf, []any{new(func(string) int)}},
	"int":     {intOf, []any{new(func(int) int), new(func(float64) int), new(func(string) int), new(func(any) int)}},
	"number":  {numberOf, []any{new(func(string) float64), new(func(int) float64), new(func(float64) float64)}},
	"json":    {jsonValue, []any{new(func(string) any)}},
	"replace": {replaceOf, []any{new(func(string, string, string) string)}},
	"join":    {joinOf, []any{new(func([]any, string) string), new(func([]string, string) string), new(func([]any) string), new(func([]string) string)}},
	"repeat":  {repeatOf, []any{new(func(string, int) string)}},
	"xpath":   {xpathValue, []any{new(func(string, string) string)}},
}

var functions = sync.OnceValue(func() []expr.Option {
	options := []expr.Option{expr.Patch(reckoned{}), expr.Patch(paced{}), expr.Function(stepName, paceOf,
		new(func(any, bool) bool), new(func(any, int) int), new(func(any, float64) float64), new(func(any, string) string), new(func(any, any) any))}
	options = append(options, clockOptions()...)
	options = append(options, reckoning()...)
	options = append(options, expr.DisableBuiltin("int")) // in favour of ours, which refuses what does not fit
	for _, name := range keys(ourFunctions) {
		options = append(options, expr.Function(name, ourFunctions[name].do, ourFunctions[name].types...))
	}
	return options
})

func keys[V any](m map[string]V) []string {
	var list []string
	for k := range m {
		list = append(list, k)
	}
	sort.Strings(list)
	return list
}

// lenOf is how many bytes a text has, or how many elements a list or a map: what
// a module means by a length are bytes.
func lenOf(args ...any) (any, error) {
	v := reflect.ValueOf(args[0])
	switch v.Kind() {
	case reflect.String, reflect.Slice, reflect.Array, reflect.Map:
		return v.Len(), nil
	}
	return nil, fmt.Errorf("%v has no length", args[0])
}

// charOf is the byte of a value, for bytes to say.
func charOf(args ...any) (any, error) {
	n, ok := args[0].(int)
	if !ok || n < 0 || n > 255 {
		return nil, fmt.Errorf("a byte is 0 to 255, not %v", args[0])
	}
	return string([]byte{byte(n)}), nil
}

// byteOf is one byte of a text or payload, counted from 0.
func byteOf(args ...any) (any, error) {
	text, ok1 := args[0].(string)
	at, ok2 := args[1].(int)
	if !ok1 || !ok2 || at < 0 || at >= len(text) {
		return nil, fmt.Errorf("there is no byte %v in %d bytes", args[1], len(text))
	}
	return int(text[at]), nil
}

// uintOf reads bytes as a whole number without sign, the first byte the highest.
func uintOf(args ...any) (any, error) {
	text, ok := args[0].(string)
	if !ok || len(text) < 1 || len(text) > 7 {
		return nil, fmt.Errorf("uint takes 1 to 7 bytes, not %v", args[0])
	}
	n := int64(0)
	for i := range len(text) {
		n = n<<8 | int64(text[i])
	}
	return pattern.Int(n)
}

func hexOf(args ...any) (any, error) {
	n, ok := args[0].(int)
	if !ok {
		return nil, fmt.Errorf("hex takes a whole number, not %v", args[0])
	}
	return strings.ToUpper(strconv.FormatInt(int64(n), 16)), nil
}

// unhexOf is the whole number that hexadecimal digits stand for.
func unhexOf(args ...any) (any, error) {
	s := strings.TrimPrefix(strings.ToLower(strings.TrimSpace(fmt.Sprint(args[0]))), "0x")
	n, err := strconv.ParseUint(s, 16, 63)
	if err != nil {
		return nil, fmt.Errorf("%q is no whole number in hexadecimal digits", s)
	}
	return pattern.Int(int64(n))
}

// intOf is a value as a whole number; a number loses its fraction.
func intOf(args ...any) (any, error) {
	switch v := args[0].(type) {
	case int:
		return v, nil
	case float64:
		// The bounds as float64 are exact: the lower one fits, the upper one no longer does.
		if !(v >= math.MinInt && v < -float64(math.MinInt)) {
			return nil, fmt.Errorf("int(%v) is too great for a whole number", v)
		}
		return int(v), nil
	case string:
		n, err := strconv.Atoi(strings.TrimSpace(v))
		if errors.Is(err, strconv.ErrRange) {
			return nil, fmt.Errorf("int(%q) is too great for a whole number", v)
		}
		if err != nil {
			return nil, fmt.Errorf("%q is no whole number", v)
		}
		return n, nil
	}
	return nil, fmt.Errorf("int takes a number or a text, not %v", args[0])
}

func numberOf(args ...any) (any, error) {
	s := strings.TrimSpace(fmt.Sprint(args[0]))
	f, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return nil, fmt.Errorf("%q is no number", s)
	}
	return f, nil
}

// tooLong refuses to make a text of so many bytes.
func tooLong(n int) error {
	if n > MaxText {
		return fmt.Errorf("the text would be longer than %d MiB", MaxText>>20)
	}
	return nil
}

// replaceOf is a text with one part in the place of another.
func replaceOf(args ...any) (any, error) {
	s, ok1 := args[0].(string)
	old, ok2 := args[1].(string)
	with, ok3 := args[2].(string)
	if !ok1 || !ok2 || !ok3 {
		return nil, fmt.Errorf("replace takes three texts, not %v", args)
	}
	if times := strings.Count(s, old); len(with) > 0 && times > MaxText/len(with) {
		return nil, tooLong(MaxText + 1)
	}
	return strings.ReplaceAll(s, old, with), nil
}

// joinOf is the elements of a list as one text.
func joinOf(args ...any) (any, error) {
	list := reflect.ValueOf(args[0])
	between := ""
	if len(args) > 1 {
		between, _ = args[1].(string)
	}
	if list.Kind() != reflect.Slice && list.Kind() != reflect.Array {
		return nil, fmt.Errorf("join takes a list, not %v", args[0])
	}
	var parts []string
	total := 0
	for i := range list.Len() {
		one, ok := list.Index(i).Interface().(string)
		if !ok {
			return nil, fmt.Errorf("join takes a list of texts; element %d is %v", i, list.Index(i).Interface())
		}
		if total += len(one) + len(between); total > MaxText {
			return nil, tooLong(total)
		}
		parts = append(parts, one)
	}
	return strings.Join(parts, between), nil
}

// repeatOf is a text so many times.
func repeatOf(args ...any) (any, error) {
	s, ok1 := args[0].(string)
	n, ok2 := args[1].(int)
	if !ok1 || !ok2 || n < 0 {
		return nil, fmt.Errorf("repeat takes a text and how often, not %v", args)
	}
	if len(s) > 0 && n > MaxText/len(s) {
		return nil, tooLong(MaxText + 1)
	}
	return strings.Repeat(s, n), nil
}

// jsonValue reads JSON (RFC 8259). Whole numbers become int.
func jsonValue(args ...any) (any, error) {
	text, ok := args[0].(string)
	if !ok {
		return nil, fmt.Errorf("json takes a text, not %v", args[0])
	}
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, fmt.Errorf("the text is no JSON: %w", err)
	}
	if d.More() {
		return nil, fmt.Errorf("the text is no JSON: more follows after its end")
	}
	return plainNumbers(v), nil
}

// plainNumbers turns the numbers of decoded JSON into int and float64.
func plainNumbers(v any) any {
	switch v := v.(type) {
	case json.Number:
		if n, err := strconv.Atoi(v.String()); err == nil {
			return n
		}
		f, err := v.Float64()
		if err != nil {
			return v.String() // greater than any float64
		}
		return f
	case []any:
		for i := range v {
			v[i] = plainNumbers(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = plainNumbers(v[k])
		}
	}
	return v
}

// xpathValue evaluates an XPath 1.0 expression over XML and returns the text of
// the first node found, or the number, text or truth that it gives.
func xpathValue(args ...any) (any, error) {
	text, ok1 := args[0].(string)
	path, ok2 := args[1].(string)
	if !ok1 || !ok2 {
		return nil, fmt.Errorf("xpath takes a text and a path")
	}
	doc, err := parseXML(text)
	if err != nil {
		return nil, fmt.Errorf("the text is no XML: %w", err)
	}
	e, err := xpath.Compile(path)
	if err != nil {
		return nil, fmt.Errorf("%q is no XPath: %w", path, err)
	}
	v := e.Evaluate(&xmlCursor{node: doc})
	if nodes, ok := v.(*xpath.NodeIterator); ok {
		if !nodes.MoveNext() {
			return nil, fmt.Errorf("nothing in the XML is at %s", path)
		}
		return nodes.Current().Value(), nil
	}
	return Text(v), nil
}

// List is what a for goes through: the elements of a list.
func List(v any) ([]any, error) {
	r := reflect.ValueOf(v)
	if !r.IsValid() || r.Kind() != reflect.Slice && r.Kind() != reflect.Array {
		return nil, fmt.Errorf("%v is no list", v)
	}
	list := make([]any, r.Len())
	for i := range list {
		list[i] = r.Index(i).Interface()
	}
	return list, nil
}
