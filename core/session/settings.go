package session

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/secret"
	"uparrot/core/source"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Module is the settings of a module, with the phrasebook that tells of them: nil where they
// were read out of a file.
type Module struct {
	record.Settings
	Book *phrasebook.Phrasebook `json:"-"`
}

// Modules reads and writes the settings of modules, all at once, in a session.
type Modules struct {
	Stations []*bench.Station
	Session  *Session

	afresh bool // each try asks anew, whatever is owed
}

// Known reports why the settings of a module cannot be read, before a port is opened.
func (m *Modules) Known() error {
	for _, st := range m.Stations {
		if st.Phrasebook == nil {
			return misuse("no phrasebook is known of %s: name it on the bench, or with --phrasebook", st.Name)
		}
		if len(st.Phrasebook.Settings) == 0 {
			return misuse("%s knows no settings: describe them in tables [[setting]]", st.Phrasebook.File)
		}
	}
	return nil
}

// each does something for each module at once, and joins what went wrong.
func (m *Modules) each(do func(i int, st *bench.Station) error) error {
	errs := make([]error, len(m.Stations))
	var all sync.WaitGroup
	for i, st := range m.Stations {
		all.Go(func() { errs[i] = do(i, st) })
	}
	all.Wait()
	return errors.Join(errs...)
}

// Read reads all settings of all modules; when says which time it is. What cannot be read of
// a module is told in its place.
func (m *Modules) Read(ctx context.Context, when string) ([]*Module, error) {
	found := make([]*Module, len(m.Stations))
	err := m.each(func(i int, st *bench.Station) (err error) {
		found[i], err = m.read(ctx, st, when)
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, mod := range found {
		m.Session.Events.Emit(record.Event{Kind: record.Result, Port: mod.Name, Text: record.SettingsKind, Verdict: verdict.Measured, Value: mod.Settings})
	}
	return found, nil
}

func (m *Modules) read(ctx context.Context, st *bench.Station, when string) (*Module, error) {
	pb := st.Phrasebook
	mod := &Module{record.Settings{Name: st.Name, Family: pb.Family, When: when}, pb}
	var names []string
	for _, id := range pb.Identity {
		names = append(names, id.Name)
	}
	got, failed, err := m.get(ctx, st, names)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		mod.Identity = append(mod.Identity, settingValue(name, got, failed))
	}
	firmware, _ := mod.Setting("firmware")
	names = nil
	not := map[string]string{}
	for _, s := range pb.Settings {
		switch {
		case s.Secret:
			not[s.Name] = record.Secret
		case !s.Way().Readable():
			not[s.Name] = "cannot be read"
		case s.Firmware != "" && firmware.Value != "" && older(firmware.Value, s.Firmware):
			not[s.Name] = "not before " + s.Firmware
		default:
			names = append(names, s.Name)
		}
	}
	if got, failed, err = m.get(ctx, st, names); err != nil {
		return nil, err
	}
	for _, s := range pb.Settings {
		v := settingValue(s.Name, got, failed)
		if why := not[s.Name]; why != "" {
			v.Not, v.Bad = why, false
		}
		v.Pair = s.Pair
		mod.Settings.Settings = append(mod.Settings.Settings, v)
	}
	mod.Read = time.Now()
	return mod, nil
}

func settingValue(name string, got map[string]string, failed map[string]string) record.SettingValue {
	v, ok := got[name]
	if ok {
		return record.SettingValue{Name: name, Value: v}
	}
	return record.SettingValue{Name: name, Not: cmp.Or(failed[name], "was not read"), Bad: true}
}

// older reports whether a version comes before another: number by number.
func older(version, than string) bool {
	split := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return r < '0' || r > '9' })
	}
	a, b := split(version), split(than)
	for i := range b {
		x, y := 0, 0
		if i < len(a) {
			x, _ = strconv.Atoi(a[i]) // digits alone
		}
		y, _ = strconv.Atoi(b[i])
		if x != y {
			return x < y
		}
	}
	return false
}

