//go:build unix

package tests

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Steps that are left out give what they gave in an earlier run of the same module, and
// nothing else: each case asks for values that did not come so.
func TestValuesOfAnEarlierRun(t *testing.T) {
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	const text = `procedure "Keep the address"
port radio: phrasebook "dunlin.toml"
input floor: int 0..9 = 0
secret key
step "read"
    say radio: AT~NODE?
    hear radio: ~NODE: {node:int}
    let twice = [node, node + node]
    let code = key + "x"
end
step "power"
    say radio: AT~POWER?
    hear radio: ~POWER: {power:int}
    check power == 99 "more than it has"
end
step "same"
    say radio: AT~NODE?
    hear radio: ~NODE: {now:int}
    check twice[1] == 2 * now + floor
end
step "code"
    check len(code) > 0
end
`
	b.write("keep.parrot", text)
	t.Setenv("UPARROT_KEY", "gr4nite")
	run := func(name string, args ...string) call {
		return b.run(append([]string{"run", "keep.parrot", "--bench", "larkfell.toml", "--record", name + ".record", "--ledger", "l.sqlite", "--ask-for", "0"}, args...)...)
	}
	run("first", "--port", "radio=valley", "--unit", "LK-1").wants(t, 1, "power == 99")
	// Mended, it goes on where it failed.
	b.write("keep.parrot", strings.Replace(text, "== 99", "< 99", 1))
	c := run("second", "--port", "radio=valley", "--unit", "LK-1", "--only", "power", "--only", "same", "--from-record", "first.record")
	c.wants(t, 0, "2 of 2 steps passed, 2 left out", "taken  twice = [1 2], which step \"read\" gave in first.record")
	if strings.Contains(b.read("second.record"), "gr4nite") || strings.Contains(c.err, "gr4nite") {
		t.Error("a secret was told")
	}
	// What a step left out has taken up is taken up from there, too.
	run("third", "--port", "radio=valley", "--unit", "LK-1", "--only", "same", "--from-record", "second.record").wants(t, 0, "which step \"read\" gave in second.record")
	whole := b.read("first.record")
	b.write("altered.record", strings.Replace(whole, `"int":1`, `"int":7`, 1))
	if b.read("altered.record") == whole {
		t.Fatal("nothing was altered")
	}
	for _, refused := range []struct {
		args []string
		want string
	}{
		{[]string{"--port", "radio=valley", "--unit", "LK-1", "--only", "same"}, "name the record of a run in which it passed with --from-record"},
		{[]string{"--port", "radio=valley", "--unit", "LK-2", "--only", "same", "--from-record", "first.record"}, "is of unit LK-1, and this is LK-2"},
		{[]string{"--port", "radio=summit", "--only", "same", "--from-record", "first.record"}, "that it is the same module is told by --unit"},
		{[]string{"--port", "radio=valley", "--unit", "LK-1", "--set", "floor=1", "--only", "same", "--from-record", "first.record"}, "floor is 1 now, and was 0"},
		{[]string{"--port", "radio=valley", "--unit", "LK-1", "--only", "same", "--from-record", "altered.record"}, "altered"},
		{[]string{"--port", "radio=valley", "--unit", "LK-1", "--only", "code", "--from-record", "first.record"}, "does not tell it: it is made of a secret"},
		{[]string{"--port", "radio=valley", "--unit", "LK-1", "--repeat-failed", "first.record", "--plan"}, "it is made of a secret"},
		{[]string{"--port", "radio=valley", "--repeat-failed", "first.record", "--from-record", "first.record"}, "leave out --from-record"},
		{[]string{"--port", "radio=valley", "--from-record", "first.record"}, "say which to perform"},
	} {
		run("refused", refused.args...).wants(t, 2, refused.want)
	}
	if _, err := os.Stat(filepath.Join(b.dir, "refused.record")); err == nil {
		t.Error("a refused run left a record")
	}
	// What failed is repeated with what the others gave.
	plain := strings.Replace(strings.Replace(text[:strings.Index(text, "step \"code\"")], "secret key\n", "", 1), "    let code = key + \"x\"\n", "", 1)
	b.write("keep.parrot", plain)
	run("sixth", "--port", "radio=valley").wants(t, 1, "power == 99")
	b.write("keep.parrot", strings.Replace(plain, "== 99", "< 99", 1))
	run("seventh", "--port", "radio=valley", "--repeat-failed", "sixth.record").wants(t, 0, "2 of 2 steps passed, 1 left out", "which step \"read\" gave in sixth.record")
	// A step that failed there gives nothing here.
	b.write("keep.parrot", strings.Replace(text, "hear radio: ~NODE: {node:int}", "hear radio: ~NODE: {node:int}\n    check node == 5", 1))
	run("fourth", "--port", "radio=valley").wants(t, 1, "node == 5")
	b.write("keep.parrot", text)
	run("fifth", "--port", "radio=valley", "--only", "same", "--from-record", "fourth.record").wants(t, 2, `in fourth.record that step is failed`)
}
