package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"time"

	"uparrot/core/record"
)

// settings files those of a module.
func (f *Filing) settings(e record.Event) {
	var s record.Settings
	if !f.decode(e, &s) {
		return
	}
	for identity, list := range [][]record.SettingValue{s.Settings, s.Identity} {
		for _, v := range list {
			f.told++
			f.pending = append(f.pending, row{`INSERT INTO settings (run, number, module, family, moment, identity, name, value, why_none, pair, told)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (run, number) DO NOTHING`,
				[]any{f.run.Run, f.told, s.Name, s.Family, s.When, identity, v.Name, v.Value, v.Not, v.Pair, e.Time.UnixMicro()}})
		}
	}
}

// ModuleSettings are the settings of a module as the latest runs that tell of each have left it.
type ModuleSettings struct {
	Unit   string `json:"unit,omitempty"`   // "" if no run named one: it is known by its serial number
	Serial string `json:"serial,omitempty"` // as it says itself
	record.Settings
	Found record.Settings `json:"found"` // each as the first run that tells of it found it
	Run   string          `json:"run"`   // the latest
	// Unsure is a run of the module, after all that tells of its settings or the last that does,
	// which never came to its end: what it left is not known. "" if there is none.
	Unsure string `json:"unsure,omitempty"`

	runUnit string // as the runs have it
}

// oneSettings is what a run tells of a setting of a module.
type oneSettings struct {
	run, unit string
	verdict   string
	began     time.Time
	module    string
	family    string
	moment    string
	identity  bool
	told      time.Time
	record.SettingValue
}

// ModuleSettings are the settings of all modules of which the runs that a filter chooses tell,
// in the order of the first run of each. A module is known by its unit, and by its port too
// where a run of that unit tells of several; without a unit by its serial number. Unknown is how many
// runs tell of modules that have neither.
func (l *Ledger) ModuleSettings(ctx context.Context, f Filter) (list []*ModuleSettings, unknown int, err error) {
	where, values := f.where()
	var run []oneSettings
	known := map[string]*ModuleSettings{}
	end := func() {
		if len(run) > 0 && !addModules(&list, known, run) {
			unknown++
		}
		run = run[:0]
	}
	err = each(ctx, l, scanSetting, func(s oneSettings) error {
		if len(run) > 0 && run[0].run != s.run {
			end()
		}
		run = append(run, s)
		return nil
	}, "SELECT r.run, r.unit, r.verdict, r.began, s.module, s.family, s.moment, s.identity, s.name, s.value, s.why_none, s.pair, s.told FROM settings s JOIN runs r ON r.run = s.run WHERE "+where+" ORDER BY r.began, r.run, s.number", values...)
	end()
	if err != nil {
		return nil, 0, err
	}
	for _, m := range list {
		if m.Unit != "" {
			if err := l.unsure(ctx, m); err != nil {
				return nil, 0, err
			}
		}
	}
	return list, unknown, nil
}

// unsure looks for a run of the module's unit that never ended, later than what is known.
func (l *Ledger) unsure(ctx context.Context, m *ModuleSettings) error {
	return each(ctx, l, scanRun, func(r Run) error { m.Unsure = r.Run; return nil },
		"SELECT "+runColumns+" FROM runs r WHERE r.unit = ? AND r.verdict = ? AND r.began > (SELECT began FROM runs WHERE run = ?) ORDER BY r.began", m.runUnit, Unfinished, m.Run)
}

func scanSetting(rows *sql.Rows) (s oneSettings, err error) {
	var began, told int64
	err = rows.Scan(&s.run, &s.unit, &s.verdict, &began, &s.module, &s.family, &s.moment, &s.identity, &s.Name, &s.Value, &s.Not, &s.Pair, &told)
	s.began, s.told = time.UnixMicro(began).UTC(), time.UnixMicro(told).UTC()
	return s, err
}

// addModules adds what one run tells; false if it tells of a module that nothing names.
func addModules(list *[]*ModuleSettings, known map[string]*ModuleSettings, run []oneSettings) bool {
	serials, modules := map[string]string{}, map[string]bool{}
	for _, s := range run {
		modules[s.module] = true
		if s.identity && record.IsSerial(s.Name) && s.Value != "" {
			serials[s.module] = s.Value
		}
	}
	named := true
	for _, s := range run {
		unit, serial := s.unit, serials[s.module]
		if unit != "" && len(modules) > 1 {
			unit += " " + s.module
		}
		if unit == "" && serial == "" {
			named = false
			continue
		}
		m := known["unit "+unit]
		if m == nil {
			if m = known["serial "+serial]; m != nil && unit != "" && m.Unit != "" && m.Unit != unit {
				m = nil // the same module as another unit: both are told
			}
		}
		if m == nil {
			m = &ModuleSettings{Settings: record.Settings{When: record.AsLeft}, Found: record.Settings{When: record.AsFound}}
			*list = append(*list, m)
		}
		if unit != "" {
			m.Unit, m.runUnit, known["unit "+unit] = unit, s.unit, m
		}
		if serial != "" {
			m.Serial, known["serial "+serial] = serial, m
		}
		m.Name = cmp.Or(m.Unit, m.Serial)
		m.Found.Name = m.Name
		m.Family, m.Found.Family, m.Run, m.Read = s.family, s.family, s.run, s.told
		if m.Unsure = ""; s.verdict == Unfinished {
			m.Unsure = s.run
		}
		m.Add(s.SettingValue, s.identity)
		if _, had := m.Found.Setting(s.Name); !had && s.moment == record.AsFound {
			m.Found.Add(s.SettingValue, s.identity)
			m.Found.Read = s.told
		}
	}
	return named
}