// get reads settings by their names, each in a step of its own.
func (m *Modules) get(ctx context.Context, st *bench.Station, names []string) (got, failed map[string]string, err error) {
	if len(names) == 0 {
		return nil, nil, nil
	}
	var b strings.Builder
	for i, name := range names {
		fmt.Fprintf(&b, "step %q\n    get module %s as v%d\nend\n", st.Name+": "+name, quote(name), i)
	}
	res, values, err := m.perform(ctx, st, b.String(), true)
	if err != nil {
		return nil, nil, err
	}
	got, failed = map[string]string{}, map[string]string{}
	for i, step := range res.Steps {
		if v, ok := values[fmt.Sprintf("v%d", i)]; ok && step.Verdict == verdict.Passed {
			got[names[i]] = procedure.Text(v)
		} else if step.Verdict != verdict.Passed {
			failed[names[i]] = bare(step)
		}
	}
	return got, failed, nil
}

// bare is why a step failed, without the place in a procedure that is no file.
func bare(st perform.StepResult) string {
	if f, ok := errors.AsType[*perform.Failure](st.Err); ok {
		if inner := errors.Unwrap(f); inner != nil {
			return inner.Error()
		}
	}
	return st.Why
}

// quote is a name of a setting as the language has it.
func quote(name string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(name) + `"`
}

// perform performs steps at one module, and returns what they gave.
func (m *Modules) perform(ctx context.Context, st *bench.Station, steps string, goOn bool) (perform.Result, map[string]any, error) {
	text := "procedure \"settings\"\n"
	if goOn {
		text += "keep going\n"
	}
	text += "port module\n" + steps
	file, err := procedure.ParseWith("", text, map[string]*phrasebook.Phrasebook{"module": st.Phrasebook})
	if err != nil {
		return perform.Result{}, nil, fmt.Errorf("the settings of %s cannot be used: %w", st.Phrasebook.File, err)
	}
	own := *st
	values := map[string]any{}
	run := &perform.Run{Procedure: file, Stations: map[string]*bench.Station{"module": &own}, Values: map[string]any{}, Part: true, Afresh: m.afresh,
		Events: m.Session.Events.With(func(e record.Event) {
			if end, ok := e.Value.(record.StepEnd); ok && e.Kind == record.Step {
				for name, given := range end.Values {
					if v, err := given.Value(); err == nil {
						values[name] = v
					}
				}
			}
		})}
	res := run.Do(ctx)
	if res.Verdict == verdict.Broken {
		return res, values, cmp.Or(res.Err, errors.New("it was interrupted"))
	}
	return res, values, nil
}

// Ask reads what a module tells, once; nothing of it is evidence.
func (m *Modules) Ask(ctx context.Context, st *bench.Station, way phrasebook.Way) (string, error) {
	steps := fmt.Sprintf("step \"ask\" tries 2\n%s\nend\n", strings.Join(slices.Concat(
		st.Phrasebook.Round.Statements("enter", "module"), way.Statements(st.Setup.Dialect, "module", "it"), st.Phrasebook.Round.Statements("leave", "module")), "\n"))
	if m.Session == nil {
		m.Session = &Session{}
	}
	res, values, err := m.perform(ctx, st, steps, false)
	if err == nil && res.Verdict != verdict.Passed {
		err = fmt.Errorf("%s has not told it", st.Name)
	}
	return procedure.Text(values["it"]), err
}

// Shows performs statements at a module, again and again, until they pass; nothing of it is
// evidence.
func (m *Modules) Shows(ctx context.Context, st *bench.Station, statements []string, within time.Duration) error {
	var enter, leave []string
	if st.Phrasebook != nil {
		enter, leave = st.Phrasebook.Round.Statements("enter", "module"), st.Phrasebook.Round.Statements("leave", "module")
	}
	if m.Session == nil {
		m.Session = &Session{}
	}
	steps := fmt.Sprintf("step \"it shows\" tries 1000 every 1s within %v\n%s\nend\n", within, strings.Join(slices.Concat(enter, statements, leave), "\n"))
	m.afresh = true
	res, _, err := m.perform(ctx, st, steps, false)
	if err == nil && res.Verdict != verdict.Passed {
		err = fmt.Errorf("%s has not shown itself within %v", st.Name, within)
	}
	return err
}

// Change is a setting that is to be written.
type Change struct {
	Module   string `json:"module"`
	Name     string `json:"name"`
	From     string `json:"from"`
	To       string `json:"to"`
	Now      string `json:"now,omitempty"` // as it was read back; "" if it was not
	Restart  bool   `json:"restart,omitempty"`
	Secret   bool   `json:"secret,omitempty"`
	Took     bool   `json:"took"`
	WhyNot   string `json:"why,omitempty"`
	setting  *phrasebook.Setting
	original string // what is written, where it is a secret
	cannot   string // why it is not even tried
}

