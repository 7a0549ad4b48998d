package session

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/secret"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// Earlier is a run of a procedure as its record tells it: what came of each step, and
// which values it gave.
type Earlier struct {
	path string

	title, unit string
	inputs      map[string]any    // as the record has them
	at          map[string]string // the addresses of its ports
	verdicts    map[string]verdict.Verdict
	given       map[string]map[string]record.Given // by step and name
	lines       map[string]lines                   // how ports were set in each step, by its title
	since       lines                              // ... and since the last that has ended
}

// ReadEarlier reads the record of a run of a procedure. What was altered is refused.
func ReadEarlier(path string, file *procedure.File) (*Earlier, error) {
	f, err := source.Open(path)
	if err != nil {
		return nil, misuse("the record of the earlier run: %v", err)
	}
	defer f.Close()
	r := &Earlier{path: path, at: map[string]string{}, verdicts: map[string]verdict.Verdict{}, given: map[string]map[string]record.Given{}, lines: map[string]lines{}, since: lines{}}
	state, err := record.Read(f, r.take)
	switch {
	case err != nil:
		return nil, misuse("%s: %v", path, err)
	case state.Altered != "":
		return nil, misuse("%s is altered, so nothing of it can be taken up: %s", path, state.Altered)
	case r.title != file.Title:
		return nil, misuse("%s: that is a record of %q, not of %q", path, r.title, file.Title)
	}
	r.unit = state.Origin.Unit
	return r, nil
}

// Input is an input that the run was given, as it is written; false if the record has none of the
// name.
func (r *Earlier) Input(name string) (string, bool) {
	switch v := r.inputs[name].(type) {
	case nil:
		return "", false
	case float64:
		return record.Number(v).String(), true
	default:
		return procedure.Text(v), true
	}
}

// take takes one event of the record.
func (r *Earlier) take(e record.Event) error {
	switch {
	case e.Kind == record.Begin:
		r.title = e.Text
		begun, err := record.Decode[struct {
			Inputs map[string]any `json:"inputs"`
		}](e)
		r.inputs = begun.Inputs
		return err
	case e.Kind == record.Open:
		o, err := record.Decode[record.Opened](e)
		r.at[e.Port] = o.Address
		return err
	case e.Kind == record.Changed:
		c, err := record.Decode[record.ChangedLine](e)
		r.since.set(e.Port, perform.Line{ChangedLine: c}, "")
		return err
	case e.Kind == record.Note && e.Data != nil:
		s, err := record.Decode[record.Supplied](e)
		r.since.set(e.Port, perform.Line{Power: s.Power}, "")
		return err
	case e.Kind == record.Verdict: // what ports were set to since was putting them back
		r.since = lines{}
	case e.Kind == record.Step && e.Verdict != "":
		r.verdicts[e.Step] = e.Verdict
		r.lines[e.Step], r.since = r.since, lines{}
		if perform.WasLeftOut(e) { // not tested either
			r.verdicts[e.Step] = verdict.Untested
		}
		if e.Data == nil {
			return nil
		}
		end, err := record.Decode[record.StepEnd](e)
		if r.given[e.Step] = end.Values; end.LeftOut && end.Passed { // in the run that was repeated there
			r.verdicts[e.Step] = verdict.Passed
		}
		return err
	}
	return nil
}

// NotPassed are the titles of the steps of a procedure that did not pass in the run, or
// do not stand in its record.
func (r *Earlier) NotPassed(file *procedure.File) (map[string]bool, error) {
	chosen := map[string]bool{}
	for _, s := range file.Steps {
		if v := r.verdicts[s.Title]; v != verdict.Passed && v != verdict.Skipped {
			chosen[s.Title] = true
		}
	}
	if len(chosen) == 0 {
		return nil, misuse("%s: every step has passed there, so there is nothing to repeat", r.path)
	}
	return chosen, nil
}

