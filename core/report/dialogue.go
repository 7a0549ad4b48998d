package report

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// dialogueLine is one thing that happened, for a person to read. Its text is safe to
// print.
type dialogueLine struct {
	Time time.Time
	Port string
	Word string // said, heard, check and so on
	Text string

	Step     string          // where a step begins or ends
	Verdict  verdict.Verdict // where it ends, and of a check or a limit; of a round that the one before had a value outside
	Round    int             // of a line that tells of a round: its number, 0 where there are no more
	Readings int             // ... and the readings of the one before, of a watch that asks for none
}

// dialogue makes lines out of events: bytes that came in pieces are joined up to their
// line ends or, where a port has none, up to a silence. It keeps one line of each port and
// direction.
type dialogue struct {
	emit     func(dialogueLine) error
	open     map[string]*stretch // by direction and port
	silences silences
}

// stretch is a line that may not be over.
type stretch struct {
	kind  record.Kind
	port  string
	began time.Time
	bytes []byte
	ends  text.Ends
}

// ignored is the word for a line that was heard and that no statement took.
const ignored = "ignored"

// longest is how many bytes a line has at most; longer ones are cut into pieces.
const longest = 4096

func newDialogue(emit func(dialogueLine) error) *dialogue {
	d := &dialogue{open: map[string]*stretch{}, silences: silences{emit: emit, ports: map[string]*packetPort{}}}
	d.emit = d.silences.line
	return d
}

func (d *dialogue) take(e record.Event) error {
	if err := d.silences.until(e.Time); err != nil {
		return err
	}
	if d.silences.at(e) {
		return d.silences.bytes(e)
	}
	switch e.Kind {
	case record.In, record.Out:
		b, err := e.Bytes()
		if err != nil {
			return fmt.Errorf("the record holds bytes that are none: %w", err)
		}
		return d.bytes(e, b)
	case record.Head, record.Frame, record.End:
		return nil
	}
	if err := d.flushLines(); err != nil {
		return err
	}
	l, ok := words(e)
	if !ok {
		return nil
	}
	l.Text += d.silences.told(e)
	return d.emit(l)
}

// bytes takes in what came or went at a port.
func (d *dialogue) bytes(e record.Event, b []byte) error {
	at := func(kind record.Kind) *stretch {
		key := string(kind) + e.Port
		s := d.open[key]
		if s == nil {
			s = &stretch{kind: kind, port: e.Port}
			d.open[key] = s
		}
		return s
	}
	in, out := at(record.In), at(record.Out)
	switch {
	case e.Kind == record.Out && len(out.bytes) == 0: // something new is said: what was heard is over, such as a prompt
		if err := d.end(in, false); err != nil {
			return err
		}
	case e.Kind == record.In && len(out.bytes) > 0 && !bytes.HasSuffix(out.bytes, b): // an answer, not an echo: what was said is over
		if err := d.end(out, true); err != nil {
			return err
		}
	}
	s := at(e.Kind)
	for _, c := range b {
		part := s.ends.Take(c)
		if part == text.Second {
			continue
		}
		if len(s.bytes) == 0 {
			s.began = e.Time
		}
		if part == text.End {
			if err := d.end(s, true); err != nil {
				return err
			}
			continue
		}
		if s.bytes = append(s.bytes, c); len(s.bytes) == longest {
			if err := d.end(s, false); err != nil {
				return err
			}
		}
	}
	return nil
}

// end hands out a line. An empty one counts only where a person said it.
func (d *dialogue) end(s *stretch, ended bool) error {
	if len(s.bytes) == 0 && (s.kind == record.In || !ended) {
		return nil
	}
	l := dialogueLine{Time: s.began, Port: s.port, Word: "heard", Text: text.Line(string(s.bytes))}
	if s.kind == record.Out {
		l.Word = "said"
		if l.Text == "" {
			l.Text = "(the line ending alone)"
		}
	}
	s.bytes = s.bytes[:0]
	return d.emit(l)
}

// flush hands out all that is left open.
func (d *dialogue) flush() error {
	return errors.Join(d.silences.end(), d.flushLines())
}