// Wanted are the values that modules are to have, by the name of the module; those of "" are
// for all.
type Wanted map[string]map[string]string

// Of are those for a module.
func (w Wanted) Of(name string) map[string]string {
	all := maps.Clone(w[""])
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, w[name])
	return all
}

// Check holds what is wanted against the phrasebooks, before a port is opened.
func (m *Modules) Check(w Wanted) error {
	for _, st := range m.Stations {
		for _, name := range slices.Sorted(maps.Keys(w.Of(st.Name))) {
			s, ok := st.Phrasebook.Setting(name)
			var names []string
			for _, one := range st.Phrasebook.Settings {
				names = append(names, one.Name)
			}
			switch {
			case !ok:
				return misuse("%s: %s has no setting %q. %s", st.Name, st.Phrasebook.File, name, source.DidYouMean(name, names))
			case !s.Writable():
				continue // it is told where it differs
			}
			if err := oneLine(&s, w.Of(st.Name)[name]); err != nil {
				return misuse("%s: %v", st.Name, err)
			}
			if err := s.Check(w.Of(st.Name)[name]); err != nil {
				return misuse("%s: %v", st.Name, err)
			}
		}
	}
	for name := range w {
		if name != "" && !slices.ContainsFunc(m.Stations, func(st *bench.Station) bool { return st.Name == name }) {
			return misuse("values are given for %s, which is none of the ports named", name)
		}
	}
	return nil
}

// Changes are what differs from what is wanted, in the order in which it is to be written.
func (m *Modules) Changes(found []*Module, w Wanted) []Change {
	var all []Change
	for _, mod := range found {
		wanted := w.Of(mod.Name)
		for _, s := range inOrder(mod.Book.Settings) {
			to, is := wanted[s.Name]
			if !is {
				continue
			}
			now, _ := mod.Setting(s.Name)
			if now.Not == "" && s.Same(now.Value, to) {
				continue
			}
			c := Change{Module: mod.Name, Name: s.Name, From: now.Value, To: to, Restart: s.Effect == "restart", Secret: s.Secret, setting: &s, original: to}
			if now.Not != "" {
				c.From = "(" + now.Not + ")"
			}
			switch err := oneLine(&s, to); {
			case err != nil:
				c.cannot = err.Error()
			case !s.Writable():
				c.cannot = "it can be read alone"
			case now.Not != "" && !now.Bad && s.Way().Readable() && !s.Secret: // of another firmware
				c.cannot = now.Not
			}
			if s.Secret {
				c.To = secret.Hidden
			}
			all = append(all, c)
		}
	}
	return all
}

// oneLine refuses a value that would say more than one line: what follows its end would be another command.
func oneLine(s *phrasebook.Setting, value string) error {
	at := text.Control(value)
	if at < 0 {
		return nil
	}
	shown := fmt.Sprintf(" of %q", value)
	if s.Secret {
		shown = ""
	}
	return fmt.Errorf("%s takes one line, and its value holds %s: character %d%s", s.Name, text.ControlName(value[at]), len([]rune(value[:at]))+1, shown)
}

// Planned are modules as they will be when the changes are written.
func Planned(found []*Module, changes []Change) []*Module {
	var all []*Module
	for _, m := range found {
		own := *m
		own.Settings.Settings = slices.Clone(m.Settings.Settings)
		for i := range own.Settings.Settings {
			v := &own.Settings.Settings[i]
			for _, c := range changes {
				if c.Module == m.Name && c.Name == v.Name && c.cannot == "" && !c.Secret {
					v.Value, v.Not, v.Bad = c.asOthers(found), "", false
				}
			}
		}
		all = append(all, &own)
	}
	return all
}

// asOthers is what is to be written, in the writing of a module that has the same.
func (c *Change) asOthers(found []*Module) string {
	for _, m := range found {
		if v, ok := m.Setting(c.Name); ok && v.Not == "" && c.setting.Same(v.Value, c.To) {
			return v.Value
		}
	}
	return c.To
}

// inOrder are settings, each behind those that must be written before it.
func inOrder(settings []phrasebook.Setting) []phrasebook.Setting {
	var out []phrasebook.Setting
	done := map[string]bool{}
	var put func(s phrasebook.Setting, depth int)
	put = func(s phrasebook.Setting, depth int) {
		if done[s.Name] || depth > len(settings) { // a circle ends somewhere
			return
		}
		for _, before := range s.After {
			for _, other := range settings {
				if other.Name == before {
					put(other, depth+1)
				}
			}
		}
		if !done[s.Name] {
			done[s.Name] = true
			out = append(out, s)
		}
	}
	for _, s := range settings {
		put(s, 0)
	}
	return out
}

