package procedure

import (
	"fmt"
	"slices"
	"sort"

	"github.com/expr-lang/expr/types"
)

// scope is the names that have a value at some line. It keeps a log of what was
// added, so that what only one branch has given a value can be taken back.
type scope struct {
	values map[string]*value
	log    []addition
	read   map[string]bool   // names that some expression reads
	first  map[string]*value // where each name was first given a value
	step   *Step             // the one that is being read; nil outside
	things *bindings
	given  func(name string, v *value) // is told of each name that gets a value
}

type addition struct {
	name string
	old  *value
}

type value struct {
	what    string // in words, such as "an input"
	typ     types.Type
	at      Pos
	port    bool
	capture bool
	let     bool
	bind    int      // which thing it is, among those of that name
	steps   []string // titles of those that give it; none if it is there from the beginning
}

func newScope(names *bindings) *scope {
	return &scope{things: names, values: map[string]*value{}, read: map[string]bool{}, first: map[string]*value{}}
}

func (s *scope) add(name string, v value) {
	old := s.values[name]
	s.log = append(s.log, addition{name, old})
	switch {
	case s.step == nil || old != nil && len(old.steps) == 0: // it has a value in any case
		v.steps = nil
	case old != nil && slices.Contains(old.steps, s.step.Title):
		v.steps = old.steps
	case old != nil:
		v.steps = append(slices.Clone(old.steps), s.step.Title)
	default:
		v.steps = []string{s.step.Title}
	}
	switch {
	case v.bind == 0 && old != nil:
		v.bind = old.bind
	case v.bind == 0:
		v.bind = s.things.fresh()
	case old != nil:
		s.things.same(v.bind, old.bind)
	}
	s.values[name] = &v
	if s.given != nil {
		s.given(name, &v)
	}
	if s.first[name] == nil {
		s.first[name] = &v
	}
}

// reads notes that a name is read, and what the step that reads it needs therefore.
func (s *scope) reads(name string) {
	s.read[name] = true
	v := s.values[name]
	if s.step == nil || v == nil || len(v.steps) == 0 || slices.Contains(v.steps, s.step.Title) {
		return
	}
	if s.step.Needs == nil {
		s.step.Needs = map[string][]string{}
	}
	s.step.Needs[name] = v.steps
}

func (s *scope) find(name string) (value, bool) {
	v, ok := s.values[name]
	if !ok {
		return value{}, false
	}
	return *v, true
}

// back takes back what was added since a mark, which was the length of the log,
// and returns the names that had a value only by that.
func (s *scope) back(mark int) map[string]*value {
	gone := map[string]*value{}
	for i := len(s.log) - 1; i >= mark; i-- {
		a := s.log[i]
		if a.old == nil {
			if gone[a.name] == nil {
				gone[a.name] = s.values[a.name]
			}
			delete(s.values, a.name)
			continue
		}
		if gone[a.name] == nil {
			gone[a.name] = s.values[a.name]
		}
		s.values[a.name] = a.old
	}
	s.log = s.log[:mark]
	return gone
}

// join adds the names that every branch has given a value.
func (s *scope) join(branches []map[string]*value) {
	if len(branches) == 0 {
		return
	}
	for name, v := range branches[0] {
		both := *v
		every := true
		for _, other := range branches[1:] {
			o := other[name]
			if o == nil {
				every = false
				break
			}
			s.things.same(o.bind, both.bind)
			if o.typ != both.typ {
				both.typ = types.Any
			}
		}
		if every {
			s.add(name, both)
		}
	}
}

// names are the values that an expression may read.
func (s *scope) names() []string {
	var list []string
	for n, v := range s.values {
		if !v.port {
			list = append(list, n)
		}
	}
	sort.Strings(list)
	return list
}

// warn gathers what is odd but does no harm.
func (p *parser) warn() {
	for _, port := range p.file.Ports {
		if !p.used[port.Name] && len(p.file.Steps) > 0 {
			p.warning(port.Pos, fmt.Sprintf("no step uses the port %s", port.Name), "Use it or delete it.")
		}
	}
	for name, v := range p.values.first {
		mend := "Use it or delete it."
		if v.capture {
			mend = "Check it, or write ... in its place."
		}
		if !p.values.read[name] && !v.port && v.what != "a secret" && v.at.Line > 0 {
			p.warning(v.at, fmt.Sprintf("nothing reads %s", name), mend)
		}
	}
	p.warnUnheard()
	p.warnBeforehand()
	p.warnNamesakes()
	_ = p.file.Warnings.Err() // puts them in order
}

func (p *parser) warning(at Pos, what, mend string) {
	p.file.Warnings = append(p.file.Warnings, p.finding(at, what, mend))
}
