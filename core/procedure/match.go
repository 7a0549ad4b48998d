package procedure

import (
	"errors"
	"fmt"
	"slices"

	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/source"
)

// readMatch reads settings PORT match "FILE".
func (p *parser) readMatch(l *line, at Pos) {
	const form = `Write: settings radio match "good.toml", a file of uparrot settings read.`
	n := &SettingsMatch{Pos: at}
	var ok bool
	if n.Port, ok = p.settingPort(l); !ok {
		return
	}
	if !l.takeWord("match") {
		p.mistake(l.here(), "wanted match and a file", form)
		return
	}
	fileAt := l.here()
	file, ok := p.title(l, "a file")
	if !ok {
		return
	}
	p.over(l)
	n.File = source.Beside(at.File, file)
	want, ok := p.settingsFile(n, fileAt)
	if !ok {
		return
	}
	if book := p.portBook(n.Port, at); book != nil {
		p.matches(l, n, book, want, fileAt)
	}
	p.put(n)
}

// settingsFile reads the settings that a module must have: those of the port's name in the
// file, or of the one module in it.
func (p *parser) settingsFile(n *SettingsMatch, at Pos) (record.Settings, bool) {
	mods, text, err := record.ReadSettings(n.File)
	if found, ok := errors.AsType[source.Mistakes](err); ok {
		p.mistakes = append(p.mistakes, found...)
		return record.Settings{}, false
	}
	if err != nil {
		p.mistake(at, fmt.Sprintf("the settings cannot be read: %v", err), "A path is taken from the folder of the procedure.")
		return record.Settings{}, false
	}
	p.file.Texts[n.File] = source.SplitLines(text)
	if i := slices.IndexFunc(mods, func(m record.Settings) bool { return m.Name == n.Port }); i >= 0 {
		return mods[i], true
	}
	if len(mods) > 1 {
		var names []string
		for _, m := range mods {
			names = append(names, m.Name)
		}
		p.mistake(at, fmt.Sprintf("%s has the settings of %d modules, and none is called %s", n.File, len(mods), n.Port), source.DidYouMean(n.Port, names))
		return record.Settings{}, false
	}
	return mods[0], true
}

// matches are the settings that are held against what is wanted.
func (p *parser) matches(l *line, n *SettingsMatch, book *phrasebook.Phrasebook, want record.Settings, at Pos) {
	n.Enter = p.statements(l, n.Pos, book.Round.Statements("enter", n.Port))
	place := func(v record.SettingValue) int {
		return slices.IndexFunc(book.Settings, func(s phrasebook.Setting) bool { return s.Name == v.Name })
	}
	slices.SortStableFunc(want.Settings, func(a, b record.SettingValue) int { return place(a) - place(b) })
	for _, v := range want.Settings {
		s, is := book.Setting(v.Name)
		switch {
		case !is:
			p.mistake(at, fmt.Sprintf("%s has no setting %q, which stands in %s", book.File, v.Name, n.File), source.DidYouMean(v.Name, settingNames(book)))
			continue
		case s.Pair == "different":
			n.LeftOut = append(n.LeftOut, s.Name)
			continue
		case s.Secret || !s.Way().Readable():
			p.mistake(at, fmt.Sprintf("%q stands in %s, and cannot be read", v.Name, n.File), "Take it out of the file.")
			continue
		}
		get := &SettingUse{Pos: n.Pos, Port: n.Port, Name: s.Name, Gets: phrasebook.SettingNow}
		get.Body = p.statements(l, n.Pos, s.Way().Statements(p.dialectOf(n.Port), n.Port, phrasebook.SettingNow))
		n.Each = append(n.Each, &MatchOne{get, s, v.Value})
	}
	n.Leave = p.statements(l, n.Pos, book.Round.Statements("leave", n.Port))
	if len(n.Each) == 0 {
		p.mistake(at, n.File+" has no setting that can be held against the module", "What must differ from module to module is left out.")
	}
}
