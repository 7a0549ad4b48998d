package toml

import (
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"uparrot/core/source"
)

// decode fills a struct or map from the tree.
func (d *Doc) decode(into any) { d.fill(d.root, reflect.ValueOf(into).Elem(), "") }

var textUnmarshaler = reflect.TypeFor[encoding.TextUnmarshaler]()

// fill puts a value into a place of the program.
func (d *Doc) fill(n *node, v reflect.Value, name string) {
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			v.Set(reflect.New(v.Type().Elem()))
		}
		d.fill(n, v.Elem(), name)
		return
	}
	if list := n.kind == list && v.Kind() == reflect.Slice; !list && v.CanAddr() && v.Addr().Type().Implements(textUnmarshaler) {
		d.word(n, v.Addr().Interface().(encoding.TextUnmarshaler), name)
		return
	}
	wanted := wants[v.Kind()]
	switch v.Kind() {
	case reflect.Interface:
		v.Set(reflect.ValueOf(plain(n)))
		return
	case reflect.Struct:
		if n.kind == table {
			d.fields(n, v)
			return
		}
	case reflect.Map:
		if n.kind == table {
			d.entries(n, v)
			return
		}
	case reflect.Slice:
		if n.kind == list {
			s := reflect.MakeSlice(v.Type(), len(n.items), len(n.items))
			for i, item := range n.items {
				d.fill(item, s.Index(i), name)
			}
			v.Set(s)
			return
		}
	case reflect.String:
		if n.kind == text {
			v.SetString(n.text)
			return
		}
	case reflect.Bool:
		if n.kind == truth {
			v.SetBool(n.text == "true")
			return
		}
	case reflect.Float64:
		if n.kind == number || n.kind == whole {
			v.SetFloat(n.float)
			return
		}
	case reflect.Int, reflect.Int64:
		if n.kind == whole {
			v.SetInt(n.num)
			return
		}
	case reflect.Uint64:
		if n.kind == whole && n.num >= 0 {
			v.SetUint(uint64(n.num))
			return
		}
		wanted = "a whole number that is not below zero"
	}
	d.mistake(n.key, fmt.Sprintf("%s is %s", name, kindNames[n.kind]), "Wanted here: "+wanted+".")
}

var wants = map[reflect.Kind]string{
	reflect.Struct: "a table", reflect.Map: "a table", reflect.Slice: "a list", reflect.String: kindNames[text], reflect.Bool: kindNames[truth],
	reflect.Float64: "a number", reflect.Int: kindNames[whole], reflect.Int64: kindNames[whole], reflect.Uint64: kindNames[whole],
}

// word has a type read what was written; a number or a truth as it stands there.
func (d *Doc) word(n *node, into encoding.TextUnmarshaler, name string) {
	if n.kind == list || n.kind == table || n.kind == moment {
		d.mistake(n.key, fmt.Sprintf("%s is %s", name, kindNames[n.kind]), "Wanted here: a text in quotes.")
		return
	}
	if err := into.UnmarshalText([]byte(n.text)); err != nil {
		if p, ok := errors.AsType[*source.Problem](err); ok {
			d.mistake(n.value, p.What, p.Mend)
			return
		}
		d.mistake(n.value, err.Error(), "")
	}
}

func (d *Doc) entries(n *node, v reflect.Value) {
	if v.IsNil() {
		v.Set(reflect.MakeMap(v.Type()))
	}
	for _, name := range n.order {
		one := reflect.New(v.Type().Elem()).Elem()
		d.fill(n.keys[name], one, name)
		v.SetMapIndex(reflect.ValueOf(name).Convert(v.Type().Key()), one)
	}
}

// fields fills a struct, those without a name of their own with it.
func (d *Doc) fields(n *node, v reflect.Value) {
	places := map[string]reflect.Value{}
	var known []string
	var gather func(v reflect.Value)
	gather = func(v reflect.Value) {
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
			switch {
			case f.Anonymous && name == "":
				gather(v.Field(i))
			case name != "" && name != "-":
				places[name] = v.Field(i)
				known = append(known, name)
			}
		}
	}
	gather(v)
	for _, name := range n.order {
		child := n.keys[name]
		if place, ok := places[name]; ok {
			d.fill(child, place, name)
			continue
		}
		at := []*node{child}
		if child.tables {
			at = child.items
		}
		for _, one := range at {
			d.mistake(one.key, fmt.Sprintf("unknown key %q", name), source.DidYouMeanOf(name, known))
		}
	}
}

// plain is a value as Go has it: string, int64, float64, bool, []any or
// map[string]any.
func plain(n *node) any {
	switch n.kind {
	case whole:
		return n.num
	case number:
		return n.float
	case truth:
		return n.text == "true"
	case list:
		all := make([]any, len(n.items))
		for i, item := range n.items {
			all[i] = plain(item)
		}
		return all
	case table:
		m := map[string]any{}
		for name, child := range n.keys {
			m[name] = plain(child)
		}
		return m
	}
	return n.text
}
