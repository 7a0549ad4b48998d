//go:build unix

package tests

import (
	"strings"
	"testing"
)

// Values without limits, the name that a module gives itself and the inputs of a run stand
// in the account, the record, every report and the ledger, and two units are told apart by
// them.
func TestNotesAndIdentity(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("note.parrot", `procedure "Note it"
port radio: phrasebook "dunlin.toml"
input site: text = lift
step "what it is"
    say radio: ATI
    hear radio: {family:word} {release}
    say radio: AT~POWER?
    hear radio: ~POWER: {power:int}
    note release "firmware"
    note power in dBm "power"
    limit power in 0..20 dBm "power, limited"
    identity "LK-" + site
end
`)
	run := func(record, site string, more ...string) call {
		return b.run(append([]string{"run", "note.parrot", "--bench", "larkfell.toml", "--port", "radio=valley", "--ledger", "l.sqlite", "--record", record, "--set", "site=" + site}, more...)...)
	}
	c := run("one.record", "0041")
	c.wants(t, 0, "note   firmware: ", "note   power: 14 dBm", "note   identity: LK-0041", "power, limited", "measured")
	run("two.record", "0042").wants(t, 0)
	run("wrong.record", "0042", "--unit", "LK-0041").wants(t, 4, "the module says that it is LK-0042, and the run is of unit LK-0041")
	b.run("results", "show", "last", "--ledger", "l.sqlite").wants(t, 0, "unit        LK-0041", "untested")
	b.write("rows.csv", "unit,site,port\nLK-0041,0042,valley\nLK-0043,0043,valley\n")
	b.run("run", "note.parrot", "--units", "rows.csv", "--next", "none", "--bench", "larkfell.toml", "--ledger", "rows.sqlite", "--quiet").wants(t, 4, "LK-0041  untested", "the module says that it is LK-0042", "0 of 2 units passed")
	run("again.record", "0041").wants(t, 0, "LK-0041 has passed this before today")
	b.run("results", "--ledger", "l.sqlite").wants(t, 0, "LK-0041", "LK-0042")
	b.run("results", "show", "last", "--ledger", "l.sqlite").wants(t, 0, "input site", "0041", "firmware", "14 dBm", "unit        LK-0041")
	names := b.names()
	b.run("results", "compare", names[0], names[1], "--ledger", "l.sqlite").wants(t, 0, "different units: LK-0041 and LK-0042", "site", "0041  0042", "identity", "another")
	b.run("results", "trend", "power", "--ledger", "l.sqlite").wants(t, 0, "14 dBm")
	b.run("results", "trend", "firmware", "--ledger", "l.sqlite").wants(t, 2, "firmware")
	b.run("results", "export", "--table", "inputs", "--as", "csv", "--ledger", "l.sqlite").wants(t, 0, "site,0041")
	b.run("results", "export", "--table", "measurements", "--as", "json", "--ledger", "l.sqlite").wants(t, 0, `"text": "LK-0041"`)
	for form, want := range map[string]string{"text": "value   firmware: ", "html": "<td>power</td><td class=\"number\">14 dBm</td>", "junit": "power: 14 dBm: measured", "markdown": "| power | 14 dBm |", "csv": ",power,14,,,dBm,measured"} {
		b.run("report", "one.record", "--as", form).wants(t, 0, want, "LK-0041")
	}
	b.run("report", "one.record", "--verify").wants(t, 0, "whole")
	if rec := b.read("one.record"); !strings.Contains(rec, `"kind":"value"`) || !strings.Contains(rec, `"identity":true`) {
		t.Error("the record has no values")
	}
	// The same record filed anew says the same.
	b.run("results", "add", "one.record", "--ledger", "other.sqlite").wants(t, 0)
	b.run("results", "show", "last", "--ledger", "other.sqlite").wants(t, 0, "LK-0041", "firmware")
}

// names are the runs of the ledger l.sqlite, the earliest first.
func (b *bench) names() (names []string) {
	b.t.Helper()
	for i, row := range strings.Split(b.run("results", "export", "--table", "runs", "--as", "csv", "--ledger", "l.sqlite").wants(b.t, 0).out, "\n") {
		if name, _, ok := strings.Cut(row, ","); ok && i > 0 {
			names = append(names, name)
		}
	}
	return names
}
