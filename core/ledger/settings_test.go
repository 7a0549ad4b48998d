package ledger

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"uparrot/core/record"
)

// A module is known by its unit, and by its serial number where no unit was named; two that
// may be different ones are never taken for one.
func TestWhichModule(t *testing.T) {
	type told struct{ unit, module, serial, value string }
	for name, c := range map[string]struct {
		runs    [][]told
		want    string
		unknown int
	}{
		"a unit in two runs":                     {[][]told{{{"LK-1", "a", "", "1"}}, {{"LK-1", "b", "", "2"}}}, "LK-1/ 1>2", 0},
		"two units at one port":                  {[][]told{{{"LK-1", "a", "", "1"}}, {{"LK-2", "a", "", "2"}}}, "LK-1/ 1>1, LK-2/ 2>2", 0},
		"by serial number":                       {[][]told{{{"", "a", "S1", "1"}, {"", "b", "S2", "5"}}, {{"", "b", "S1", "2"}}}, "/S1 1>2, /S2 5>5", 0},
		"named later":                            {[][]told{{{"", "a", "S1", "1"}}, {{"LK-1", "a", "S1", "2"}}, {{"LK-1", "a", "", "3"}}}, "LK-1/S1 1>3", 0},
		"read without a unit later":              {[][]told{{{"LK-1", "a", "S1", "1"}}, {{"", "a", "S1", "2"}}}, "LK-1/S1 1>2", 0},
		"one module as two units":                {[][]told{{{"LK-1", "a", "S1", "1"}}, {{"LK-2", "a", "S1", "2"}}}, "LK-1/S1 1>1, LK-2/S1 2>2", 0},
		"a unit whose module was replaced":       {[][]told{{{"LK-1", "a", "S1", "1"}}, {{"LK-1", "a", "S2", "2"}}}, "LK-1/S2 1>2", 0},
		"several modules of one unit":            {[][]told{{{"LK-1", "a", "", "1"}, {"LK-1", "b", "", "2"}}}, "LK-1 a/ 1>1, LK-1 b/ 2>2", 0},
		"the run never ended":                    {[][]told{{{"LK-1", "a", "S1", "1"}}, {{"LK-1", "a", "S1", "never"}}}, "LK-1/S1 1>never not known", 0},
		"and another that did":                   {[][]told{{{"LK-1", "a", "S1", "never"}}, {{"LK-1", "a", "S1", "3"}}}, "LK-1/S1 never>3", 0},
		"neither":                                {[][]told{{{"", "a", "", "1"}}, {{"", "a", "", "2"}}}, "", 2},
		"one that is known, and one that is not": {[][]told{{{"", "a", "S1", "1"}, {"", "b", "", "2"}}}, "/S1 1>1", 1},
	} {
		var list []*ModuleSettings
		known, unknown := map[string]*ModuleSettings{}, 0
		for i, run := range c.runs {
			var all []oneSettings
			for _, one := range run {
				s := oneSettings{run: fmt.Sprint(i), unit: one.unit, module: one.module, family: "Dunlin", moment: record.AsFound, told: time.Unix(int64(i), 0)}
				if one.value == "never" {
					s.verdict = Unfinished
				}
				s.SettingValue = record.SettingValue{Name: "address", Value: one.value}
				all = append(all, s)
				if one.serial != "" {
					s.identity, s.SettingValue = true, record.SettingValue{Name: "Serial number", Value: one.serial}
					all = append(all, s)
				}
			}
			if !addModules(&list, known, all) {
				unknown++
			}
		}
		var got []string
		for _, m := range list {
			found, _ := m.Found.Setting("address")
			left, _ := m.Setting("address")
			got = append(got, m.Unit+"/"+m.Serial+" "+found.Value+">"+left.Value+map[bool]string{true: " not known"}[m.Unsure != ""])
		}
		if text := strings.Join(got, ", "); text != c.want || unknown != c.unknown {
			t.Errorf("%s: %s, %d unknown", name, text, unknown)
		}
	}
}
