package rehearse

import (
	"context"
	"slices"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
)

// mutant is a module with one thing wrong.
type mutant struct {
	kind    Kind
	name    string
	port    string
	about   string // what was changed: the setting, the line
	step    string // in which it could be caught; "" if that is not known
	make    func() (tamper, *trigger)
	touched bool   // the procedure writes, reads or measures what is changed
	anyway  bool   // where it passes, the module was wrong, whatever its settings are
	hidden  bool   // nothing in the phrasebook could show it
	why     string // ... why not
	// overhears is asked of what is said at other ports: what the host of this one gets of it.
	overhears func(port string, line []byte, on *trigger) []byte
	reach     func(what string, within time.Duration) (time.Duration, error) // the network; nil answers at once
	style     *style                                                         // how the module speaks; nil is as it does
	module    *bench.Standin                                                 // another one that is there in its place; nil if it is the same
	replays   string                                                         // the line whose answer is played again in the module's place; "" if none is
	what      string                                                         // the measurement that is changed; "" if none is
	is        func(limitSeen) bool                                           // ... whether it has come to what it was to be
	mend      *mend                                                          // what would catch it; nil if nothing is known
}

// trigger counts how often a tamper has changed something.
type trigger struct{ n int }

// mend is a line that would catch a mutant, and where it belongs.
type mend struct {
	Step  string   `json:"step"` // at the end of which it belongs
	Lines []string `json:"lines"`
	After int      `json:"after,omitempty"` // the line of the file behind which it belongs, in place of the end
}

// baseline is what the procedure did on good modules.
type baseline struct {
	outcome
	measured []*measured
	ran      func(outcome) // is told of each further performance; may be nil
}

func (b *baseline) count(o outcome) {
	if b.ran != nil {
		b.ran(o)
	}
}

// look finds out what it takes to make bad modules of good ones.
func (p *Play) look(ctx context.Context, b *baseline) (err error) {
	if b.measured, err = p.measurements(ctx, b); err != nil {
		return err
	}
	return p.edges(ctx, b, b.measured)
}

// answered is what a module answered to each said line, in their order: all that came until the
// next line was said at the port.
func (b *baseline) answered(port string) (said [][]byte, answers [][]byte, steps []string) {
	step := ""
	for _, e := range b.log {
		switch {
		case e.step != "":
			step = e.step
		case e.port != port:
		case e.out:
			said, answers, steps = append(said, e.text), append(answers, nil), append(steps, step)
		case len(said) > 0:
			answers[len(answers)-1] = append(answers[len(answers)-1], e.raw...)
		}
	}
	return said, answers, steps
}

// was are the answers to each line, in their order.
func (b *baseline) was(port string) map[string][][]byte {
	all := map[string][][]byte{}
	said, answers, _ := b.answered(port)
	for i, s := range said {
		all[string(s)] = append(all[string(s)], answers[i])
	}
	return all
}

// mutants are all modules with one thing wrong that can be made of what was said and heard.
func (p *Play) mutants(b *baseline) (all []*mutant) {
	for _, decl := range p.File.Ports {
		st := p.Stations[decl.Name]
		if st == nil || st.Phrasebook == nil {
			continue
		}
		m := &maker{Play: p, b: b, port: decl.Name, book: st.Phrasebook, lines: st.Setup.Dialect != phrasebook.Bytes}
		m.said, m.answers, m.steps = b.answered(decl.Name)
		all = append(all, m.settings()...)
		if p.Do == nil { // else nothing is said of what the modules are
			all = append(all, m.identities()...)
		}
		all = append(all, m.commands()...)
		all = append(all, m.damaged()...)
		all = append(all, m.limits()...)
		all = append(all, m.times()...)
		all = append(all, m.stranger()...)
		all = append(all, m.messages()...)
	}
	all = append(all, p.unreached()...)
	for _, l := range b.limits { // what nothing that a module says brings outside
		if (l.Low != nil || l.High != nil) && !slices.ContainsFunc(all, func(m *mutant) bool { return m.kind == ofLimits && m.about == l.What && m.step == l.Step }) {
			all = append(all, &mutant{kind: ofLimits, name: "a value outside its limits", about: l.What, step: l.Step})
		}
	}
	return all
}

// maker makes the mutants of the module at one port.
type maker struct {
	*Play
	b       *baseline
	port    string
	book    *phrasebook.Phrasebook
	lines   bool
	said    [][]byte
	answers [][]byte
	steps   []string

	writes map[string]bool // lines that write a setting
}
