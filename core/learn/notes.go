package learn

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/record/conversation"
	"uparrot/core/source"
)

// What people have before they have a record: a list of commands, and the log of another
// program. Both become conversations, as a record holds them.

// Notes says how the module is spoken to that they are about.
type Notes struct {
	Port  string // as the procedure is to name it
	Setup phrasebook.Setup
}

// began is when conversations begin whose notes tell no time.
var began = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// talk begins a conversation.
func (n Notes) talk(name string) *conversation.Talk {
	s := n.Setup
	return &conversation.Talk{Name: name, OpenedAt: began, Opened: record.Opened{Setup: s.Words(), Dialect: max(s.Dialect, phrasebook.Lines), Ending: s.Ending, Flow: s.Flow, Signs: s.Signs}}
}

// say adds what was said at a time.
func (n Notes) say(t *conversation.Talk, at time.Time, words string) {
	ending := max(n.Setup.Ending, phrasebook.CRLF).Bytes()
	t.Turns = append(t.Turns, conversation.Turn{At: at, Said: []byte(words + ending), Ending: ending != ""})
}

// hear adds a line that was heard at a time.
func hear(t *conversation.Talk, at time.Time, words string) {
	bytes := []byte(words + "\r\n")
	if len(t.Turns) == 0 {
		t.First = append(t.First, conversation.Heard{After: max(0, at.Sub(t.OpenedAt)), Bytes: bytes})
		return
	}
	last := &t.Turns[len(t.Turns)-1]
	last.Heard = append(last.Heard, conversation.Heard{After: max(0, at.Sub(last.At)), Bytes: bytes})
}

// List reads a list of commands. Where lines begin with > and <, those are said and heard;
// else, where there are empty lines, the first line behind each is said, and what follows
// it was heard; else each line is said, but for those that are no commands of dialect AT.
// A line that begins with # is a remark. untold reports that no answer stands in it.
func (n Notes) List(text string) (talks []*conversation.Talk, untold bool) {
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	marks, blocks := false, false
	for i, l := range lines {
		marks = marks || strings.HasPrefix(l, "> ")
		blocks = blocks || strings.TrimSpace(l) == "" && i > 0 && i < len(lines)-1
	}
	t, at, first := n.talk(n.Port), began, true
	untold = true
	for _, l := range lines {
		words := strings.TrimSpace(l)
		if words == "" {
			first = true
			continue
		}
		said := first
		switch front, behind, _ := strings.Cut(words, " "); {
		case marks && front == ">", marks && front == "<":
			said, words = front == ">", strings.TrimSpace(behind)
		case marks:
			said = false
		case strings.HasPrefix(words, "#"):
			continue
		case !blocks, n.Setup.Dialect == phrasebook.AT && !first: // a block may hold several commands
			said = n.Setup.Dialect != phrasebook.AT || len(words) >= 2 && strings.EqualFold(words[:2], "AT")
		}
		at = at.Add(100 * time.Millisecond)
		if first = false; said {
			n.say(t, at, words)
		} else {
			hear(t, at, words)
			untold = false
		}
	}
	return []*conversation.Talk{t}, untold
}

// Columns says how the lines of another program's log are made.
type Columns struct {
	Line  *pattern.Pattern // captures way and text, and may capture time and port
	Said  string           // what stands in way where the line was said
	Heard string           // ... and where it was heard
}

// ParseColumns reads the description of a line, such as
// "{time:word} {port:word} {way:word}: {text}". Errors are a *source.Problem.
func ParseColumns(line, said, heard string) (Columns, error) {
	p, err := pattern.Compile(line)
	if err != nil {
		return Columns{}, &source.Problem{What: err.Error()}
	}
	names := map[string]bool{}
	for _, n := range p.Names() {
		names[n.Name] = true
	}
	for _, name := range []string{"way", "text"} {
		if !names[name] {
			return Columns{}, &source.Problem{What: fmt.Sprintf("the columns do not say where %s stands", name), Mend: `Capture it, such as {time:word} {way:word} {text}; way tells what was said from what was heard.`}
		}
	}
	if said == heard || said == "" || heard == "" {
		return Columns{}, &source.Problem{What: "what was said cannot be told from what was heard", Mend: "Name the two words that stand in way, such as TX,RX."}
	}
	return Columns{p, said, heard}, nil
}

// Log reads the log of another program. Lines that are made otherwise are remarks; so many
// they were.
func (n Notes) Log(text string, c Columns) (talks []*conversation.Talk, others int, err error) {
	byPort := map[string]*conversation.Talk{}
	at, last := began, time.Time{}
	for i, l := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		caps, ok := c.Line.Match([]byte(l))
		if !ok {
			if strings.TrimSpace(l) != "" {
				others++
			}
			continue
		}
		column := map[string]string{"port": n.Port}
		for _, cp := range caps {
			column[cp.Name] = cp.Text
		}
		at = at.Add(time.Millisecond)
		if told := column["time"]; told != "" {
			when, err := timeOf(told)
			if err != nil {
				return nil, others, fmt.Errorf("line %d: %w", i+1, err)
			}
			when = dated(when, last)
			at, last = when, when
		}
		t := byPort[column["port"]]
		if t == nil {
			t = n.talk(column["port"])
			t.OpenedAt = at
			byPort[column["port"]] = t
			talks = append(talks, t)
		}
		switch column["way"] {
		case c.Said:
			n.say(t, at, column["text"])
		case c.Heard:
			hear(t, at, column["text"])
		default:
			return nil, others, fmt.Errorf("line %d: %q is neither %s nor %s, so it is not known who said it", i+1, column["way"], c.Said, c.Heard)
		}
	}
	return talks, others, nil
}

// dated is a time that follows another. Where only the time of day is told it is of the
// same day, or past midnight if it is before; but what is less than a minute before was
// written by somebody else at the same time.
func dated(when, last time.Time) time.Time {
	if last.IsZero() {
		return when
	}
	if when.Year() == 0 {
		when = time.Date(last.Year(), last.Month(), last.Day(), when.Hour(), when.Minute(), when.Second(), when.Nanosecond(), when.Location())
		switch before := last.Sub(when); {
		case before >= time.Minute:
			when = when.AddDate(0, 0, 1)
		case before < time.Minute-24*time.Hour:
			when = when.AddDate(0, 0, -1)
		}
	}
	if when.Before(last) {
		return last
	}
	return when
}

// timeForms are how programs write times.
var timeForms = []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", "15:04:05.999999999"}

// timeOf reads a time, or seconds since something.
func timeOf(s string) (time.Time, error) {
	s = strings.ReplaceAll(strings.Trim(s, "[]()"), ",", ".")
	for _, form := range timeForms {
		if t, err := time.Parse(form, s); err == nil {
			return t, nil
		}
	}
	if seconds, err := strconv.ParseFloat(s, 64); err == nil && seconds >= 0 && seconds < 1e9 {
		return began.Add(time.Duration(seconds * float64(time.Second))), nil
	}
	return time.Time{}, fmt.Errorf("%q is no time that is known: there are 15:04:05.000, 2006-01-02 15:04:05.000, RFC 3339, and seconds", s)
}
