package report

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
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
	Results []ResultSeen // of other tests
	Kept    []KeptFile
	Verdict verdict.Verdict // of the whole; "" if it never came to one
	Why     string
	TookMS  float64
}

// PortSeen is a port that was opened.
type PortSeen struct {
	Name string
	record.Opened
}

// StepSeen is a step and what came of it.
type StepSeen struct {
	Title   string
	Verdict verdict.Verdict // "" if it was begun and not ended
	Why     string
	Tries   int
	TookMS  float64

	ByHand int                      // further tries that a person asked for
	Mended map[string]record.Digest // the files, by path, that the last of them was by, if they were mended meanwhile
}

// tries is how often it was tried, and how often of that because a person asked for it.
func (s StepSeen) tries() string {
	if s.ByHand == 0 {
		return strconv.Itoa(s.Tries)
	}
	return fmt.Sprintf("%d, %d by hand", s.Tries, s.ByHand)
}

// further reads a Try event: what it tells of a person's choice, if it was one.
func further(e record.Event) (f record.Further, err error) {
	if e.Data == nil {
		return f, nil
	}
	return record.Decode[record.Further](e)
}

// byHand is what is told of the tries that a person asked for.
func (s StepSeen) byHand() string {
	words := s.tries()
	for _, path := range slices.Sorted(maps.Keys(s.Mended)) {
		words += fmt.Sprintf("; by %s as it was mended meanwhile, SHA-256 %s", path, s.Mended[path])
	}
	return words
}

// KeptFile is a file that was kept beside the record.
type KeptFile struct {
	Path string
	record.KeptFile
}

// measurement reads a Limit event.
func measurement(e record.Event) (record.Measurement, error) {
	return record.MeasurementOf(e)
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

// readDigest reads a record through.
func readDigest(r io.ReadSeeker) (*Digest, error) {
	b := &digester{Digest: &Digest{}, steps: map[string]int{}, ports: map[string]bool{}}
	var err error
	b.State, err = readAll(r, record.Read, b.take)
	return b.Digest, err
}

// digester takes the events of a record in.
type digester struct {
	*Digest
	steps map[string]int // places of steps, by title
	ports map[string]bool
}

func (d *digester) step(title string) *StepSeen {
	i, ok := d.steps[title]
	if !ok {
		i = len(d.Steps)
		d.steps[title] = i
		d.Steps = append(d.Steps, StepSeen{Title: title})
	}
	return &d.Steps[i]
}

func (d *digester) take(e record.Event) (err error) {
	switch e.Kind {
	case record.Head:
		d.Began = e.Time
	case record.Begin:
		d.Title = e.Text
		var data struct{ Inputs map[string]any }
		data, err = record.Decode[struct{ Inputs map[string]any }](e)
		d.Inputs = data.Inputs
	case record.Open:
		if d.ports[e.Port] {
			return nil
		}
		d.ports[e.Port] = true
		p := PortSeen{Name: e.Port}
		p.Opened, err = record.Decode[record.Opened](e)
		d.Ports = append(d.Ports, p)
	case record.Step:
		if s := d.step(e.Step); e.Verdict != "" {
			s.Verdict, s.Why, s.Tries, s.TookMS = e.Verdict, e.Why, e.Try, e.TookMS
		}
	case record.Try:
		var f record.Further
		if f, err = further(e); f.ByHand {
			s := d.step(e.Step)
			if s.ByHand++; len(f.Mended) > 0 {
				s.Mended = f.Mended
			}
		}
	case record.Limit, record.Value:
		if m, merr := measurement(e); merr == nil && m.Identity && m.Text != nil {
			d.Origin.Unit = *m.Text // as the module itself says
		}
		d.Limits++
	case record.Frame:
		d.Frames++
	case record.Link:
		var sum link.Summary
		if sum, err = record.Decode[link.Summary](e); sum.Kind == link.Kind {
			d.Links = append(d.Links, sum)
		}
	case record.Result:
		var found ResultSeen
		found, err = resultSeen(e)
		d.Results = append(d.Results, found)
	case record.Kept:
		k := KeptFile{Path: e.Text}
		k.KeptFile, err = record.Decode[record.KeptFile](e)
		d.Kept = append(d.Kept, k)
	case record.Verdict:
		d.Verdict, d.Why, d.TookMS = e.Verdict, e.Why, e.TookMS
	}
	return err
}

// Name is what the record is of: the procedure's title, or else the command.
func (d *Digest) Name() string {
	switch {
	case d.Title != "":
		return d.Title
	case len(d.tests()) > 0 && len(d.Links[0].Directions) > 0:
		w := d.Links[0].Directions[0]
		return "Link test: " + w.From + " and " + w.To
	}
	name := cmp.Or(d.Origin.Command, "record")
	if len(d.Results) == 1 {
		name = d.Results[0].What
	}
	var ports []string
	for _, p := range d.Ports {
		if !slices.Contains(ports, p.Name) { // it may be opened again
			ports = append(ports, p.Name)
		}
	}
	if name = upperFirst(name); len(ports) > 0 {
		name += ": " + strings.Join(ports, ", ")
	}
	return name
}

// tests are the link tests that stand for themselves. Those of a search for what a
// link carries are its points: it is no failure that one of them breaks the limit.
func (d *Digest) tests() []link.Summary {
	if len(d.Steps) == 0 && len(d.Results) > 0 {
		return nil
	}
	return d.Links
}

// Outcome is the verdict in a word; a record without one says so.
func (d *Digest) Outcome() string {
	if d.Verdict != "" {
		return string(d.Verdict)
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
		for _, sum := range d.tests() {
			for _, way := range sum.Directions {
				parts = append(parts, fmt.Sprintf("%d of %d frames lost from %s to %s", way.Lost, way.Sent, way.From, way.To))
			}
		}
		for _, r := range d.Results {
			if len(r.Rows) > 0 {
				parts = append(parts, r.Rows[0][1])
			}
		}
		if d.Why != "" {
			parts = append(parts, d.Why)
		}
		return text.Line(strings.Join(parts, "; "))
	}
	n := map[verdict.Verdict]int{}
	for _, s := range d.Steps {
		n[s.Verdict]++
	}
	passed := n[verdict.Passed]
	if passed == len(d.Steps) {
		return "all " + text.Count(passed, "step") + " passed"
	}
	words := fmt.Sprintf("%d of %s passed", passed, text.Count(len(d.Steps), "step"))
	for _, v := range []verdict.Verdict{verdict.Failed, verdict.Broken, verdict.Undecided, verdict.Untested, verdict.Skipped} {
		if n[v] > 0 {
			words += fmt.Sprintf(", %d %s", n[v], v)
		}
	}
	if n[""] > 0 {
		words += fmt.Sprintf(", %d not ended", n[""])
	}
	return words
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
		add("input "+text.Line(name), fmt.Sprint(d.Inputs[name]))
	}
	for _, s := range d.Steps {
		if s.ByHand > 0 {
			add("tries of "+text.Line(s.Title), s.byHand())
		}
	}
	add("run", o.Run)
	add("record", d.Words())
	return rows
}

// moment is a time with its distance from UTC, as the record has it.
func moment(t time.Time) string { return t.Format("2006-01-02 15:04:05 -07:00") }
