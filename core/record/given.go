package record

import (
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"unicode/utf8"
)

// StepEnd is the value of a Step event that ends a step.
type StepEnd struct {
	LeftOut bool             `json:"left_out,omitempty"` // it was not among the steps chosen
	Passed  bool             `json:"passed,omitempty"`   // it has passed in the record that From names
	Values  map[string]Given `json:"values,omitempty"`   // what it gave, by name
	From    string           `json:"from,omitempty"`     // the record that a step left out has that from
}

// Given is a value that a step gave, in a form in which a later run can take it up: one
// of its fields is set.
type Given struct {
	Text  *string          `json:"text,omitempty"`
	Hex   string           `json:"hex,omitempty"` // a text that is not UTF-8
	Int   *int             `json:"int,omitempty"`
	Num   *float64         `json:"num,omitempty"`
	Bool  *bool            `json:"bool,omitempty"`
	Texts []string         `json:"texts,omitzero"`
	Nums  []float64        `json:"nums,omitzero"`
	List  []Given          `json:"list,omitzero"`
	Map   map[string]Given `json:"map,omitzero"`
	Not   string           `json:"not,omitempty"` // why it is not kept
}

// mostGiven is how long a value is that a step event keeps, in bytes: what is longer
// belongs into a file.
const mostGiven = 64 << 10

// NewGiven is a value as a record keeps it. Whatever secret is true of is not kept.
func NewGiven(v any, secret func(text string) bool) Given {
	size := 0
	g := newGiven(v, secret, &size)
	switch {
	case size < 0:
		return Given{Not: "it holds a secret"}
	case size > mostGiven:
		return Given{Not: fmt.Sprintf("it is longer than %d KiB", mostGiven>>10)}
	}
	return g
}

// newGiven adds the length of a value to size, and makes it negative for good at a secret.
func newGiven(v any, secret func(string) bool, size *int) (g Given) {
	take := func(text string) {
		if *size += 8 + len(text); secret(text) {
			*size = math.MinInt
		}
	}
	switch v := v.(type) {
	case string:
		if take(v); utf8.ValidString(v) {
			g.Text = &v
		} else {
			g.Hex = hex.EncodeToString([]byte(v))
		}
	case int:
		g.Int = &v
		take(fmt.Sprint(v))
	case float64:
		if g.Num = &v; math.IsNaN(v) || math.IsInf(v, 0) {
			return Given{Not: "it is no number"}
		}
		take(fmt.Sprint(v))
	case bool:
		g.Bool = &v
	case []string:
		for _, s := range v {
			if take(s); !utf8.ValidString(s) {
				return Given{Not: "its texts are not UTF-8"}
			}
		}
		g.Texts = v
	case []float64:
		for _, f := range v {
			if take(""); math.IsNaN(f) || math.IsInf(f, 0) {
				return Given{Not: "one of its numbers is none"}
			}
		}
		g.Nums = v
	case []any:
		g.List = make([]Given, len(v))
		for i, one := range v {
			if g.List[i] = newGiven(one, secret, size); g.List[i].Not != "" {
				return g.List[i]
			}
		}
	case map[string]any:
		g.Map = make(map[string]Given, len(v))
		for name, one := range v {
			take(name)
			if g.Map[name] = newGiven(one, secret, size); g.Map[name].Not != "" {
				return g.Map[name]
			}
		}
	default:
		return Given{Not: fmt.Sprintf("a record keeps no %T", v)}
	}
	return g
}

// Value is the value again; an error says why it was not kept.
func (g Given) Value() (any, error) {
	switch {
	case g.Not != "":
		return nil, errors.New(g.Not)
	case g.Text != nil:
		return *g.Text, nil
	case g.Hex != "":
		b, err := hex.DecodeString(g.Hex)
		return string(b), err
	case g.Int != nil:
		return *g.Int, nil
	case g.Num != nil:
		return *g.Num, nil
	case g.Bool != nil:
		return *g.Bool, nil
	case g.Texts != nil:
		return g.Texts, nil
	case g.Nums != nil:
		return g.Nums, nil
	case g.List != nil:
		list := make([]any, len(g.List))
		for i, one := range g.List {
			var err error
			if list[i], err = one.Value(); err != nil {
				return nil, err
			}
		}
		return list, nil
	case g.Map != nil:
		m := make(map[string]any, len(g.Map))
		for name, one := range g.Map {
			var err error
			if m[name], err = one.Value(); err != nil {
				return nil, err
			}
		}
		return m, nil
	}
	return nil, errors.New("it is of a kind that this program does not know")
}
