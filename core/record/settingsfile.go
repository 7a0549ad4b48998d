package record

import (
	"fmt"
	"maps"
	"slices"
	"strconv"

	"uparrot/core/source"
	"uparrot/core/source/toml"
)

// ReadSettings reads a file of settings: those of modules by their names, or, where the file
// has no tables of modules, of one module called "". The text is that of the file.
func ReadSettings(path string) (mods []Settings, text string, err error) {
	read, err := source.ReadFile(path)
	if err != nil {
		return nil, "", err
	}
	text = string(read)
	if m, is := source.Unfit(path, text, source.Settings); is {
		return nil, text, source.Mistakes{m}
	}
	top := map[string]any{}
	if err := toml.Parse(path, text, &top).Mistakes.Err(); err != nil {
		return nil, text, err
	}
	flat := map[string]any{}
	for _, name := range slices.Sorted(maps.Keys(top)) {
		table, ok := top[name].(map[string]any)
		switch {
		case !ok:
			flat[name] = top[name]
		case table["settings"] != nil:
			mod := Settings{Name: name, When: "in " + path}
			mod.Family, _ = table["family"].(string)
			mod.Identity = valuesOf(table["identity"])
			mod.Settings = valuesOf(table["settings"])
			mods = append(mods, mod)
		case name == "settings":
			flat = table
		default:
			return nil, text, fmt.Errorf("%s: the table [%s] has no settings: wanted [%s.settings], or NAME = VALUE without a table", path, name, name)
		}
	}
	if len(mods) == 0 && len(flat) > 0 {
		mods = append(mods, Settings{When: "in " + path, Settings: valuesOf(flat)})
	}
	if len(mods) == 0 {
		return nil, text, fmt.Errorf("%s holds no settings", path)
	}
	return mods, text, nil
}

func valuesOf(table any) []SettingValue {
	values, ok := table.(map[string]any)
	if !ok {
		return nil
	}
	var list []SettingValue
	for _, name := range slices.Sorted(maps.Keys(values)) {
		text := fmt.Sprint(values[name])
		if f, ok := values[name].(float64); ok {
			text = strconv.FormatFloat(f, 'f', -1, 64)
		}
		list = append(list, SettingValue{Name: name, Value: text})
	}
	return list
}
