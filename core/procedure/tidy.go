package procedure

import (
	"strings"
)

// Tidy is a procedure in the one standard layout: four blanks for each block, one
// blank between words, an empty line before each step and routine. What is said
// and heard, expressions and comments stay as they are. A procedure with
// mistakes is not touched; the error is then that of Parse.
func Tidy(path, text string) (string, error) {
	f, err := Parse(path, text)
	if err != nil {
		return "", err
	}
	t := &tidier{}
	for i, line := range f.Texts[path] {
		t.line(&statement{number: i + 1, text: strings.Trim(line, " \t")})
	}
	t.flush()
	return t.String(), nil
}

type statement struct {
	number int
	text   string
}

// tidier lays lines out one after the other.
type tidier struct {
	strings.Builder
	depth    int
	blank    bool     // an empty line stood here
	comments []string // that stand before the next statement
	inside   bool     // something stands in the block already, or before it in the file
}

func (t *tidier) line(l *statement) {
	switch {
	case l.text == "":
		if len(t.comments) > 0 {
			t.flush() // they belong to what is above
		}
		t.blank = true
		return
	case l.text[0] == '#':
		t.comments = append(t.comments, l.text)
		return
	}
	word := (&line{text: l.text}).peekWord()
	known := wordOf(word)
	switch {
	case word == "end":
		t.flush()
		t.depth, t.blank = max(0, t.depth-1), false
	case known.part:
		t.flush()
		t.depth, t.blank = max(0, t.depth-1), false
	case t.depth == 0 && t.Len() > 0 && (word == "step" || word == "routine"):
		t.blank = true
	}
	t.flush()
	t.put(layout(word, l.text))
	if known.opens || known.part {
		t.depth++
		t.inside = false
	}
	if word == "end" && t.depth == 0 {
		t.blank = true // what follows a step stands apart
	}
}

// Opens reports whether a word begins a block that end closes.
func Opens(word string) bool { return wordOf(word).opens }

// flush writes the comments that wait, at the present depth.
func (t *tidier) flush() {
	list := t.comments
	t.comments = nil
	for _, c := range list {
		t.put(c)
	}
}

func (t *tidier) put(text string) {
	if t.blank && t.inside {
		t.WriteByte('\n')
	}
	t.blank, t.inside = false, true
	t.WriteString(strings.Repeat("    ", t.depth) + text + "\n")
}

// layout is one statement with its words one blank apart.
func layout(word, text string) string {
	if wordOf(word).text {
		head, spoken, ok := strings.Cut(text, ":")
		head = strings.Join(strings.Fields(head), " ")
		if !ok {
			return head
		}
		return strings.TrimRight(head+": "+strings.Trim(spoken, " \t"), " ")
	}
	text = strings.TrimRight(single(word+" "+text[len(word):]), " ")
	switch word {
	case "port":
		name, rest, ok := strings.Cut(text, ":")
		if !ok {
			return text
		}
		return strings.TrimSpace(name) + ": " + commas(strings.TrimSpace(rest))
	case "input":
		return spaceAround(afterName(text), "=")
	case "let":
		return spaceAround(text, "=")
	case "ask":
		if i := strings.LastIndexByte(text, '"'); i >= 0 {
			return text[:i+1] + afterName(text[i+1:])
		}
	case "do", "routine":
		if i := strings.IndexByte(text, '('); i >= 0 {
			inner, _ := strings.CutSuffix(text[i+1:], ")")
			return strings.TrimSpace(text[:i]) + "(" + commas(strings.TrimSpace(inner)) + ")"
		}
	}
	return text
}

// afterName puts a colon directly behind what stands before it, and one blank
// behind the colon. A colon in quotes stays.
func afterName(text string) string {
	i := outside(text, ':')
	if i < 0 {
		return text
	}
	return strings.TrimRight(text[:i], " ") + ": " + strings.TrimLeft(text[i+1:], " ")
}

// spaceAround puts one blank on both sides of the first sign outside quotes.
func spaceAround(text, sign string) string {
	i := outside(text, sign[0])
	if i < 0 {
		return text
	}
	return strings.TrimRight(text[:i], " ") + " " + sign + " " + strings.TrimLeft(text[i+1:], " ")
}

// outside is the place of the first such byte outside quotes, or -1.
func outside(text string, c byte) int {
	found := -1
	unquoted(text, func(i int) {
		if found < 0 && text[i] == c {
			found = i
		}
	})
	return found
}

// commas puts one blank behind each comma outside quotes and none before it.
func commas(text string) string {
	cuts := []int{}
	unquoted(text, func(i int) {
		if text[i] == ',' {
			cuts = append(cuts, i)
		}
	})
	var b strings.Builder
	from := 0
	for _, i := range cuts {
		b.WriteString(strings.Trim(text[from:i], " ") + ", ")
		from = i + 1
	}
	b.WriteString(strings.TrimLeft(text[from:], " "))
	return b.String()
}

// single turns each run of blanks outside quotes into one.
func single(text string) string {
	plain := make([]bool, len(text))
	unquoted(text, func(i int) { plain[i] = true })
	var b strings.Builder
	blank := false
	for i := range len(text) {
		is := plain[i] && (text[i] == ' ' || text[i] == '\t')
		if is && !blank {
			b.WriteByte(' ')
		} else if !is {
			b.WriteByte(text[i])
		}
		blank = is
	}
	return b.String()
}

// unquoted calls f for each byte that stands outside quotes of any sort; the
// quotes themselves stand inside.
func unquoted(text string, f func(i int)) {
	quote := byte(0)
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quote != 0:
			if c == '\\' && quote != '`' {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'' || c == '`':
			quote = c
		default:
			f(i)
		}
	}
}
