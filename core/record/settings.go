package record

import (
	"slices"
	"strings"
	"time"
)

// AsFound and AsLeft are the moments of which Settings tell.
const (
	AsFound = "as found"
	AsLeft  = "as left"
)

// Secret is why a secret has no value.
const Secret = "a secret"

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
	Pair  string `json:"pair,omitempty"`   // what modules of one system must have: equal, or different; "" for whatever
	Bad   bool   `json:"failed,omitempty"` // it should have one
}

// IsSerial reports whether an identity of this name tells one module from every other.
func IsSerial(name string) bool { return strings.Contains(strings.ToLower(name), "serial") }

// Add puts a value in the place of the one of its name, or behind the others; new is true
// if there was none. An identity is what the module says that it is.
func (s *Settings) Add(v SettingValue, identity bool) (new bool) {
	list := &s.Settings
	if identity {
		list = &s.Identity
	}
	for i := range *list {
		if (*list)[i].Name == v.Name {
			(*list)[i] = v
			return false
		}
	}
	*list = append(*list, v)
	return true
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
