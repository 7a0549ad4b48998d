package draft

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// columns are what a column of a table may be, with the words that guides write above it.
var columns = []struct {
	name  string
	words []string
}{
	{"command", []string{"command", "cmd", "at command", "syntax", "say", "instruction", "request", "format"}},
	{"read", []string{"read", "query", "get", "read command", "query command"}},
	{"write", []string{"write", "set", "set command", "write command"}},
	{"answer", []string{"answer", "response", "reply", "returns", "result", "answers"}},
	{"name", []string{"name", "parameter", "setting", "register", "item"}},
	{"meaning", []string{"meaning", "description", "function", "explanation", "comment", "remarks", "purpose", "what it does"}},
	{"range", []string{"range", "values", "value", "valid values", "limits", "allowed", "takes"}},
	{"default", []string{"default", "factory", "factory setting", "as delivered", "initial", "preset"}},
	{"unit", []string{"unit", "units"}},
}

// column is what the word above a column says that it is; "" if that is not known.
func column(head string) string {
	head = strings.ToLower(strings.Trim(head, " *_`:"))
	for _, c := range columns {
		if slices.Contains(c.words, head) {
			return c.name
		}
	}
	return ""
}

// Table reads a table of commands: Markdown, values with commas, semicolons or tabs between, or text with
// two blanks or more between its columns. What a column is, is asked where nothing tells it.
func Table(ctx context.Context, text string, ask Ask) ([]Entry, error) {
	rows, err := cells(text)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, errors.New("there is no table in it: wanted lines with a command, and columns between commas, tabs, | or two blanks")
	}
	what := make([]string, len(rows[0]))
	known := 0
	for i, h := range rows[0] {
		if what[i] = column(h); what[i] != "" {
			known++
		}
	}
	headed := known > 0 && !slices.ContainsFunc(rows[0], func(c string) bool { return looksSaid(c) })
	head := rows[0]
	if headed {
		rows = rows[1:]
	} else {
		what = make([]string, len(head))
	}
	if len(rows) == 0 {
		return nil, errors.New("the table has no rows")
	}
	for i := range what {
		if what[i] != "" {
			continue
		}
		called := fmt.Sprintf("column %d, such as %q", i+1, sample(rows, i))
		if headed {
			called = fmt.Sprintf("the column %q, such as %q", head[i], sample(rows, i))
		}
		names := []string{"nothing"}
		for _, c := range columns {
			names = append(names, c.name)
		}
		answer, err := ask(ctx, Question{fmt.Sprintf("What is in %s: %s?", called, strings.Join(names[1:], ", ")), guess(rows, i, what), func(s string) error {
			if !slices.Contains(names, s) {
				return fmt.Errorf("one of: %s", strings.Join(names, ", "))
			}
			return nil
		}})
		if err != nil {
			return nil, err
		}
		what[i] = answer
	}
	if !slices.ContainsFunc(what, func(w string) bool { return w == "command" || w == "read" || w == "write" }) {
		return nil, errors.New("no column has commands")
	}
	return entries(rows, what), nil
}

// entries are the rows of a table. A cell may hold several commands, with / or line ends between.
func entries(rows [][]string, what []string) (all []Entry) {
	for _, r := range rows {
		e := Entry{}
		says := []string{}
		for i, c := range r {
			c = strings.TrimSpace(strings.Trim(c, "`"))
			if i >= len(what) || c == "" || c == "-" || c == "—" {
				continue
			}
			switch what[i] {
			case "command":
				says = severalOf(c)
			case "read":
				e.Read = c
			case "write":
				e.Write = c
			case "answer":
				e.Answer = strings.ReplaceAll(c, "`", "")
			case "name":
				e.Name = c
			case "meaning":
				e.Meaning = c
			case "range":
				e.Range = c
			case "default":
				e.Default = c
			case "unit":
				e.Unit = c
			}
		}
		if e.Read != "" || e.Write != "" {
			all = append(all, e)
		}
		for _, s := range says {
			one := e
			one.Say, one.Read, one.Write = s, "", ""
			if _, names := holes(s); len(says) > 1 && len(names) > 0 {
				one.Answer = "" // it is what reading answers
			}
			all = append(all, one)
		}
	}
	return all
}

