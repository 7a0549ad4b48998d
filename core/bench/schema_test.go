package bench

import (
	"encoding"
	"reflect"
	"strings"
	"testing"

	"uparrot/core/phrasebook"
	"uparrot/core/schema"
)

// differs says in what a table of a schema is otherwise than what is read.
func differs(t *testing.T, at string, is reflect.Type, table *schema.Table) {
	seen := map[string]bool{}
	var walk func(is reflect.Type)
	walk = func(is reflect.Type) {
		for i := range is.NumField() {
			f := is.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
			if f.Anonymous && name == "" {
				walk(f.Type)
				continue
			}
			if name == "" || name == "-" {
				continue
			}
			seen[name] = true
			k := table.Key(name)
			if k == nil {
				t.Errorf("%s: the schema has no %s", at, name)
				continue
			}
			form, of := formOf(f.Type)
			if k.Form == schema.Pair {
				k = &schema.Key{Form: form}
			}
			if k.Form == schema.Named && k.Of == nil {
				of = nil
			}
			if !strings.Contains(string(form), string(k.Form)) {
				t.Errorf("%s.%s: the schema has a %s, and what is read is a %s", at, name, k.Form, form)
			}
			if of != nil && k.Of != nil {
				differs(t, at+"."+name, of, k.Of)
			}
		}
	}
	walk(is)
	for _, k := range table.Keys {
		if !seen[k.Name] {
			t.Errorf("%s: the schema has %s, which nothing reads", at, k.Name)
		}
		if k.About == "" {
			t.Errorf("%s.%s: the schema says nothing of it", at, k.Name)
		}
	}
}

// formOf are the forms that a Go type may have in a file, and the table that it is.
func formOf(is reflect.Type) (forms schema.Form, of reflect.Type) {
	for is.Kind() == reflect.Pointer {
		is = is.Elem()
	}
	if reflect.PointerTo(is).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()) {
		return schema.Text + schema.Time + schema.Share + schema.Phrase, nil
	}
	switch is.Kind() {
	case reflect.Struct:
		return schema.One, is
	case reflect.String:
		return schema.Text, nil
	case reflect.Bool:
		return schema.Truth, nil
	case reflect.Float64:
		return schema.Number, nil
	case reflect.Slice:
		if is.Elem().Kind() == reflect.Struct {
			return schema.Many, is.Elem()
		}
		return schema.Texts, nil
	case reflect.Map:
		if is.Elem().Kind() == reflect.Interface {
			return schema.AnyBy, nil
		}
		if e, _ := formOf(is.Elem()); e == schema.One {
			_, of = formOf(is.Elem())
			return schema.Named, of
		} else if e == schema.Text {
			return schema.TextBy, nil
		} else if e == schema.Whole {
			return schema.NumBy, nil
		}
		if is.Elem().Kind() == reflect.Map {
			return schema.Named, nil
		}
		return schema.AnyBy, nil
	}
	return schema.Whole, nil
}

// The schemas tell of each key that is read, in its form, and of no other.
func TestSchemas(t *testing.T) {
	differs(t, "phrasebook", reflect.TypeFor[phrasebook.Phrasebook](), &schema.Phrasebook)
	differs(t, "bench", reflect.TypeFor[file](), &schema.Bench)
}
