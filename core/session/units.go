package session

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"iter"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/source"
)

// UnitTable is units that a procedure is to be done to, one a row.
type UnitTable struct {
	Path string
	Rows []*UnitRow
}

// UnitRow is one unit with its own values.
type UnitRow struct {
	Line   int               // in the file
	Unit   string            // its name
	Given  map[string]string // the values of inputs, as written
	Values map[string]any    // ... as the procedure takes them
	Ports  map[string]string // where its ports are, by the procedure's names
}

// The columns that are no inputs: the unit's name, and where its port is, or its ports.
const (
	unitColumn = "unit"
	portColumn = "port"
)

// cell is a value in a table, and where it stands.
type cell struct {
	text         string
	line, column int // from 1; the column in bytes
}

// table is rows as they were read. A large one is read anew for each look at it, not kept: it may have as many rows
// as a shop has units in years.
type table struct {
	path string
	head []cell
	// rows are the rows below the head; each is valid until the next.
	rows iter.Seq[[]cell]
	// text is that of the file, a line each.
	text func() source.Lines
}

// ReadUnits reads a table of units for a procedure: CSV, with commas or semicolons, TSV or
// JSON Lines. Set are values for all. All mistakes are told at once, each with its row and
// column: missing and unknown columns, values that do not fit, units and other values that
// stand twice and must not, and numbers that a program for tables has spoilt. Different tells
// what must differ from unit to unit.
func ReadUnits(path string, file *procedure.File, set Inputs, different []string) (*UnitTable, error) {
	t, err := readTable(path)
	if err != nil {
		return nil, err
	}
	common, err := set.given(file)
	if err != nil {
		return nil, err
	}
	return t.units(file, common, different)
}