// flushLines hands out the lines that are left open, in the order of time.
func (d *dialogue) flushLines() error {
	var left []*stretch
	for _, s := range d.open {
		if len(s.bytes) > 0 {
			left = append(left, s)
		}
	}
	sort.Slice(left, func(i, j int) bool { return left[i].began.Before(left[j].began) })
	for _, s := range left {
		if err := d.end(s, false); err != nil {
			return err
		}
	}
	return nil
}

// words tells of an event that is no bytes.
func words(e record.Event) (dialogueLine, bool) {
	l := dialogueLine{Time: e.Time, Port: e.Port, Word: string(e.Kind), Text: e.Text, Step: e.Step, Verdict: e.Verdict}
	data := map[string]any{}
	_ = json.Unmarshal(e.Data, &data) // kinds whose data is no object tell nothing out of it
	switch e.Kind {
	case record.Open:
		l.Text = fmt.Sprintf("%v (%v)", data["address"], data["setup"])
	case record.Passed:
		l.Word = ignored
		if b, err := e.Bytes(); err == nil {
			l.Text = string(text.Trim(b))
		}
		if e.Why != "" {
			l.Text += "  (" + e.Why + ")"
		}
		if strings.TrimSpace(l.Text) == "" {
			return l, false
		}
	case record.Step:
		if e.Verdict != "" {
			l.Text = e.Why
		}
	case record.Try:
		l.Text = fmt.Sprintf("try %d failed: %s", e.Try, e.Why)
		if f, _ := further(e); f.ByHand {
			l.Text += "; a person asked for another"
			if len(f.Mended) > 0 {
				l.Text += ", by " + strings.Join(slices.Sorted(maps.Keys(f.Mended)), ", ") + " as mended meanwhile"
			}
		}
	case record.Check:
		l.Text += checkWords(e)
	case record.Limit, record.Value:
		m, _ := measurement(e) // one that cannot be read tells nothing
		l.Text = strings.TrimSuffix(fmt.Sprintf("%s: %s, wanted %s", m.What, m.Shown(), m.Wanted()), ", wanted ")
	case record.Series, record.Sampled:
		return l, false
	case record.Round:
		l.round(e)
	case record.Link:
		l.Text = linkWords(e)
	case record.Result:
		r, err := resultSeen(e)
		if l.Text = r.words(); err != nil {
			l.Text = "a result, see the record"
		}
	case record.Kept:
		l.Text = fmt.Sprintf("%s, %v bytes", e.Text, data["bytes"])
	case record.Told:
		l.Text += answerWords(data["answer"])
	case record.Verdict:
		l.Text = e.Why
	case record.Begin, record.Close, record.Changed, record.Note:
	default: // of a later version
		l.Text = strings.TrimSpace(e.Text + " " + string(e.Data))
	}
	l.Text = text.Line(l.Text)
	return l, true
}

// answerWords are what a person has answered, if anything.
func answerWords(answer any) string {
	if answer == nil || answer == "" {
		return ""
	}
	return fmt.Sprintf("  answer: %v", answer)
}

// round makes the line one that tells of a round.
func (l *dialogueLine) round(e record.Event) {
	mark, _ := record.Decode[record.RoundMark](e) // one that cannot be read ends the rounds
	if l.Text = ""; !mark.Over {
		l.Round = mark.Number
	}
	if l.Readings = mark.Readings; mark.Outside {
		l.Verdict = verdict.Failed
	}
}

// checkWords are the values of a check, and why it matters if it failed.
func checkWords(e record.Event) (words string) {
	var values []struct {
		Name  string
		Value any
	}
	_ = json.Unmarshal(e.Data, &values) // data of another form tells nothing
	for i, v := range values {
		words += []string{",  ", "   with "}[min(1, max(0, 1-i))] + fmt.Sprintf("%s = %v", v.Name, v.Value)
	}
	if e.Why != "" && e.Verdict != verdict.Passed {
		words += "  (" + e.Why + ")"
	}
	return words
}

// linkWords is what a link test lost, a direction each.
func linkWords(e record.Event) string {
	var sum link.Summary
	if json.Unmarshal(e.Data, &sum) != nil || sum.Kind != link.Kind {
		return "a result, see the record"
	}
	var parts []string
	for _, d := range sum.Directions {
		parts = append(parts, fmt.Sprintf("%s to %s: %d of %d lost", d.From, d.To, d.Lost, d.Sent))
	}
	return strings.Join(parts, "; ")
}

func sortedKeys(m map[string]any) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
