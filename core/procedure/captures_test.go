package procedure

import (
	"strings"
	"testing"
)

// Captures that take nothing, line ends that no line holds and names that are functions are told; a count may
// come from the lines above.
func TestCaptureFindings(t *testing.T) {
	for _, c := range []struct{ body, want string }{
		{"hear: mac {mac:word}...\n check mac == \"\"", ""},
		{"hear: {x}...\n check x == \"\"", "4:9: x is always empty"},
		{"hear: {x}{y}\n check x + y == \"\"", "4:9: x is always empty"},
		{"hear: {x} ...\n check x == \"\"", ""},
		{"hear: {}...", ""},
		{"hear bytes: {x}...k\n check x == \"\"", "4:15: x is always empty"},
		{"hear: a{cr}{lf}b", "4:8: no line holds a line end"},
		{"hear: {n:int},{data:bytes(n)}{cr}{lf}\n check data == \"\"", "no line holds a line end"},
		{"hear bytes: a{cr}{lf}b", ""},
		{"hear: length {n:int}\n hear: {data:bytes(n)}\n check data == \"\"", ""},
		{"let n = 3\n hear bytes: {data:bytes(n)};\n check data == \"\"", ""},
		{"hear: {data:bytes(n)}\n check data == \"\"", `4:20: bytes(n) needs an int named "n" captured before it`},
		{"hear: {len:int} {data:bytes(len)}\n check data == \"\"", "len is a word of the language"},
		{"let x = len\n check x == 3", "len is a function, and no value"},
		{"check len == 3", "len is a function, and no value"},
		{"hear: {n:int}\n check len(string(n)) == 3 && abs(n) > 0", ""},
	} {
		f, err := Parse("t", "procedure \"T\"\nport a\nstep \"s\"\n "+c.body+"\nend\n")
		told := ""
		if err != nil {
			told = err.Error()
		} else if len(f.Warnings) > 0 {
			told = f.Warnings.Error()
		}
		if c.want == "" && told != "" || !strings.Contains(told, c.want) {
			t.Errorf("%q: %s, want %q", c.body, told, c.want)
		}
	}
}

// What has no name is a mistake: records and the ledger know it by that.
func TestNameless(t *testing.T) {
	for text, want := range map[string]string{
		"procedure \"\"\nport a\nstep \"s\"\nsay: x\nend\n":    "t:1:11: the title is empty",
		"procedure \" \"\nport a\nstep \"s\"\nsay: x\nend\n":   "t:1:11: the title is empty",
		"procedure \"T\"\nport a\nstep \"\"\nsay: x\nend\n":    "t:3:6: the step's title is empty",
		"procedure \"T\"\nport a\nstep \"\\t\"\nsay: x\nend\n": "",
	} {
		_, err := Parse("t", text)
		if want != "" && (err == nil || !strings.Contains(err.Error(), want)) || want == "" && err != nil {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}