// readTable reads the file of a table.
func readTable(path string) (*table, error) {
	text, err := source.ReadFile(path)
	if err != nil {
		return nil, misuse("--units: %v", err)
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff")) // programs for tables begin a file so
	file := string(text)
	t := &table{path: path, text: sync.OnceValue(func() source.Lines { return source.SplitLines(file) })}
	if !utf8.ValidString(file) {
		return nil, misuse("--units %s: it is not UTF-8: save it as CSV UTF-8", path)
	}
	if m, is := source.Unfit(path, file, source.Units); is {
		return nil, misuse("--units: %v. %s", m, m.Mend)
	}
	if ext := strings.ToLower(filepath.Ext(path)); ext == ".jsonl" || ext == ".ndjson" {
		return t, t.readJSON()
	}
	return t, t.readCSV(file)
}

// given are the values of inputs that are given for all, as written.
func (g Inputs) given(file *procedure.File) (map[string]string, error) {
	all, err := g.gather(file)
	given := map[string]string{}
	for name, v := range all {
		given[name] = v.text
	}
	return given, err
}

func (t *table) mistake(c cell, what, mend string) source.Mistake {
	line := t.text().At(c.line)
	column := 1 + utf8.RuneCountInString(line[:max(0, min(c.column-1, len(line)))])
	return source.Mistake{File: t.path, Line: c.line, Column: column, Width: max(1, utf8.RuneCountInString(c.text)), Text: line, What: what, Mend: mend}
}

// readCSV reads the head, and finds what cannot be read.
func (t *table) readCSV(text string) error {
	first, _, _ := strings.Cut(text, "\n")
	comma, lazy := ',', false
	switch {
	case strings.ToLower(filepath.Ext(t.path)) == ".tsv" || strings.Contains(first, "\t"):
		comma, lazy = '\t', true
	case !strings.Contains(first, ",") && strings.Contains(first, ";"):
		comma = ';'
	}
	read := func(do func(row []cell) bool) error {
		r := csv.NewReader(strings.NewReader(text))
		r.FieldsPerRecord, r.TrimLeadingSpace, r.ReuseRecord, r.Comma, r.LazyQuotes = -1, true, true, comma, lazy
		var row []cell
		for {
			fields, err := r.Read()
			if err != nil {
				return err
			}
			row = row[:0]
			for i, f := range fields {
				line, column := r.FieldPos(i)
				row = append(row, cell{strings.TrimSpace(f), line, column})
			}
			if !do(row) {
				return nil
			}
		}
	}
	err := read(func(row []cell) bool {
		if t.head == nil {
			t.head = slices.Clone(row)
		}
		return true
	})
	if bad, ok := errors.AsType[*csv.ParseError](err); ok {
		return source.Mistakes{t.mistake(cell{"", bad.Line, bad.Column}, "the row cannot be read: a quote stands where none may, or is not closed", `Quotes stand round a whole value, and twice within it: "a ""b"" c".`)}
	} else if err != io.EOF {
		return misuse("--units %s: %v", t.path, err)
	}
	t.rows = func(yield func([]cell) bool) {
		head := true
		_ = read(func(row []cell) bool { // it was read whole above
			if head || !slices.ContainsFunc(row, func(c cell) bool { return c.text != "" }) {
				head = false
				return true
			}
			return yield(row)
		})
	}
	return nil
}

func (t *table) readJSON() error {
	var rows [][]cell
	for i, line := range t.text() {
		if strings.TrimSpace(line) == "" {
			continue
		}
		d := json.NewDecoder(strings.NewReader(line))
		d.UseNumber()
		object := map[string]any{}
		if err := d.Decode(&object); err != nil {
			return source.Mistakes{t.mistake(cell{"", i + 1, 1}, "the line is no JSON object", `Write {"unit": "LK-0017", "address": 17}.`)}
		}
		for _, name := range slices.Sorted(maps.Keys(object)) {
			if !slices.ContainsFunc(t.head, func(c cell) bool { return c.text == name }) {
				t.head = append(t.head, cell{name, i + 1, 1})
			}
		}
		row := make([]cell, len(t.head))
		for j, h := range t.head {
			row[j] = cell{"", i + 1, 1}
			if v, ok := object[h.text]; ok && v != nil {
				row[j].text = fmt.Sprint(v)
			}
		}
		rows = append(rows, row)
	}
	t.rows = slices.Values(rows)
	return nil
}

// units are the rows as units.
func (t *table) units(file *procedure.File, common map[string]string, different []string) (*UnitTable, error) {
	out := &UnitTable{Path: t.path}
	return out, t.hold(file, common, different, func(u *UnitRow) { out.Rows = append(out.Rows, u) })
}

// hold holds the rows against a procedure, one after the other.
func (t *table) hold(file *procedure.File, common map[string]string, different []string, do func(*UnitRow)) error {
	var mistakes source.Mistakes
	inputs := map[string]*procedure.Input{}
	known := []string{unitColumn, portColumn}
	for _, in := range file.Inputs {
		if in.Pool != "" {
			continue // the ledger gives it
		}
		inputs[in.Name] = in
		known = append(known, in.Name)
	}
	for _, p := range file.Ports {
		known = append(known, portColumn+" "+p.Name)
	}
	column := map[string]int{}
	for i, h := range t.head {
		switch _, twice := column[h.text]; {
		case twice:
			mistakes = append(mistakes, t.mistake(h, fmt.Sprintf("there are two columns %q", h.text), "Keep one of the two."))
		case t.fromPool(file, h.text) != "":
			mistakes = append(mistakes, t.mistake(h, fmt.Sprintf("%s comes from the pool %q, which gives each value once", h.text, t.fromPool(file, h.text)), "Leave out the column."))
		case !slices.Contains(known, h.text):
			mistakes = append(mistakes, t.mistake(h, fmt.Sprintf("the procedure has no input %q", h.text), source.DidYouMean(h.text, known)))
		}
		column[h.text] = i
	}
	mistakes = append(mistakes, t.bare()...)
	here := cell{"", 1, 1}
	for _, in := range file.Inputs {
		if _, ok := column[in.Name]; !ok && in.Pool == "" && in.Default == nil && common[in.Name] == "" {
			mistakes = append(mistakes, t.mistake(here, fmt.Sprintf("there is no column %s, and the procedure needs that input", in.Name), "Add it, or give --set "+in.Name+"=... for all units."))
		}
	}
	for row := range t.rows {
		u, wrong := t.unit(row, inputs, common, file)
		do(u)
		mistakes = append(mistakes, wrong...)
	}
	mistakes = append(mistakes, t.twice(column, append([]string{unitColumn}, different...))...)
	for _, in := range file.Inputs {
		if i, ok := column[in.Name]; ok && in.Type == "text" {
			mistakes = append(mistakes, t.spoilt(i)...)
		}
	}
	if i, ok := column[unitColumn]; ok {
		mistakes = append(mistakes, t.spoilt(i)...)
	}
	return mistakes.Err()
}

// bare is what is wrong with a table whatever it is for.
func (t *table) bare() (mistakes source.Mistakes) {
	here := cell{"", 1, 1}
	if !t.hasColumn(unitColumn) {
		mistakes = append(mistakes, t.mistake(here, "there is no column unit", "Name each unit, such as LK-0017, in a column unit."))
	}
	any := false
	for range t.rows {
		any = true
		break
	}
	if !any {
		mistakes = append(mistakes, t.mistake(here, "there is no row below the head", "Write a row for each unit."))
	}
	return mistakes
}

// fromPool is the pool from which an input comes; "" if it comes from none.
func (t *table) fromPool(file *procedure.File, name string) string {
	for _, in := range file.Inputs {
		if in.Name == name {
			return in.Pool
		}
	}
	return ""
}

// unit is one row.
func (t *table) unit(row []cell, inputs map[string]*procedure.Input, common map[string]string, file *procedure.File) (*UnitRow, source.Mistakes) {
	u := &UnitRow{Line: row[0].line, Given: maps.Clone(common), Values: map[string]any{}, Ports: map[string]string{}}
	if u.Given == nil {
		u.Given = map[string]string{}
	}
	var mistakes source.Mistakes
	if len(row) > len(t.head) {
		mistakes = append(mistakes, t.mistake(row[len(t.head)], fmt.Sprintf("the row has %d values, and the head %d columns", len(row), len(t.head)), "A value with a comma stands in quotes."))
		row = row[:len(t.head)]
	}
	places := map[string]cell{}
	for i, c := range row {
		name := t.head[i].text
		places[name] = c
		switch port, isPort := strings.CutPrefix(name, portColumn+" "); {
		case c.text == "": // the default
		case name == unitColumn:
			u.Unit = c.text
		case name == portColumn && len(file.Ports) > 0:
			u.Ports[file.Ports[0].Name] = c.text
		case isPort:
			u.Ports[port] = c.text
		default:
			u.Given[name] = c.text
		}
	}
	if t.hasColumn(unitColumn) && u.Unit == "" {
		mistakes = append(mistakes, t.mistake(row[0], "the unit has no name", "Write it in the column unit."))
	}
	for name, in := range inputs {
		given, ok := u.Given[name]
		at := places[name]
		if at.line == 0 {
			at = row[0]
		}
		if !ok && in.Default == nil {
			if t.hasColumn(name) {
				mistakes = append(mistakes, t.mistake(at, fmt.Sprintf("%s has no value, and the procedure needs it", name), "Write one."))
			}
			continue
		}
		if !ok {
			given = *in.Default
		}
		v, err := in.Value(given)
		if err != nil {
			mistakes = append(mistakes, t.mistake(at, err.Error(), ""))
			continue
		}
		u.Values[name] = v
	}
	slices.SortFunc(mistakes, func(a, b source.Mistake) int { return a.Column - b.Column })
	return u, mistakes
}

// hasColumn reports whether the head has a column; a row may be shorter.
func (t *table) hasColumn(name string) bool {
	return slices.ContainsFunc(t.head, func(c cell) bool { return c.text == name })
}

// twice are values that stand in two rows and must not.
func (t *table) twice(column map[string]int, names []string) (mistakes source.Mistakes) {
	for _, name := range names {
		i, ok := column[name]
		if !ok {
			continue
		}
		again := t.again(i)
		first := map[string]int{} // of those that may stand twice
		for row := range t.rows {
			if i >= len(row) || row[i].text == "" || !again(row[i].text) {
				continue
			}
			if before, is := first[row[i].text]; is {
				mistakes = append(mistakes, t.mistake(row[i], fmt.Sprintf("%s %s stands in line %d already", name, row[i].text, before), "It must differ from unit to unit."))
				continue
			}
			first[strings.Clone(row[i].text)] = row[i].line
		}
	}
	return mistakes
}

// again reports of a value in a column whether it may stand there twice; most of those that do not are known not to.
func (t *table) again(i int) func(string) bool {
	seed := maphash.MakeSeed()
	var all []uint64
	for row := range t.rows {
		if i < len(row) {
			all = append(all, maphash.String(seed, row[i].text))
		}
	}
	slices.Sort(all)
	twice := map[uint64]bool{}
	for j := range all {
		if j > 0 && all[j] == all[j-1] {
			twice[all[j]] = true
		}
	}
	return func(text string) bool { return twice[maphash.String(seed, text)] }
}

// spoilt are texts of digits that a program for tables has made numbers of: without the zeros
// that others begin with, or with an exponent.
func (t *table) spoilt(i int) (mistakes source.Mistakes) {
	wide, zero := 0, false
	for row := range t.rows {
		if i < len(row) && digits(row[i].text) {
			wide = max(wide, len(row[i].text))
			zero = zero || strings.HasPrefix(row[i].text, "0") && len(row[i].text) > 1
		}
	}
	for row := range t.rows {
		if i >= len(row) {
			continue
		}
		c := row[i]
		if zero && digits(c.text) && len(c.text) < wide {
			mistakes = append(mistakes, t.mistake(c, fmt.Sprintf("%s has %d digits, and others of the column %d: it may have lost the zeros before it", c.text, len(c.text), wide), fmt.Sprintf("Write %0*s, and format the column as text.", wide, c.text)))
		}
		if mantissa, exponent, ok := strings.Cut(strings.ToUpper(c.text), "E+"); ok && digits(strings.Replace(mantissa, ".", "", 1)) && digits(exponent) {
			mistakes = append(mistakes, t.mistake(c, c.text+" is a number that was shortened: digits of it are lost", "Format the column as text, and enter it anew."))
		}
	}
	return mistakes
}

func digits(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

// MustDiffer are the inputs of a procedure that are named as settings which must differ from
// module to module.
func MustDiffer(file *procedure.File, books []*phrasebook.Phrasebook) []string {
	var names []string
	for _, in := range file.Inputs {
		for _, pb := range books {
			if pb == nil {
				continue
			}
			if s, ok := pb.Setting(in.Name); ok && s.Pair == "different" && !slices.Contains(names, in.Name) {
				names = append(names, in.Name)
			}
		}
	}
	return names
}