func severalOf(cell string) (all []string) {
	for _, s := range regexp.MustCompile(`\s+/\s+|\n|<br>|\s+or\s+`).Split(cell, -1) {
		if s = strings.Trim(strings.TrimSpace(s), "`"); s != "" {
			all = append(all, s)
		}
	}
	return all
}

// looksSaid reports whether a cell is a command rather than the head of a column.
func looksSaid(c string) bool {
	c = strings.Trim(c, "` ")
	return strings.HasPrefix(c, "AT") && (len(c) == 2 || !isLower(c[2])) || strings.ContainsAny(c, "<={?")
}

func isLower(c byte) bool { return c >= 'a' && c <= 'z' }

func sample(rows [][]string, i int) string {
	for _, r := range rows {
		if i < len(r) && strings.TrimSpace(r[i]) != "" {
			return strings.Trim(strings.TrimSpace(r[i]), "`")
		}
	}
	return ""
}

// guess is what a column is likely to be.
func guess(rows [][]string, i int, what []string) string {
	is := func(w string) bool { return slices.Contains(what, w) }
	said, ranges, words, numbers, n := 0, 0, 0, 0, 0
	for _, r := range rows {
		if i >= len(r) || strings.TrimSpace(r[i]) == "" {
			continue
		}
		n++
		c := strings.TrimSpace(r[i])
		switch {
		case spread().MatchString(c) && !looksSaid(c):
			ranges++
		case digits().MatchString(c):
			numbers++
		case looksSaid(c):
			said++
		case strings.Contains(c, " "):
			words++
		}
	}
	most := func(k int) bool { return n > 0 && 2*k >= n }
	switch {
	case i == 0 && !is("command"), most(said) && !is("command"):
		return "command"
	case most(said) && !is("answer"):
		return "answer"
	case most(ranges) && !is("range"):
		return "range"
	case most(numbers) && !is("default"):
		return "default"
	case most(words) && !is("meaning"):
		return "meaning"
	}
	return "nothing"
}

// cells are the cells of a table, row by row.
func cells(text string) (rows [][]string, err error) {
	text = strings.ReplaceAll(strings.TrimPrefix(text, "\ufeff"), "\r\n", "\n")
	var lines []string
	for _, l := range strings.Split(text, "\n") {
		if strings.TrimSpace(l) != "" {
			lines = append(lines, l)
		}
	}
	switch delimiter := between(lines); delimiter {
	case '|':
		for _, l := range lines {
			l = strings.TrimSpace(l)
			if !strings.HasPrefix(l, "|") || regexp.MustCompile(`^\|[\s:|-]+\|?$`).MatchString(l) {
				continue // words round the table, and the line below its head
			}
			var row []string
			for _, c := range strings.Split(strings.ReplaceAll(strings.Trim(l, "|"), `\|`, "\x01"), "|") {
				row = append(row, strings.TrimSpace(strings.ReplaceAll(c, "\x01", "|")))
			}
			rows = append(rows, row)
		}
	case ' ':
		apart := regexp.MustCompile(`\s{2,}|\t+`)
		for _, l := range lines {
			rows = append(rows, apart.Split(strings.TrimSpace(l), -1))
		}
	default:
		r := csv.NewReader(strings.NewReader(text))
		r.Comma, r.FieldsPerRecord, r.LazyQuotes, r.TrimLeadingSpace = delimiter, -1, true, delimiter != '\t'
		if rows, err = r.ReadAll(); err != nil {
			return nil, fmt.Errorf("read the table: %w", err)
		}
	}
	most := 0
	for _, r := range rows {
		most = max(most, len(r))
	}
	for i := range rows {
		for len(rows[i]) < most {
			rows[i] = append(rows[i], "")
		}
	}
	return rows, nil
}

// between is what stands between the columns of a table: a bar, a comma, a semicolon, a tab; a blank
// stands for several of them.
func between(lines []string) rune {
	if len(lines) == 0 {
		return ' '
	}
	bars := 0
	for _, l := range lines {
		if strings.HasPrefix(strings.TrimSpace(l), "|") {
			bars++
		}
	}
	if bars > 1 {
		return '|'
	}
	for _, d := range []rune{'\t', ';', ','} {
		n := strings.Count(lines[0], string(d))
		if n > 0 && !regexp.MustCompile(`\S\s{2,}\S`).MatchString(lines[0]) {
			return d
		}
	}
	return ' '
}
