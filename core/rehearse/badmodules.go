package rehearse

import (
	"bytes"

	"uparrot/core/pattern"
)

// instead answers a line in the module's place, which does not get it: as it did on a good one, or
// with other words.
type instead struct {
	line   string
	nth    int    // of that line, from 1; 0 is each
	answer []byte // nil is as it was
	count  int
	was    map[string][][]byte
	heards
	*trigger
}

// heards hands on what a module says.
type heards struct{}

func (heards) heard(line []byte) [][]byte { return [][]byte{line} }

func (t *instead) said(line []byte) ([]byte, []byte) {
	if string(line) != t.line {
		return line, nil
	}
	t.count++
	if t.nth != 0 && t.count != t.nth {
		return line, nil
	}
	t.n++
	if t.answer != nil {
		return nil, t.answer
	}
	list := t.was[t.line]
	if len(list) == 0 {
		return nil, nil
	}
	return nil, list[min(t.count, len(list))-1]
}

// control plays an answer again as instead does, and lets the module obey all the same: a procedure
// that does not pass so is caught by the playing, not by what is wrong with the module. Between two
// prompts of a console each line is played in the place of the one that the module says.
type control struct {
	line   string
	was    map[string][][]byte
	lines  bool // line by line, between two prompts
	n      int
	left   int      // lines of the module that are not handed on
	played [][]byte // ... and those in their places
	part   bool
}

func (t *control) said(line []byte) ([]byte, []byte) {
	list := t.was[t.line]
	if string(line) != t.line || len(list) == 0 {
		return line, nil
	}
	answer := list[min(t.n, len(list)-1)]
	t.n++
	for _, l := range bytes.SplitAfter(answer, []byte("\n")) {
		switch bare := bytes.TrimRight(l, "\r\n"); {
		case !bytes.HasSuffix(l, []byte("\n")):
			t.part = !t.lines && (t.part || len(l) > 0)
		case len(bare) > 0:
			t.left++
			t.played = append(t.played, bare)
		}
	}
	if t.lines {
		return line, nil
	}
	return line, answer
}

func (t *control) heard(line []byte) [][]byte {
	if t.left == 0 {
		return [][]byte{line}
	}
	t.left--
	if t.lines {
		line, t.played = t.played[0], t.played[1:]
		return [][]byte{line}
	}
	return nil
}

// drops is asked of what is no whole line, such as a prompt.
func (t *control) drops() bool {
	was := t.part
	t.part = false
	return was
}

// betweenPrompts reports whether a console was at its prompt before a line was said, whenever that
// was, and at the same one after its answer.
func (b *baseline) betweenPrompts(port, line string) bool {
	said, answers, _ := b.answered(port)
	part := func(answer []byte) string { return string(answer[bytes.LastIndexByte(answer, '\n')+1:]) }
	found := false
	for i, s := range said {
		if string(s) != line {
			continue
		}
		if i == 0 || part(answers[i]) == "" || part(answers[i-1]) != part(answers[i]) {
			return false
		}
		found = true
	}
	return found
}

// replacedLine has the module get another line.
type replacedLine struct {
	line, to string
	heards
	*trigger
}

func (t *replacedLine) said(line []byte) ([]byte, []byte) {
	if string(line) != t.line {
		return line, nil
	}
	t.n++
	return []byte(t.to), nil
}

// falseAnswer is a module that does not keep a value and tells that it did, for good or until it starts
// again.
type falseAnswer struct {
	write, read string
	tells       string // the line with the value that was to be kept
	pattern     *pattern.Pattern
	starts      *pattern.Pattern // ends it; nil is never
	was         map[string][][]byte
	lying, asks bool
	*trigger
}

func (t *falseAnswer) said(line []byte) ([]byte, []byte) {
	t.asks = t.lying && string(line) == t.read
	if string(line) != t.write {
		return line, nil
	}
	t.lying = true
	t.n++
	if list := t.was[t.write]; len(list) > 0 {
		return nil, list[0]
	}
	return nil, nil
}

func (t *falseAnswer) heard(line []byte) [][]byte {
	if t.starts != nil {
		if _, is := t.starts.Match(line); is {
			t.lying = false
		}
	}
	if t.asks && t.lying {
		if _, is := t.pattern.Match(line); is {
			t.asks = false
			return [][]byte{[]byte(t.tells)}
		}
	}
	return [][]byte{line}
}

// acceptsAll answers whatever is said as a success, and does nothing.
type acceptsAll struct {
	answer []byte
	heards
	*trigger
}

func (t *acceptsAll) said([]byte) ([]byte, []byte) {
	t.n++
	return nil, t.answer
}

// rewrittenAnswer changes what a module answers to a line, or all that it says.
type rewrittenAnswer struct {
	after string // a said line; "" is any
	nth   int    // of the lines that would be changed; 0 is each
	do    func(line []byte) ([][]byte, bool)
	asked bool
	count int
	*trigger
}

func (t *rewrittenAnswer) said(line []byte) ([]byte, []byte) {
	t.asked = string(line) == t.after
	return line, nil
}

func (t *rewrittenAnswer) heard(line []byte) [][]byte {
	if t.after != "" && !t.asked {
		return [][]byte{line}
	}
	out, changes := t.do(line)
	if !changes {
		return [][]byte{line}
	}
	if t.count++; t.nth != 0 && t.count != t.nth {
		return [][]byte{line}
	}
	t.n++
	return out
}

// replaced changes a text in a line.
func replaced(old, to string) func([]byte) ([][]byte, bool) {
	return func(line []byte) ([][]byte, bool) {
		if !bytes.Contains(line, []byte(old)) {
			return nil, false
		}
		return [][]byte{bytes.Replace(line, []byte(old), []byte(to), 1)}, true
	}
}

// unchanged changes nothing.
type unchanged struct {
	heards
	*trigger
}

func (t *unchanged) said(line []byte) ([]byte, []byte) { return line, nil }
