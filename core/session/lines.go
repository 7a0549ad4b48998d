package session

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// lineState is how a port is set, and the step that has set it so.
type lineState struct {
	perform.Line
	by string
}

// lines are how ports are set, by name.
type lines map[string]lineState

// set takes over what a line changes.
func (l lines) set(port string, to perform.Line, by string) {
	s := l[port]
	if to.Speed != 0 {
		s.Speed = to.Speed
	}
	if to.Frame.DataBits != 0 {
		s.Frame = to.Frame
	}
	if to.Ending != phrasebook.EndingNotSaid {
		s.Ending = to.Ending
	}
	if to.Dialect != phrasebook.DialectNotSaid {
		s.Dialect = to.Dialect
	}
	if len(to.Signals) > 0 {
		s.Signals = maps.Clone(s.Signals)
		if s.Signals == nil {
			s.Signals = map[string]bool{}
		}
		maps.Copy(s.Signals, to.Signals)
	}
	if to.Power != "" {
		s.Power = to.Power
	}
	s.by = by
	l[port] = s
}

// add takes over what a step has changed.
func (l lines) add(step string, changes lines) {
	for port, to := range changes {
		l.set(port, to.Line, step)
	}
}

// heard reports whether a module that is spoken to as one says hears who speaks to it as the other says.
func (s lineState) heard(other lineState) bool {
	return s.Speed == other.Speed && s.Frame.Filled() == other.Frame.Filled() && s.Ending == other.Ending && s.Dialect == other.Dialect
}

func (s lineState) words() string {
	words := fmt.Sprintf("%d %s", s.Speed, s.Frame)
	if s.Ending != phrasebook.EndingNotSaid {
		words += ", ending " + s.Ending.String()
	}
	if s.Dialect != phrasebook.DialectNotSaid {
		words += ", dialect " + s.Dialect.String()
	}
	return words
}

// linesBefore finds how ports stood where steps are left out: as these had set them. It refuses a choice of
// steps at which the module would stand otherwise.
func (p *Procedure) linesBefore(stations map[string]*bench.Station, before map[string]perform.Earlier) error {
	if p.Chosen == nil {
		return nil
	}
	wanted, is := lines{}, lines{} // as the whole procedure has them by then, and as the modules have been left
	for name, st := range stations {
		l := st.Setup.Line()
		start := perform.Line{ChangedLine: record.ChangedLine{Speed: l.Speed, Frame: l.Frame.Filled(), Ending: st.Setup.Ending, Dialect: st.Setup.Dialect}}
		wanted.set(name, start, "")
		is.set(name, start, "")
	}
	if err := p.asLeft(is); err != nil {
		return err
	}
	pending := map[string][]string{} // steps left out that have set a port, and no step performed since has used it
	changes := map[string]lines{}    // what they have set
	for _, s := range p.File.Steps {
		done, err := p.changes(s)
		if err != nil {
			return err
		}
		if !p.performed(s.Title) {
			wanted.add(s.Title, done)
			changes[s.Title] = lines{}
			for port, c := range done {
				if c.Speed != 0 || c.Frame.DataBits != 0 { // a part of it was said
					c.Speed, c.Frame = wanted[port].Speed, wanted[port].Frame
				}
				changes[s.Title][port] = c
				pending[port] = append(pending[port], s.Title)
			}
			continue
		}
		for _, port := range used(s.Body) {
			switch w, i := wanted[port], is[port]; {
			case w.heard(i):
				for _, title := range pending[port] {
					p.takesUp(before, title, port, changes[title][port].Line)
				}
				delete(pending, port)
			case !p.leftOut(w.by) && !p.leftOut(i.by): // a run of the whole would begin so, too
			case p.Chosen[s.Title] || s.Needed: // those always performed must do with what they find
				return p.otherLine(s, port, w, i)
			}
		}
		is.add(s.Title, done)
		wanted.add(s.Title, done)
	}
	return nil
}

// leftOut reports whether a port was set by a step that is not performed now.
func (p *Procedure) leftOut(by string) bool { return by != "" && !p.performed(by) }

// takesUp has a port set where a step that is left out stands.
func (p *Procedure) takesUp(before map[string]perform.Earlier, title, port string, to perform.Line) {
	of := before[title]
	if of.Lines == nil {
		of.Lines = map[string]perform.Line{}
	}
	of.Lines[port] = to
	if p.Earlier != nil {
		of.From = p.Earlier.path
	}
	before[title] = of
}

