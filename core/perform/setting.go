package perform

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// setting reads or writes a setting. What the phrasebook wants done afterwards is done however
// that ends, also where it was interrupted: a module must not be left in its setup.
func (p *performer) setting(ctx context.Context, n *procedure.SettingUse) error {
	if len(n.Body) == 0 {
		return fmt.Errorf("no phrasebook is known of the port %s: name one in the procedure or on the bench", n.Port)
	}
	defer func(before string) { p.settingName = before }(p.settingName)
	p.settingName = n.Name
	err := p.statements(ctx, n.Enter)
	if err == nil {
		err = p.statements(ctx, n.Body)
	}
	p.settingSeen(ctx, n, err)
	return p.left(ctx, n.Leave, err)
}

// left does what the phrasebook wants done afterwards, also where it was interrupted.
func (p *performer) left(ctx context.Context, leave []procedure.Node, err error) error {
	if len(leave) == 0 {
		return err
	}
	if left := p.statements(context.WithoutCancel(ctx), leave); left != nil {
		err = errors.Join(err, fmt.Errorf("leave the setup: %w", left))
	}
	return err
}

// MatchFailed is a module that has not the settings that a file has.
type MatchFailed struct {
	File string
	Of   int      // settings that were held against it
	Bad  []string // those that are otherwise, in words
}

func (e *MatchFailed) Error() string {
	return fmt.Sprintf("%d of %d settings are not as in %s: %s", len(e.Bad), e.Of, e.File, strings.Join(e.Bad, "; "))
}

// settingsMatch holds all settings against a file; one that is otherwise does not stop it.
func (p *performer) settingsMatch(ctx context.Context, n *procedure.SettingsMatch) error {
	if len(n.Each) == 0 {
		return fmt.Errorf("no phrasebook is known of the port %s: name one in the procedure or on the bench", n.Port)
	}
	for _, name := range n.LeftOut {
		p.emit(record.Event{Kind: record.Note, Port: p.port(n.Port), Text: fmt.Sprintf("%s is not held against %s: it must differ from module to module", name, n.File)})
	}
	failed := &MatchFailed{File: n.File, Of: len(n.Each)}
	err := p.statements(ctx, n.Enter)
	for i := 0; i < len(n.Each) && err == nil; i++ {
		one := n.Each[i]
		read := p.statements(ctx, one.Get.Body)
		p.settingSeen(ctx, one.Get, read)
		switch {
		case read != nil && (isBroken(read) || ctx.Err() != nil):
			err = read
		case read != nil:
			failed.Bad = append(failed.Bad, fmt.Sprintf("%s was not read: %v", one.Setting.Name, p.scrub(read)))
		default:
			now := procedure.Text(p.values[phrasebook.SettingNow])
			outcome := verdict.Passed
			if !one.Setting.Same(now, one.Want) {
				outcome = verdict.Failed
				failed.Bad = append(failed.Bad, p.mask.Hide(fmt.Sprintf("%s is %s, wanted %s", one.Setting.Name, one.Setting.Quoted(now), one.Setting.Quoted(one.Want))))
			}
			p.emit(record.Event{Kind: record.Check, Text: fmt.Sprintf("%s == %s", one.Setting.Name, one.Setting.Quoted(one.Want)), Verdict: outcome, Value: []Value{{Name: one.Setting.Name, Value: p.mask.Hide(now)}}})
		}
	}
	if err == nil && len(failed.Bad) > 0 {
		err = failed
	}
	return p.left(ctx, n.Leave, err)
}

// settingsSeen are the settings of a module as far as the procedure has read and written them:
// each as it was read before it was written, and as it was read at last.
type settingsSeen struct {
	port        string
	found, left record.Settings
}

// settingSeen keeps what a get or a set tells of a setting. What was written and not read back,
// and what a write that failed may have left, is told as such.
func (p *performer) settingSeen(ctx context.Context, n *procedure.SettingUse, failed error) {
	if p.run.Part || n.Value == nil && failed != nil {
		return // nothing was learned of it
	}
	book := p.run.Stations[n.Port].Phrasebook
	s, is := book.Setting(n.Name)
	v := record.SettingValue{Name: n.Name, Pair: s.Pair}
	switch {
	case s.Secret:
		v.Not = record.Secret
	case n.Value == nil:
		v.Value = procedure.Text(p.values[n.Gets])
	case failed != nil:
		v.Not, v.Bad = "a write failed", true
	default:
		if to, err := n.Value.Run(ctx, p.values); err != nil {
			v.Not, v.Bad = "was written, and not read", true
		} else if v.Value = procedure.Text(to); !s.ReadBack() {
			v.Not, v.Value = "written "+v.Value+", not read back", ""
		}
	}
	if p.mask.Hide(v.Value+v.Not) != v.Value+v.Not || n.Gets != "" && p.secret[n.Gets] {
		v.Value, v.Not = "", "made of a secret"
	}
	of := p.settingsOf(n.Port, book.Family)
	first := of.left.Add(v, !is)
	if n.Value == nil && first {
		of.found.Add(v, !is)
	}
}

func (p *performer) settingsOf(port, family string) *settingsSeen {
	for _, of := range p.settings {
		if of.port == port {
			return of
		}
	}
	of := &settingsSeen{port, record.Settings{Name: p.port(port), Family: family, When: record.AsFound}, record.Settings{Name: p.port(port), Family: family, When: record.AsLeft}}
	p.settings = append(p.settings, of)
	return of
}

// tellSettings tells, at the end, of the settings that were read and written.
func (p *performer) tellSettings() {
	for _, port := range slices.Sorted(maps.Keys(p.run.Identity)) {
		v, of := p.run.Identity[port], p.settingsOf(port, p.run.Stations[port].Phrasebook.Family)
		of.found.Add(v, true)
		if _, has := of.left.Setting(v.Name); !has {
			of.left.Add(v, true)
		}
	}
	for _, moment := range []func(*settingsSeen) *record.Settings{func(s *settingsSeen) *record.Settings { return &s.found }, func(s *settingsSeen) *record.Settings { return &s.left }} {
		for _, of := range p.settings {
			if s := moment(of); len(s.Settings)+len(s.Identity) > 0 {
				s.Read = time.Now()
				p.emit(record.Event{Kind: record.Result, Port: p.port(of.port), Text: record.SettingsKind, Verdict: verdict.Measured, Value: *s})
			}
		}
	}
}
