package toml

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// kind is the sort of a value.
type kind int

const (
	text kind = iota
	whole
	number
	truth
	moment // dates and times, of which this program has no use
	list
	table
)

var kindNames = map[kind]string{
	text: "a text in quotes", whole: "a whole number", number: "a number", truth: "true or false", moment: "a date or time", list: "a list", table: "a table",
}

// node is a value with its place.
type node struct {
	kind  kind
	key   span // where it is named; of an element of a list where it stands
	value span // where it stands; of a table the same as key

	text  string // text: the value; else as written
	num   int64
	float float64
	items []*node          // list
	keys  map[string]*node // table
	order []string         // of its keys

	tables bool // a list of [[tables]]
	stated bool // a table that has its own [header]
	closed bool // an inline table or list: nothing may be added
}

func (n *node) at(index string) *node {
	i, err := strconv.Atoi(index)
	if n.kind != list || err != nil || i < 0 || i >= len(n.items) {
		return nil
	}
	return n.items[i]
}

func (n *node) put(name string, child *node) {
	if n.keys == nil {
		n.keys = map[string]*node{}
	}
	n.keys[name] = child
	n.order = append(n.order, name)
}

// mostMistakes bounds how many errors of syntax are told of one file.
const mostMistakes = 20

// mostTries bounds how often reading begins anew behind a line that cannot be read.
const mostTries = 200

// parse reads the file into a tree. After a line that cannot be read it goes on
// with the next, so that all such lines are told of.
func (d *Doc) parse() {
	open, last := d.root, -1
	for from, tries := 0, 0; from < len(d.text) && len(d.Mistakes) < mostMistakes && tries < mostTries; tries++ {
		b := builder{Doc: d, base: from}
		b.p.Reset([]byte(d.text[from:]))
		for b.p.NextExpression() {
			open = b.expression(open, b.p.Expression())
		}
		err := b.p.Error()
		if err == nil {
			return
		}
		d.unread = true
		at, message := len(d.text)-1, err.Error()
		if pe, ok := errors.AsType[*unstable.ParserError](err); ok {
			r := b.p.Range(pe.Highlight)
			at, message = from+int(r.Offset), pe.Message
		}
		line := strings.Count(d.text[:at], "\n")
		if line != last+1 || last < 0 { // a line just behind one that cannot be read is often its consequence
			what, mend := inWords(message)
			d.mistake(span{at, at + 1}, what, mend)
		}
		last = line
		next := strings.IndexByte(d.text[at:], '\n')
		if next < 0 {
			return
		}
		from = at + next + 1
	}
}

// builder puts what the parser finds into the tree.
type builder struct {
	*Doc
	p    unstable.Parser
	base int // where its text begins in the file
}

func (b *builder) span(r unstable.Range) span {
	return span{b.base + int(r.Offset), b.base + int(r.Offset) + int(r.Length)}
}

// expression takes in one expression and returns the table that is open then.
func (b *builder) expression(open *node, e *unstable.Node) *node {
	switch e.Kind {
	case unstable.KeyValue:
		b.keyValue(open, e)
	case unstable.Table, unstable.ArrayTable:
		return b.header(e)
	}
	return open
}

// keys are the parts of a dotted key.
func (b *builder) keys(e *unstable.Node) (names []string, at span) {
	for it := e.Key(); it.Next(); {
		s := b.span(it.Node().Raw)
		if len(names) == 0 {
			at = s
		}
		names, at.to = append(names, string(it.Node().Data)), s.to
	}
	return names, at
}

// into is the table below another that a part of a key names; it is made if it is
// not there. Of a list of tables it is the last.
func (b *builder) into(n *node, name string, at span) *node {
	child := n.keys[name]
	switch {
	case child == nil:
		child = &node{kind: table, key: at, value: at}
		n.put(name, child)
	case child.kind == list && child.tables:
		child = child.items[len(child.items)-1]
	case child.kind != table || child.closed:
		b.mistake(at, fmt.Sprintf("%s is %s already", name, kindNames[child.kind]), "A name stands for one thing.")
		return nil
	}
	return child
}

func (b *builder) keyValue(open *node, e *unstable.Node) {
	names, at := b.keys(e)
	for _, name := range names[:len(names)-1] {
		if open = b.into(open, name, at); open == nil {
			return
		}
	}
	name := names[len(names)-1]
	if old := open.keys[name]; old != nil {
		b.mistake(at, fmt.Sprintf("%s stands here a second time", name), fmt.Sprintf("It is in line %d already.", strings.Count(b.text[:old.key.from], "\n")+1))
		return
	}
	v := b.value(e.Value(), at)
	v.key = at
	open.put(name, v)
}

// header opens a table.
func (b *builder) header(e *unstable.Node) *node {
	names, at := b.keys(e)
	n := b.root
	for _, name := range names[:len(names)-1] {
		if n = b.into(n, name, at); n == nil {
			return &node{kind: table} // what stands in it belongs nowhere
		}
	}
	name := names[len(names)-1]
	old := n.keys[name]
	if e.Kind == unstable.ArrayTable {
		if old == nil {
			old = &node{kind: list, key: at, value: at, tables: true}
			n.put(name, old)
		}
		if !old.tables {
			b.mistake(at, fmt.Sprintf("%s is %s already", name, kindNames[old.kind]), "A name stands for one thing.")
			return &node{kind: table}
		}
		item := &node{kind: table, key: at, value: at, stated: true}
		old.items = append(old.items, item)
		return item
	}
	switch {
	case old == nil:
		old = &node{kind: table, key: at, value: at}
		n.put(name, old)
	case old.kind != table || old.closed:
		b.mistake(at, fmt.Sprintf("%s is %s already", name, kindNames[old.kind]), "A name stands for one thing.")
		return &node{kind: table}
	case old.stated:
		b.mistake(at, fmt.Sprintf("the table %s stands here a second time", strings.Join(names, ".")), "Put what belongs to it into one table.")
		return old
	}
	old.stated = true
	return old
}

// value is a value with all that stands in it.
func (b *builder) value(v *unstable.Node, at span) *node {
	n := &node{key: at, value: at, text: string(v.Data)}
	if v.Raw.Length > 0 {
		n.value = b.span(v.Raw)
	}
	var err error
	plain := strings.ReplaceAll(n.text, "_", "")
	switch v.Kind {
	case unstable.String:
		n.kind = text
	case unstable.Bool:
		n.kind = truth
	case unstable.Integer:
		n.kind = whole
		if n.num, err = strconv.ParseInt(plain, 0, 64); err != nil {
			n.num, err = strconv.ParseInt(strings.TrimPrefix(plain, "+"), 10, 64)
		}
		n.float = float64(n.num)
	case unstable.Float:
		n.kind = number
		n.float, err = strconv.ParseFloat(plain, 64)
		if math.IsNaN(n.float) || math.IsInf(n.float, 0) {
			b.mistake(n.value, n.text+" is no number to reckon with", "Write a number such as 2.5.")
		}
	case unstable.Array:
		n.kind, n.closed = list, true
		for it := v.Children(); it.Next(); {
			item := b.value(it.Node(), at)
			item.key = item.value
			n.items = append(n.items, item)
		}
	case unstable.InlineTable:
		n.kind = table
		for it := v.Children(); it.Next(); {
			b.keyValue(n, it.Node())
		}
		n.closed = true
	default:
		n.kind = moment
	}
	if err != nil {
		b.mistake(n.value, n.text+" cannot be read as a number", "")
	}
	return n
}