// asLeft finds how the modules were left: by the earlier run, or, where none is told, by the steps before
// the first that is chosen and by those that are always performed.
func (p *Procedure) asLeft(is lines) error {
	first := slices.IndexFunc(p.File.Steps, func(s *procedure.Step) bool { return p.Chosen[s.Title] })
	for i, s := range p.File.Steps {
		switch {
		case p.Earlier != nil:
			is.add(s.Title, p.Earlier.lines[s.Title])
		case i < first || s.Always:
			done, err := p.changes(s)
			if err != nil {
				return err
			}
			is.add(s.Title, done)
		}
	}
	if p.Earlier != nil { // it was cut short within a step
		is.add("", p.Earlier.since)
	}
	return nil
}

// otherLine says that a step would speak to a module as that no longer is.
func (p *Procedure) otherLine(s *procedure.Step, port string, wanted, is lineState) error {
	by := func(s lineState) string {
		if s.by == "" {
			return "at the beginning"
		}
		return fmt.Sprintf("since step %q", s.by)
	}
	setter := wanted.by
	if !p.leftOut(setter) {
		setter = is.by
	}
	from := "with the steps before and those always performed it is"
	if p.Earlier != nil {
		from = "in " + p.Earlier.path + " it was left at"
	}
	return misuse("step %q speaks at %s at %s (%s), and %s %s (%s): choose step %q too, or mark it needed", s.Title, port, wanted.words(), by(wanted), from, is.words(), by(is), setter)
}

// changes are how a step sets ports: as the earlier run tells, or as it stands there.
func (p *Procedure) changes(s *procedure.Step) (lines, error) {
	if p.Earlier != nil && p.Earlier.verdicts[s.Title] != "" {
		return p.Earlier.lines[s.Title], nil
	}
	w := written{p: p, s: s, values: map[string]any{}, done: lines{}}
	maps.Copy(w.values, p.Values)
	for _, let := range p.File.Lets {
		if v, err := let.Expr.Run(context.Background(), w.values); err == nil { // else it is not known
			w.values[let.Name] = v
		}
	}
	return w.done, w.take(s.Body, nil, false)
}

// written is what a step sets as it stands there.
type written struct {
	p      *Procedure
	s      *procedure.Step
	values map[string]any
	done   lines
}

// take takes over what statements set. ports are what names stand for within a routine; perhaps is that they
// are performed only at times.
func (w *written) take(list []procedure.Node, ports map[string]string, perhaps bool) error {
	for _, n := range list {
		var to perform.Line
		known := true
		switch n := n.(type) {
		case *procedure.SetLine:
			if to, known = w.line(n); known && n.Speed == nil && n.Setup.Frame == nil && to.Ending == 0 && to.Dialect == 0 && to.Signals == nil {
				continue // a break, or a port that goes and comes back, does not last
			}
		case *procedure.Power:
			if to.Power = procedure.PowerOn; n.How == procedure.PowerOff {
				to.Power = n.How
			}
		case *procedure.Do:
			inner := map[string]string{}
			for i, param := range n.Routine.Params {
				if param.Port {
					inner[param.Name] = cmp.Or(ports[n.Args[i].Port], n.Args[i].Port)
				}
			}
			if err := w.take(n.Routine.Body, inner, perhaps); err != nil {
				return err
			}
			continue
		default:
			for _, b := range procedure.Bodies(n) {
				if err := w.take(b.Body, ports, true); err != nil {
					return err
				}
			}
			continue
		}
		port := procedure.PortsOf(n)[0]
		port = cmp.Or(ports[port], port)
		if (perhaps || !known) && !w.p.performed(w.s.Title) {
			return misuse("step %q, which is left out, sets %s in a way that only a run tells: name its record with --from-record, choose it too, or mark it needed", w.s.Title, port)
		}
		w.done.set(port, to, w.s.Title)
	}
	return nil
}

// line is what a line statement sets; known is false where only a run tells.
func (w *written) line(n *procedure.SetLine) (to perform.Line, known bool) {
	to.Ending, to.Dialect, known = n.Setup.Ending, n.Setup.Dialect, true
	for _, sig := range n.Signals {
		if to.Signals == nil {
			to.Signals = map[string]bool{}
		}
		to.Signals[sig.Line.String()] = sig.On
	}
	if n.Setup.Frame != nil {
		to.Frame = *n.Setup.Frame
	}
	if n.Speed != nil {
		v, err := n.Speed.Run(context.Background(), w.values)
		to.Speed, known = v.(int)
		known = known && err == nil
	}
	return to, known
}

// used are the ports that statements use, those of routines among them.
func used(list []procedure.Node) (all []string) {
	for _, n := range list {
		all = append(all, procedure.PortsOf(n)...)
		if do, ok := n.(*procedure.Do); ok {
			for _, arg := range do.Args {
				all = append(all, arg.Port)
			}
		}
		for _, b := range procedure.Bodies(n) {
			all = append(all, used(b.Body)...)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
