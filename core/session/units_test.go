package session

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uparrot/core/procedure"
)

const unitProcedure = "procedure \"U\"\nport radio: dialect at\nport far: dialect at\ninput address: int 1..99\ninput power: num 0..20 = 14\ninput code: text = \"\"\nstep \"s\"\nsay radio: AT={address},{power},{code}\nsay far: AT\nend\n"

// What a table of units comes to, and all that is wrong with one, in whatever form.
func TestReadUnits(t *testing.T) {
	file, err := procedure.Parse("u.parrot", unitProcedure)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, file, text, want string }{
		{"CSV", "u.csv", "unit,address,code\nLK-1,1,x\nLK-2,2,\"a, b\"\n", "LK-1 1 14 x; LK-2 2 14 a, b"},
		{"of a spreadsheet", "u.csv", "\ufeffunit;address;code\r\nLK-1;1;x\r\n;;\r\nLK-2;2;y\r\n", "LK-1 1 14 x; LK-2 2 14 y"},
		{"TSV", "u.tsv", "unit\taddress\tpower\nLK-1\t1\t7.5\n", "LK-1 1 7.5 "},
		{"JSON Lines", "u.jsonl", "{\"unit\": \"LK-1\", \"address\": 1, \"power\": 7.5}\n\n{\"unit\": \"LK-2\", \"address\": 12345678901234567890}\n", "u.jsonl:3:1: address is a whole number"},
		{"JSON Lines of numbers", "u.jsonl", "{\"unit\": 17, \"address\": 1}\n", "17 1 14 "},
		{"ports", "u.csv", "unit,address,port,port far\nLK-1,1,/dev/ttyUSB0,valley\n", "LK-1 1 14  radio=/dev/ttyUSB0 far=valley"},
		{"no unit column", "u.csv", "address\n1\n", "u.csv:1:1: there is no column unit"},
		{"no rows", "u.csv", "unit,address\n", "there is no row below the head"},
		{"empty", "u.csv", "", "there is no column unit"},
		{"a name is missing", "u.csv", "unit,address\n,1\n", "u.csv:2:1: the unit has no name"},
		{"a value is missing", "u.csv", "unit,address\nLK-1,\n", "u.csv:2:6: address has no value"},
		{"too many values", "u.csv", "unit,address\nLK-1,1,2\n", "u.csv:2:8: the row has 3 values, and the head 2 columns"},
		{"two columns", "u.csv", "unit,address,unit\nLK-1,1,LK-1\n", "u.csv:1:14: there are two columns \"unit\""},
		{"open quotes", "u.csv", "unit,address\n\"LK-1,1\n", "the row cannot be read"},
		{"no JSON", "u.jsonl", "{\"unit\": \"LK-1\", \"address\": 1}\nLK-2\n", "u.jsonl:2:1: the line is no JSON object"},
		{"lost zeros", "u.csv", "unit,address,code\nLK-1,1,0042\nLK-2,2,43\n", "u.csv:3:8: 43 has 2 digits, and others of the column 4"},
		{"no zeros are lost", "u.csv", "unit,address,code\nLK-1,1,142\nLK-2,2,43\n", "LK-1 1 14 142; LK-2 2 14 43"},
		{"shortened", "u.csv", "unit,address,code\nLK-1,1,8.94401E+18\n", "digits of it are lost"},
		{"twice", "u.csv", "unit,address\nLK-1,1\nLK-2,1\nLK-1,3\n", "u.csv:4:1: unit LK-1 stands in line 2 already"},
		{"what must differ", "u.csv", "unit,address\nLK-1,1\nLK-2,1\n", "u.csv:3:6: address 1 stands in line 2 already"},
		{"not UTF-8", "u.csv", "unit,address\nM\xfcller,1\n", "it is not UTF-8"},
	} {
		path := filepath.Join(t.TempDir(), c.file)
		if err := os.WriteFile(path, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		table, err := ReadUnits(path, file, Inputs{}, []string{"address"})
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			var rows []string
			for _, r := range table.Rows {
				row := r.Unit + " " + procedure.Text(r.Values["address"]) + " " + procedure.Text(r.Values["power"]) + " " + procedure.Text(r.Values["code"])
				for _, port := range []string{"radio", "far"} {
					if r.Ports[port] != "" {
						row += " " + port + "=" + r.Ports[port]
					}
				}
				rows = append(rows, row)
			}
			got = strings.Join(rows, "; ")
		}
		if got != c.want && !(err != nil && strings.Contains(strings.Join(strings.Fields(got), " "), c.want)) { // folded, where the path is long
			t.Errorf("%s: %q, wanted %q", c.name, got, c.want)
		}
	}
	path := filepath.Join(t.TempDir(), "u.csv")
	if err := os.WriteFile(path, []byte("unit\nLK-1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if table, err := ReadUnits(path, file, Inputs{Set: []string{"address=5", "power=3"}}, nil); err != nil || table.Rows[0].Values["address"] != 5 || table.Rows[0].Values["power"] != 3.0 {
		t.Errorf("%+v, %v", table, err)
	}
}

// Whatever stands in a table, it is read or refused.
func FuzzReadUnits(f *testing.F) {
	file, err := procedure.Parse("u.parrot", unitProcedure)
	if err != nil {
		f.Fatal(err)
	}
	f.Add("unit,address\nLK-1,1\n", true)
	f.Add("unit;address\r\n\"a\"\"b\";1\r\n", true)
	f.Add("unit,address\n0", true)
	f.Add("{\"unit\": \"x\", \"address\": [1]}\n", false)
	path := filepath.Join(f.TempDir(), "u")
	f.Fuzz(func(t *testing.T, text string, csv bool) {
		name := path + map[bool]string{true: ".csv", false: ".jsonl"}[csv]
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		table, err := ReadUnits(name, file, Inputs{}, nil)
		if err == nil && (len(table.Rows) == 0 || table.Rows[0].Unit == "" || table.Rows[0].Values["address"] == nil) {
			t.Errorf("%q comes to %+v", text, table)
		}
	})
}
