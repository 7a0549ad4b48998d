package procedure

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Before a port is opened it is told what cannot be: frames that are too short, a login where nothing says what
// asks for it, and what a module is waited for that it never says.
func TestWhatCannotBe(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"rook.toml": "family = \"Rook\"\ndialect = \"lines\"\ncomplete = true\n[banner]\nheard = \"rook up {version}\"\n[refusal]\nheard = [\"no: {number:int}\"]\n[[command]]\nsay = \"lamp {state}\"\nanswer = [\"lamp is {state}\", \"done\"]\n" +
			"[[notice]]\nname = \"wind\"\nheard = \"wind {speed:num} m/s\"\n[[setting]]\nname = \"node\"\ntype = \"int\"\nrange = [1, 99]\nread = \"node?\"\nanswer = \"node = {value:int}\"\nwrite = \"node={value}\"\n[carrier]\nsend = \"tell {to} {payload}\"\narrives = \"told {payload}\"\naddress = \"node\"\ngreatest = 60\n",
		"wren.toml": "family = \"Wren\"\ndialect = \"lines\"\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for header, warned := range map[string]bool{"dialect at": true, "dialect lines": false} {
		f, err := Parse("t", "procedure \"T\"\nport a: "+header+"\ninput name: text = \"a;b\"\ninput other: text = a\nstep \"s\"\nsay a: AT+N={name}{other}\nend\n")
		if err != nil {
			t.Fatal(err)
		}
		told := ""
		if f.Warnings != nil {
			told = f.Warnings.Error()
		}
		if strings.Contains(told, "a ; in name joins commands") != warned || strings.Contains(told, "a ; in other") {
			t.Errorf("%s: %s", header, told)
		}
	}
	const never = "tells of looks like that, and it says that it is complete"
	for _, c := range []struct{ header, body, want string }{
		{"", "link a b count 200 every 1s size 15 loss <= 10%", "a frame of 15 bytes is too short for a: the least is 16"},
		{"", "link a b count 200 every 1s size 16 loss <= 10%", ""}, // the bench may name a phrasebook with a carrier
		{", phrasebook \"wren.toml\"", "link a b count 200 every 1s size 35 loss <= 10%", "a frame of 35 bytes is too short for a: the least is 36"},
		{", phrasebook \"wren.toml\"", "link a b count 200 every 1s size 36 loss <= 10%", ""},
		{", phrasebook \"wren.toml\", frame 7E1", "link a b count 200 every 1s size 16 loss <= 10%", ""},
		{", phrasebook \"rook.toml\"", "link a b count 200 every 1s size 16 loss <= 10%", ""},
		{"", "log in a as \"ops\" with code", "the port does not say what asks for a name"},
		{", login \"login:\", prompt \"#\"", "log in a as \"ops\" with code", "the port does not say what asks for a name"},
		{", login \"login:\", prompt \"#\"", "log in a as \"ops\"", ""},
		{", login \"login:\", password \"code:\", prompt \"#\"", "log in a as \"ops\" with code", ""},
		{", password \"code:\", prompt \"#\"", "log in a with code", ""},
		{", phrasebook \"wren.toml\"", "hear a: anything", ""},
		{", phrasebook \"rook.toml\"", "hear a: anything", never},
		{", phrasebook \"rook.toml\"", "hear a: lamp is on", ""},
		{", phrasebook \"rook.toml\"", "hear a: lamp  is {x}", ""},
		{", phrasebook \"rook.toml\"", "hear a: lantern was on", never},
		{", phrasebook \"rook.toml\"", "hear a: node = {=7}", ""},
		{", phrasebook \"rook.toml\"", "hear a: node =7", ""},
		{", phrasebook \"rook.toml\"", "hear a: nodes = {=7}", never},
		{", phrasebook \"rook.toml\"", "hear a: ...", ""},
		{", phrasebook \"rook.toml\"", "hear a: wind ...", ""},
		{", phrasebook \"rook.toml\"", "hear a: rook up 1.4", ""},
		{", phrasebook \"rook.toml\"", "hear a: no: 7", ""},
		{", phrasebook \"rook.toml\"", "hear a: told hello", ""},
		{", phrasebook \"rook.toml\"", "hear bytes a: is on", ""},
		{", phrasebook \"rook.toml\"", "hear a: /.*/", ""},
		{", phrasebook \"rook.toml\"", "not hear a for 1s: fault", never},
		{", phrasebook \"rook.toml\"", "any\ncase hear a: done\ncase hear a: ready\nend", never},
		{", phrasebook \"rook.toml\"", "hear a: lamp on", ""}, // it may repeat what it is told
		{", phrasebook \"rook.toml\", prompt \"rook>\"", "hear bytes a: rook>", ""},
	} {
		text := "procedure \"T\"\nport a: dialect lines" + c.header + "\nport b\nsecret code\nstep \"s\"\nsay a: lamp on\nsay b: {code}\n" + c.body + "\nend\n"
		f, err := ParseWith(filepath.Join(dir, "t.parrot"), text, nil)
		if err != nil {
			t.Errorf("%s%s: %v", c.header, c.body, err)
			continue
		}
		told := strings.Join(strings.Fields(f.Warnings.Error()), " ")
		if c.want != "" && !strings.Contains(told, c.want) || c.want == "" && (strings.Contains(told, "too short") || strings.Contains(told, "does not say") || strings.Contains(told, never)) {
			t.Errorf("%s / %s: %s, want %q", c.header, c.body, told, c.want)
		}
	}
}