// Write writes changes, saves them, has the modules start again where the phrasebook says how,
// unless that is not to be, and reads all back: each change says then whether it took.
func (m *Modules) Write(ctx context.Context, changes []Change, restart bool) ([]*Module, error) {
	for _, c := range changes {
		if c.Secret {
			m.Session.Events.Hide(c.original)
		}
	}
	failed := map[string]string{}
	var mu sync.Mutex
	err := m.each(func(_ int, st *bench.Station) error {
		var b strings.Builder
		n := 0
		for _, c := range changes {
			if c.Module != st.Name || c.cannot != "" {
				continue
			}
			n++
			fmt.Fprintf(&b, "step %q\n    set module %s = %s\nend\n", st.Name+": set "+c.Name, quote(c.Name), c.setting.Quoted(c.original))
		}
		if n == 0 {
			return nil
		}
		for _, then := range []string{"save", "restart"} {
			lines := st.Phrasebook.Round.Statements(then, "module")
			if len(lines) == 0 || then == "restart" && !restart {
				continue
			}
			fmt.Fprintf(&b, "step %q\n%s\nend\n", st.Name+": "+then, strings.Join(slices.Concat(st.Phrasebook.Round.Statements("enter", "module"), lines, st.Phrasebook.Round.Statements("leave", "module")), "\n"))
		}
		res, _, err := m.perform(ctx, st, b.String(), true)
		if err != nil {
			return err
		}
		mu.Lock()
		defer mu.Unlock()
		for _, step := range res.Steps {
			if step.Verdict != verdict.Passed {
				failed[step.Title] = bare(step)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	left, err := m.Read(ctx, record.AsLeft)
	if err != nil {
		return nil, err
	}
	for i := range changes {
		c := &changes[i]
		for _, mod := range left {
			if mod.Name == c.Module {
				c.judge(mod, failed, restart && len(mod.Book.Round.Restart) > 0)
			}
		}
	}
	return left, nil
}

// judge says whether a change took, by what was read back.
func (c *Change) judge(left *Module, failed map[string]string, restarted bool) {
	now, _ := left.Setting(c.Name)
	why := failed[c.Module+": set "+c.Name]
	for _, then := range []string{"save", "restart"} {
		if f := failed[c.Module+": "+then]; why == "" && f != "" {
			why = then + ": " + f
		}
	}
	c.WhyNot = why
	switch {
	case c.cannot != "":
		c.Now, c.WhyNot = now.Value, c.cannot
	case now.Not != "": // nothing tells but that it was not refused
		c.Took = why == ""
	case c.Restart && !restarted:
		c.Now, c.Took = now.Value, why == ""
	default:
		c.Now = now.Value
		c.Took = why == "" && c.setting.Same(now.Value, c.To)
		if !c.Took && why == "" {
			c.WhyNot = fmt.Sprintf("it has %s, and was to have %s", now.Value, c.To)
		}
	}
}

// Pairs are the rules of the phrasebooks that modules of one family break, of those that were
// read now: what stands in a file is of another time.
func Pairs(mods []*Module) []record.PairFault {
	var now []*record.Settings
	for _, m := range mods {
		if m.Book != nil {
			now = append(now, &m.Settings)
		}
	}
	return record.PairFaults(now)
}

// FamiliesOf are the families of modules, in their order.
func FamiliesOf(mods []*Module) []string {
	var all []string
	for _, m := range mods {
		if !slices.Contains(all, m.Family) {
			all = append(all, m.Family)
		}
	}
	return all
}

// ModulesIn are the settings that a record tells of: of each module as it was found, or with
// left as it was left at last.
func ModulesIn(e record.Event, into []*Module, left bool) ([]*Module, error) {
	if e.Kind != record.Result || e.Text != record.SettingsKind {
		return into, nil
	}
	mod := &Module{}
	if err := json.Unmarshal(e.Data, &mod.Settings); err != nil {
		return into, fmt.Errorf("what the record says of settings cannot be read: %w", err)
	}
	for i, old := range into {
		if old.Name == mod.Name {
			if left {
				into[i] = mod
			}
			return into, nil
		}
	}
	return append(into, mod), nil
}