// performed reports whether a step, by its title, is among those that are performed.
func (p *Procedure) performed(title string) bool {
	i := slices.IndexFunc(p.File.Steps, func(s *procedure.Step) bool { return s.Title == title })
	return i >= 0 && (p.Chosen == nil || p.Chosen[title] || p.File.Steps[i].Needed || p.File.Steps[i].Always)
}

// complete finds what steps left out would have given to those that are performed, in
// the earlier run. It refuses a choice of steps that needs what neither gives.
func (p *Procedure) complete(stations map[string]*bench.Station) (before map[string]perform.Earlier, err error) {
	before = map[string]perform.Earlier{}
	for _, s := range p.File.Steps {
		if !p.performed(s.Title) {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(s.Needs)) {
			givers := s.Needs[name]
			taken, why := p.Earlier.values(name, slices.DeleteFunc(slices.Clone(givers), p.performed))
			for title, v := range taken {
				if before[title].Values == nil {
					before[title] = perform.Earlier{Values: map[string]any{}, From: p.Earlier.path}
				}
				before[title].Values[name] = v
			}
			if len(taken) == 0 && !slices.ContainsFunc(givers, p.performed) {
				return nil, misuse("step %q needs %s, which step %q gives, and that is left out: choose it too, or mark it needed%s", s.Title, name, givers[len(givers)-1], why)
			}
		}
	}
	if err := p.linesBefore(stations, before); err != nil {
		return nil, err
	}
	for _, s := range p.File.Steps {
		if p.Earlier != nil && p.Earlier.verdicts[s.Title] == verdict.Passed && !p.performed(s.Title) {
			of := before[s.Title]
			of.Passed, of.From = true, p.Earlier.path
			before[s.Title] = of
		}
	}
	if len(before) > 0 && p.Earlier != nil {
		err = p.sameModule(stations)
	}
	return before, err
}

// values are what steps gave a name in the run, by the step's title; where there are
// none, why is what more can be done about it, or why not.
func (r *Earlier) values(name string, steps []string) (taken map[string]any, why string) {
	if r == nil {
		return nil, ", or name the record of a run in which it passed with --from-record"
	}
	why = fmt.Sprintf("; %s does not tell it", r.path)
	taken = map[string]any{}
	for _, title := range steps {
		g, has := r.given[title][name]
		v, err := g.Value()
		was := r.verdicts[title]
		switch {
		case was != "" && was != verdict.Passed && (!has || was != verdict.Skipped && was != verdict.Untested): // one left out there may have it from a run before
			why = fmt.Sprintf("; in %s that step is %s", r.path, was)
		case !has:
		case err != nil:
			why = fmt.Sprintf("; %s does not tell it: %v", r.path, err)
		case strings.Contains(fmt.Sprint(v), secret.Hidden):
			why = fmt.Sprintf("; %s does not tell it: it holds a secret", r.path)
		default:
			taken[title] = v
		}
	}
	return taken, why
}

// sameModule refuses to take up values that another module, or the same one under other
// inputs, may have given.
func (p *Procedure) sameModule(stations map[string]*bench.Station) error {
	r := p.Earlier
	for _, in := range p.File.Inputs {
		was, known := r.inputs[in.Name]
		if is := record.Encodable(p.Values[in.Name]); known && procedure.Text(was) != procedure.Text(is) {
			return misuse("%s is %v now, and was %v in %s: what was found there holds for that alone", in.Name, is, was, r.path)
		}
	}
	switch unit := p.Keep.Unit; {
	case unit != "" && r.unit != "" && unit != r.unit:
		return misuse("%s is of unit %s, and this is %s: what was found there does not hold here", r.path, r.unit, unit)
	case unit != "" && unit == r.unit:
		return nil
	}
	for _, decl := range p.File.Ports {
		was, known := r.at[decl.Name]
		if st := stations[decl.Name]; known && st != nil && st.Address != (port.Address{}) && st.Address.String() != was {
			return misuse("port %s is %s now, and was %s in %s: that it is the same module is told by --unit, in both runs", decl.Name, st.Address, was, r.path)
		}
	}
	return nil
}
