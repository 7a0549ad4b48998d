package schema

import (
	"encoding"
	"fmt"
	"reflect"
	"strings"
)

// FromStruct is the table that a struct is read from. Its fields say what stands in it: toml names the key,
// about tells what it is, words are the only values; form is of what sort it is where the type does not tell:
// time, share or phrase. A field without about is a fault of the program.
func FromStruct[T any](about string) *Table {
	t := fromType(reflect.TypeFor[T]())
	t.About = about
	return t
}

func fromType(of reflect.Type) *Table {
	t := &Table{}
	for i := range of.NumField() {
		f := of.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
		switch {
		case f.Anonymous && name == "":
			t.Keys = append(t.Keys, fromType(f.Type).Keys...)
			continue
		case name == "" || name == "-":
			continue
		}
		k := Key{Name: name, About: f.Tag.Get("about")}
		if words := f.Tag.Get("words"); words != "" {
			k.Words = strings.Split(words, ",")
		}
		if k.About == "" {
			panic(fmt.Sprintf("schema: nothing is said of %s.%s", of.Name(), f.Name))
		}
		k.Form, k.Of = formOf(f.Type, f.Tag.Get("form"))
		t.Keys = append(t.Keys, k)
	}
	return t
}

// formOf is of what sort the values of a Go type are, and what a table of them holds.
func formOf(is reflect.Type, said string) (Form, *Table) {
	if form, ok := map[string]Form{"time": Time, "share": Share, "phrase": Phrase}[said]; ok {
		return form, nil
	}
	for is.Kind() == reflect.Pointer {
		is = is.Elem()
	}
	if reflect.PointerTo(is).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()) {
		return Text, nil
	}
	switch is.Kind() {
	case reflect.Struct:
		return One, fromType(is)
	case reflect.String:
		return Text, nil
	case reflect.Bool:
		return Truth, nil
	case reflect.Float64:
		return Number, nil
	case reflect.Slice:
		switch is.Elem().Kind() {
		case reflect.Struct:
			return Many, fromType(is.Elem())
		case reflect.Float64:
			return Pair, nil
		}
		return Texts, nil
	case reflect.Map:
		if is.Elem().Kind() == reflect.Map {
			return Named, nil
		}
		switch form, of := formOf(is.Elem(), ""); form {
		case One:
			return Named, of
		case Text:
			return TextBy, nil
		case Whole:
			return NumBy, nil
		}
		return AnyBy, nil
	case reflect.Interface:
		return AnyBy, nil
	}
	return Whole, nil
}
