package source

import (
	"errors"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"github.com/BurntSushi/toml"
)

// Doc is a TOML file that was read strictly, with the place of each key.
type Doc struct {
	File     string
	Mistakes Mistakes

	lines Lines
	at    map[string]place
}

type place struct{ line, column, width int }

// ReadTOML reads a TOML file into a struct. A syntax error, a value of the
// wrong type and a key that the struct does not have are Mistakes; an error is
// returned only if the file cannot be read at all.
func ReadTOML(file string, into any) (*Doc, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return ParseTOML(file, string(text), into), nil
}

// ParseTOML is ReadTOML on text that has been read already.
func ParseTOML(file, text string, into any) *Doc {
	d := &Doc{File: file, lines: SplitLines(text), at: map[string]place{}}
	d.locate()
	md, err := toml.Decode(text, into)
	if pe, ok := errors.AsType[toml.ParseError](err); ok {
		p := pe.Position
		d.add(place{p.Line, max(1, p.Col), max(1, p.Len)}, firstUpper(pe.Message), pe.Usage)
		return d
	}
	if err != nil {
		d.wrongType(err.Error())
		return d
	}
	for _, key := range md.Undecoded() {
		d.unknown(key, into)
	}
	return d
}

func firstUpper(s string) string { return strings.ToLower(s[:min(1, len(s))]) + s[min(1, len(s)):] }

var (
	typeError = regexp.MustCompile(`^toml: line (\d+) \(last key "(.*)"\): incompatible types: TOML value has type (\w+); destination has type (.*)$`)
	typeNames = map[string]string{"int64": "a whole number", "int": "a whole number", "float64": "a number", "string": "a text in quotes", "bool": "true or false",
		"map": "a table", "array": "a list", "slice": "a list", "struct": "a table"}
)

// wrongType reports a value of the wrong type in plain words.
func (d *Doc) wrongType(message string) {
	m := typeError.FindStringSubmatch(message)
	if m == nil {
		d.add(place{}, message, "")
		return
	}
	words := func(t string) string {
		if w, ok := typeNames[t]; ok {
			return w
		}
		return t
	}
	p, ok := d.at[m[2]]
	if !ok {
		line, _ := strconv.Atoi(m[1]) // the expression has seen to it
		p = place{line, 1, 1}
	}
	d.add(p, fmt.Sprintf("%s is %s", m[2], words(m[3])), "Wanted here: "+words(m[4])+".")
}

// unknown reports a key wherever it stands; in an array of tables that may be
// several places.
func (d *Doc) unknown(key toml.Key, into any) {
	name := key[len(key)-1]
	known := knownKeys(reflect.TypeOf(into), key[:len(key)-1])
	found := false
	for path, p := range d.at {
		if withoutIndex.ReplaceAllString(path, "") == strings.Join(key, ".") {
			found = true
			d.add(p, fmt.Sprintf("unknown key %q", name), DidYouMean(name, known))
		}
	}
	if !found {
		d.add(d.near(key), fmt.Sprintf("unknown key %q", strings.Join(key, ".")), DidYouMean(name, known))
	}
}

// near is the place of a key in an inline table: the line of what holds it.
func (d *Doc) near(key toml.Key) place {
	for n := len(key) - 1; n > 0; n-- {
		if p, ok := d.at[strings.Join(key[:n], ".")]; ok {
			if i := strings.Index(d.lines.At(p.line), key[len(key)-1]); i >= 0 {
				return place{p.line, i + 1, len(key[len(key)-1])}
			}
			return p
		}
	}
	return place{}
}

var withoutIndex = regexp.MustCompile(`\[\d+\]`)

// knownKeys are the keys that a struct, or a struct within it, may have.
func knownKeys(t reflect.Type, path []string) []string {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t.Kind() == reflect.Map && len(path) > 0 {
		return knownKeys(t.Elem(), path[1:])
	}
	if t.Kind() != reflect.Struct {
		return nil
	}
	var known []string
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			if keys := knownKeys(f.Type, path); keys != nil {
				known = append(known, keys...)
				continue
			}
		}
		name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
		if name == "" || name == "-" {
			continue
		}
		if len(path) > 0 && name == path[0] {
			return knownKeys(f.Type, path[1:])
		}
		if len(path) == 0 {
			known = append(known, name)
		}
	}
	return known
}

var (
	headerLine = regexp.MustCompile(`^\s*(\[\[?)\s*([^\]]+?)\s*\]\]?`)
	keyLine    = regexp.MustCompile(`^(\s*)((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*'))*)\s*=`)
)

// locate notes where every key stands. It reads lines, not TOML: a line inside
// a multi-line text that looks like a key is noted too, which does no harm.
func (d *Doc) locate() {
	table := ""
	count := map[string]int{}
	for i, line := range d.lines {
		if m := headerLine.FindStringSubmatchIndex(line); m != nil {
			table = plainKey(line[m[4]:m[5]])
			if line[m[2]:m[3]] == "[[" {
				count[table]++
				table = fmt.Sprintf("%s[%d]", table, count[table]-1)
			}
			d.at[table] = place{i + 1, m[4] + 1, m[5] - m[4]}
			continue
		}
		if m := keyLine.FindStringSubmatchIndex(line); m != nil {
			path := plainKey(line[m[4]:m[5]])
			if table != "" {
				path = table + "." + path
			}
			d.at[path] = place{i + 1, m[4] + 1, m[5] - m[4]}
		}
	}
}

func plainKey(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '"' || r == '\'' || r == ' ' || r == '\t' {
			return -1
		}
		return r
	}, s)
}

func (d *Doc) add(p place, what, mend string) {
	d.Mistakes = append(d.Mistakes, Mistake{File: d.File, Line: p.line, Column: p.column, Width: p.width, Text: d.lines.At(p.line), What: what, Mend: mend})
}

// Add reports a mistake at a key, such as "port.north.speed" or
// "notice[2].heard". A key that is not there stands for the table around it.
func (d *Doc) Add(path, what, mend string) {
	for p := path; ; {
		if at, ok := d.at[p]; ok {
			d.add(at, what, mend)
			return
		}
		i := strings.LastIndexByte(p, '.')
		if i < 0 {
			d.add(place{}, what, mend)
			return
		}
		p = p[:i]
	}
}

// AddInValue reports a mistake inside a key's text value, offset bytes from its
// beginning.
func (d *Doc) AddInValue(path, value string, offset, width int, what, mend string) {
	at, ok := d.at[path]
	if !ok {
		d.Add(path, what, mend)
		return
	}
	if i := strings.Index(d.lines.At(at.line), value); i >= 0 && value != "" {
		at.column, at.width = i+1+offset, max(1, width)
	}
	d.add(at, what, mend)
}
