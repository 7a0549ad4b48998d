package record

import (
	"slices"
	"time"
)

// SettingsKind is the text of a Result event that tells the settings of a module, a Settings.
const SettingsKind = "settings"

// Settings are those of a module, as they were read.
type Settings struct {
	Name     string         `json:"module"` // of its port, or of the unit
	Family   string         `json:"family"`
	When     string         `json:"when"` // as found, or as left
	Read     time.Time      `json:"read"`
	Identity []SettingValue `json:"identity,omitempty"` // what it says that it is
	Settings []SettingValue `json:"settings"`
}

// SettingValue is one of them.
type SettingValue struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Not   string `json:"not,omitempty"`    // why it has none: it is a secret, it was refused, the firmware has it not
	Bad   bool   `json:"failed,omitempty"` // it should have one
}

// Setting finds a value by its name.
func (s *Settings) Setting(name string) (SettingValue, bool) {
	for _, v := range slices.Concat(s.Identity, s.Settings) {
		if v.Name == name {
			return v, true
		}
	}
	return SettingValue{}, false
}

// Shown is the value, or why there is none.
func (v SettingValue) Shown() string {
	if v.Not != "" {
		return "(" + v.Not + ")"
	}
	return v.Value
}
