package session

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/source"
)

// WriteSettings writes the settings of modules as a file of TOML, in the order of their
// phrasebooks, each with what it means.
func WriteSettings(w io.Writer, mods []*Module) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# Settings of modules, as uparrot settings apply and compare read them.\n")
	for _, m := range mods {
		fmt.Fprintf(&b, "\n# %s, read %s\n[%s]\nfamily = %s\n", m.When, m.Read.Format("2006-01-02 15:04:05 -07:00"), tomlKey(m.Name), tomlText(m.Family))
		if len(m.Identity) > 0 {
			fmt.Fprintf(&b, "\n[%s.identity]\n", tomlKey(m.Name))
			for _, v := range m.Identity {
				writeSetting(&b, v, phrasebook.Setting{Type: "text"})
			}
		}
		fmt.Fprintf(&b, "\n[%s.settings]\n", tomlKey(m.Name))
		for _, v := range m.Settings.Settings {
			s := phrasebook.Setting{Type: "text"}
			if m.Book != nil {
				s, _ = m.Book.Setting(v.Name)
				b.WriteString(about(s))
			}
			writeSetting(&b, v, s)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// about is what a setting means, as a comment.
func about(s phrasebook.Setting) string {
	words := s.Meaning
	if len(s.Range) == 2 {
		words += fmt.Sprintf(" (%v to %v)", s.Range[0], s.Range[1])
	}
	if s.Unit != "" {
		words += " in " + s.Unit
	}
	if s.Default != "" {
		words += ", as delivered " + s.Default
	}
	if words = strings.TrimLeft(words, " ,"); words == "" {
		return ""
	}
	return "# " + strings.ReplaceAll(words, "\n", " ") + "\n"
}

// writeSetting writes a value, or why there is none.
func writeSetting(b *strings.Builder, v record.SettingValue, s phrasebook.Setting) {
	if v.Not != "" {
		fmt.Fprintf(b, "# %s: %s\n", tomlKey(v.Name), strings.ReplaceAll(v.Not, "\n", " "))
		return
	}
	value := tomlText(v.Value)
	if _, err := strconv.ParseFloat(v.Value, 64); err == nil && s.Type != "text" {
		value = v.Value
	}
	fmt.Fprintf(b, "%s = %s\n", tomlKey(v.Name), value)
}

// tomlText is text in quotes: those of JSON are TOML's too.
func tomlText(s string) string {
	b, _ := json.Marshal(s) // a text cannot fail
	return strings.ReplaceAll(string(b), "\x7f", `\u007f`)
}

func tomlKey(name string) string {
	if pattern.IsName(name) {
		return name
	}
	return tomlText(name)
}

// ReadSettings reads a file of settings; see [record.ReadSettings].
func ReadSettings(path string) ([]*Module, error) {
	list, _, err := record.ReadSettings(path)
	var mods []*Module
	for _, of := range list {
		mods = append(mods, &Module{Settings: of})
	}
	if _, mistakes := errors.AsType[source.Mistakes](err); err != nil && !mistakes {
		err = misuse("%v", err)
	}
	return mods, err
}

// Kin is whether a module is the one that a file tells of.
type Kin int

// What is known of that.
const (
	Unknown Kin = iota // the file does not say whose it is
	Same
	Another
)

// KinOf holds a module of a file against one that was found: by what both say that they are, else by name.
func KinOf(of, found *Module) Kin {
	for _, v := range of.Identity {
		now, ok := (&record.Settings{Settings: found.Identity}).Setting(v.Name)
		if !ok || v.Not != "" || now.Not != "" || !strings.Contains(strings.ToLower(v.Name), "serial") {
			continue
		}
		if v.Value == now.Value {
			return Same
		}
		return Another
	}
	switch of.Name {
	case "":
		return Unknown
	case found.Name:
		return Same
	}
	return Another
}

// ForModules is what is wanted of a file for the modules that were found: what must differ from module to module
// is left out where the file is of another, unless it was said beside the file. Left tells what was left out, and
// unsure what must differ where the file does not say whose it is, each with its module.
func (w Wanted) ForModules(mods, found []*Module, said map[string]bool) (own Wanted, left, unsure []string) {
	own = Wanted{}
	for _, m := range found {
		own[m.Name] = w.Of(m.Name)
		of := mods[0]
		for _, one := range mods {
			if one.Name == m.Name {
				of = one
			}
		}
		for _, s := range m.Book.Settings {
			to, has := own[m.Name][s.Name]
			now, _ := m.Setting(s.Name)
			if !has || s.Pair != "different" || said[s.Name] || now.Not == "" && s.Same(now.Value, to) {
				continue
			}
			switch KinOf(of, m) {
			case Another:
				delete(own[m.Name], s.Name)
				left = append(left, s.Name+" of "+m.Name)
			case Unknown:
				unsure = append(unsure, s.Name+" of "+m.Name)
			}
		}
	}
	return own, left, unsure
}

// WantedOf is what modules are to have as they have in a file: by the names of the ports, or
// where the file has one module alone for all of them.
func WantedOf(mods []*Module, ports []string) (Wanted, error) {
	w := Wanted{}
	for _, m := range mods {
		name := m.Name
		if len(mods) == 1 && !slices.Contains(ports, name) {
			name = ""
		}
		if name != "" && !slices.Contains(ports, name) {
			continue // of a module that nobody asked for
		}
		w[name] = map[string]string{}
		for _, v := range m.Settings.Settings {
			if v.Not == "" {
				w[name][v.Name] = v.Value
			}
		}
	}
	for _, port := range ports {
		if w[port] == nil && w[""] == nil {
			return nil, misuse("there are no settings for %s in it", port)
		}
	}
	return w, nil
}
