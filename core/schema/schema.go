// Package schema tells what may stand in the files that a person writes as tables: phrasebooks, benches
// and tables of units. It comes of the structs that are read, and is there for editors and for other
// programs; what reads the files checks them by itself.
package schema

import (
	"encoding/json"
	"strings"
)

// Form is of what sort a value is.
type Form string

// The forms of values.
const (
	Text   Form = "text"
	Whole  Form = "whole number"
	Number Form = "number"
	Truth  Form = "true or false"
	Share  Form = "share, such as \"2%\""
	Time   Form = "time, such as \"500ms\""
	Texts  Form = "list of texts"
	Phrase Form = "text, or a list of texts"
	Pair   Form = "lowest and highest"
	One    Form = "table"
	Many   Form = "several tables"
	Named  Form = "tables by name"
	TextBy Form = "texts by name"
	NumBy  Form = "whole numbers by name"
	AnyBy  Form = "values by name"
)

// Key is one thing that a table tells.
type Key struct {
	Name  string
	Form  Form
	About string
	Words []string // the only values; nil if there may be others
	Of    *Table   // of a table

	Low, High *float64 // of a number; nil is an open side
}

// Table is what a table may hold.
type Table struct {
	About  string
	Keys   []Key
	Needed []string // keys that must be there
}

// Key is a key by its name; nil if there is none of that name.
func (t *Table) Key(name string) *Key {
	for i := range t.Keys {
		if t.Keys[i].Name == name {
			return &t.Keys[i]
		}
	}
	return nil
}

// Found is a key, and where it stands.
type Found struct {
	*Key
	Path string // such as setting.range
}

// Find are the keys of a name, in the table itself and in those that it holds.
func (t *Table) Find(name string) (all []Found) {
	for i := range t.Keys {
		k := &t.Keys[i]
		if k.Name == name {
			all = append(all, Found{k, k.Name})
		}
		if k.Of == nil {
			continue
		}
		for _, f := range k.Of.Find(name) {
			all = append(all, Found{f.Key, k.Name + "." + f.Path})
		}
	}
	return all
}

// Names are the files that have a schema.
var Names = []string{"phrasebook", "bench", "units"}

// Units is a row of a table of units as JSON Lines; its other keys are inputs of the procedure.
var Units = Table{About: "one unit: its name, where it is, and a value for each input of the procedure", Keys: []Key{
	{Name: "unit", Form: Text, About: "the unit's name"},
	{Name: "port", Form: Text, About: "the bench's port where it is"},
}}

// JSON is a JSON Schema (draft 2020-12) of a table. More says that it may hold other keys, too.
func (t *Table) JSON(title string, more bool) ([]byte, error) {
	top := t.json()
	top["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	top["title"] = title
	if more {
		top["additionalProperties"] = object{"type": []string{"string", "number", "boolean"}}
	}
	return json.MarshalIndent(top, "", "  ")
}

type object = map[string]any

func (t *Table) json() object {
	keys := object{}
	for _, k := range t.Keys {
		one := k.json()
		if k.Low != nil {
			one["minimum"] = *k.Low
		}
		if k.High != nil {
			one["maximum"] = *k.High
		}
		if k.About != "" {
			one["description"] = k.About
		}
		keys[k.Name] = one
	}
	o := object{"type": "object", "properties": keys, "additionalProperties": false}
	if t.About != "" {
		o["description"] = t.About
	}
	if len(t.Needed) > 0 {
		o["required"] = t.Needed
	}
	return o
}

func (k *Key) json() object {
	list := func(of object) object { return object{"type": "array", "items": of} }
	by := func(of object) object { return object{"type": "object", "additionalProperties": of} }
	text, whole := object{"type": "string"}, object{"type": "integer"}
	switch k.Form {
	case Text, Time:
		if k.Words != nil {
			return object{"type": "string", "enum": k.Words}
		}
		return text
	case Whole:
		return whole
	case Number:
		return object{"type": "number"}
	case Truth:
		return object{"type": "boolean"}
	case Share:
		return object{"type": []string{"string", "number"}}
	case Texts:
		return list(text)
	case Phrase:
		return object{"anyOf": []object{{"type": "string"}, list(object{"type": "string"})}}
	case Pair:
		return object{"type": "array", "items": object{"type": "number"}, "minItems": 2, "maxItems": 2}
	case One:
		return k.Of.json()
	case Many:
		return list(k.Of.json())
	case Named:
		if k.Of == nil {
			return by(by(object{"type": "string"}))
		}
		return by(k.Of.json())
	case TextBy:
		return by(text)
	case NumBy:
		return by(whole)
	}
	return by(object{})
}

// Wanted is what the value of a key may be, in words.
func (k *Key) Wanted() string {
	if k.Words != nil {
		return orList(k.Words)
	}
	return string(k.Form)
}

// orList is words of which one is taken: a, b or c.
func orList(words []string) string {
	last := len(words) - 1
	if last < 1 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:last], ", ") + " or " + words[last]
}
