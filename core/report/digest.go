package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Digest is what a record says in sum. It is small however long the record is.
type Digest struct {
	record.State
	Began   time.Time
	Title   string         // of the procedure; "" if there is none
	Inputs  map[string]any // of the procedure
	Ports   []PortSeen
	Steps   []StepSeen
	Limits  int // measurements
	Frames  int // rows of frames
	Links   []link.Summary
	Results [][][2]string // of other tests: names and values
	Kept    []KeptFile
	Verdict string // of the whole; "" if it never came to one
	Why     string
	TookMS  float64
}

// PortSeen is a port that was opened.
type PortSeen struct {
	Name string
	station.Opened
}

// StepSeen is a step and what came of it.
type StepSeen struct {
	Title   string
	Verdict string // "" if it was begun and not ended
	Why     string
	Tries   int
	TookMS  float64
}

// KeptFile is a file that was kept beside the record.
type KeptFile struct {
	Path   string
	Value  string `json:"value"`
	Bytes  int    `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// measurement reads a Limit event.
func measurement(e record.Event) (m record.Measurement, err error) {
	if err := json.Unmarshal(e.Data, &m); err != nil {
		return m, fmt.Errorf("a measurement in the record cannot be read: %w", err)
	}
	return m, nil
}

// events reads a record from its beginning up to its end, or to a line that
// cannot be read: what stands before it is worth having, and the digest tells of
// it.
func events(r io.ReadSeeker, f func(record.Event) error) error {
	_, err := readAll(r, record.Again, f)
	return err
}

func readAll(r io.ReadSeeker, read func(io.Reader, func(record.Event) error) (record.State, error), f func(record.Event) error) (record.State, error) {
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return record.State{}, fmt.Errorf("read the record: %w", err)
	}
	state, err := read(r, f)
	if _, damaged := errors.AsType[*record.Damaged](err); damaged && state.Events > 0 {
		err = nil
	}
	return state, err
}

// ReadDigest reads a record through.
func ReadDigest(r io.ReadSeeker) (*Digest, error) {
	d := &Digest{}
	steps := map[string]int{}
	step := func(title string) *StepSeen {
		i, ok := steps[title]
		if !ok {
			i = len(d.Steps)
			steps[title] = i
			d.Steps = append(d.Steps, StepSeen{Title: title})
		}
		return &d.Steps[i]
	}
	ports := map[string]bool{}
	decode := func(e record.Event, v any) error {
		if err := json.Unmarshal(e.Data, v); err != nil {
			return fmt.Errorf("what the record says of a %s cannot be read: %w", e.Kind, err)
		}
		return nil
	}
	var err error
	d.State, err = readAll(r, record.Read, func(e record.Event) error {
		switch e.Kind {
		case record.Head:
			d.Began = e.Time
		case record.Begin:
			d.Title = e.Text
			var data struct{ Inputs map[string]any }
			err := decode(e, &data)
			d.Inputs = data.Inputs
			return err
		case record.Open:
			if ports[e.Port] {
				return nil
			}
			ports[e.Port] = true
			p := PortSeen{Name: e.Port}
			err := decode(e, &p.Opened)
			d.Ports = append(d.Ports, p)
			return err
		case record.Step:
			s := step(e.Step)
			if e.Verdict != "" {
				*s = StepSeen{e.Step, e.Verdict, e.Why, e.Try, e.TookMS}
			}
		case record.Limit:
			d.Limits++
		case record.Frame:
			d.Frames++
		case record.Link:
			var sum link.Summary
			err := decode(e, &sum)
			if sum.Kind == link.Kind {
				d.Links = append(d.Links, sum)
			}
			return err
		case record.Result:
			found := map[string]any{}
			err := decode(e, &found)
			var rows [][2]string
			for _, name := range sortedKeys(found) {
				rows = append(rows, [2]string{strings.ReplaceAll(text.Line(name), "_", " "), shown(found[name])})
			}
			d.Results = append(d.Results, rows)
			return err
		case record.Kept:
			k := KeptFile{Path: e.Text}
			err := decode(e, &k)
			d.Kept = append(d.Kept, k)
			return err
		case record.Verdict:
			d.Verdict, d.Why, d.TookMS = e.Verdict, e.Why, e.TookMS
		}
		return nil
	})
	return d, err
}

// shown is a value of a result in words.
func shown(v any) string {
	switch v := v.(type) {
	case float64:
		return number(v)
	case map[string]any:
		var parts []string
		for _, name := range sortedKeys(v) {
			parts = append(parts, text.Line(name)+" "+shown(v[name]))
		}
		return strings.Join(parts, ", ")
	}
	return text.Line(fmt.Sprint(v))
}

// Name is what the record is of: the procedure's title, or else the command.
func (d *Digest) Name() string {
	switch {
	case d.Title != "":
		return d.Title
	case len(d.Links) > 0 && len(d.Links[0].Directions) > 0:
		w := d.Links[0].Directions[0]
		return "Link test: " + w.From + " and " + w.To
	case d.Origin.Command != "":
		return d.Origin.Command
	}
	return "record"
}

// Outcome is the verdict in a word; a record without one says so.
func (d *Digest) Outcome() string {
	if d.Verdict != "" {
		return d.Verdict
	}
	if !d.Ended {
		return "unfinished"
	}
	return "no verdict"
}

// Sentence says what came of it.
func (d *Digest) Sentence() string {
	if len(d.Steps) == 0 {
		var parts []string
		for _, sum := range d.Links {
			for _, way := range sum.Directions {
				parts = append(parts, fmt.Sprintf("%d of %d frames lost from %s to %s", way.Lost, way.Sent, way.From, way.To))
			}
		}
		if d.Why != "" {
			parts = append(parts, d.Why)
		}
		return text.Line(strings.Join(parts, "; "))
	}
	n := map[string]int{}
	for _, s := range d.Steps {
		n[s.Verdict]++
	}
	passed := n[string(verdict.Passed)]
	if passed == len(d.Steps) {
		return "all " + text.Count(passed, "step") + " passed"
	}
	text := fmt.Sprintf("%d of %s passed", passed, text.Count(len(d.Steps), "step"))
	for _, v := range []verdict.Verdict{verdict.Failed, verdict.Broken, verdict.Undecided, verdict.Untested, verdict.Skipped} {
		if n[string(v)] > 0 {
			text += fmt.Sprintf(", %d %s", n[string(v)], v)
		}
	}
	if n[""] > 0 {
		text += fmt.Sprintf(", %d not ended", n[""])
	}
	return text
}

// about is what is known of a record, as names and values in the order of
// interest.
func (d *Digest) about() [][2]string {
	o := d.Origin
	var rows [][2]string
	add := func(name, value string) {
		if value != "" {
			rows = append(rows, [2]string{name, text.Line(value)})
		}
	}
	add("unit", o.Unit)
	add("operator", o.Operator)
	add("began", moment(d.Began))
	if d.TookMS > 0 {
		add("took", text.Took(text.FromMS(d.TookMS)))
	}
	add("command", o.Command)
	add("machine", o.Machine)
	add("system", o.System)
	add("tool", o.Tool)
	add("bench", o.Bench)
	for _, p := range d.Ports {
		add("port "+p.Name, p.Address+" ("+p.Setup+")")
	}
	for _, name := range sortedKeys(d.Inputs) {
		add("input "+name, fmt.Sprint(d.Inputs[name]))
	}
	add("run", o.Run)
	add("record", d.Words())
	return rows
}

// moment is a time with its distance from UTC, as the record has it.
func moment(t time.Time) string { return t.Format("2006-01-02 15:04:05 -07:00") }
