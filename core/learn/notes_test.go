package learn

import (
	"fmt"
	"strings"
	"testing"

	"uparrot/core/phrasebook"
	"uparrot/core/record/conversation"
)

// script is a conversation in one line: said lines after >, what came after <.
func script(talks []*conversation.Talk) string {
	var b strings.Builder
	for _, t := range talks {
		fmt.Fprintf(&b, "%s:", t.Name)
		for _, h := range t.First {
			fmt.Fprintf(&b, " <%s", strings.TrimSpace(string(h.Bytes)))
		}
		for _, turn := range t.Turns {
			fmt.Fprintf(&b, " >%s", turn.Text())
			for _, h := range turn.Heard {
				fmt.Fprintf(&b, " <%s@%d", strings.TrimSpace(string(h.Bytes)), h.After.Milliseconds())
			}
		}
		b.WriteString("; ")
	}
	return strings.TrimSuffix(b.String(), "; ")
}

// A list is read however it is written: with marks, in blocks, or bare.
func TestList(t *testing.T) {
	for text, want := range map[string]string{
		"AT\nOK\nat+csq\n+CSQ: 5\nOK\n":              "m: >AT <OK@100 >at+csq <+CSQ: 5@100 <OK@200",
		"# crib\nAT\n\nOK\nfine\n":                   "m: >AT >OK <fine@100",
		"boot\r\n> who\r\n< redshank\r\nboard 3\r\n": "m: <boot >who <redshank@100 <board 3@200",
		"AT\nOK\nAT+CSQ\n+CSQ: 5\nOK\n\nATI\n":       "m: >AT <OK@100 >AT+CSQ <+CSQ: 5@100 <OK@200 >ATI",
		"\n\n":                                       "m:",
		"":                                           "m:",
	} {
		talks, untold := Notes{Port: "m", Setup: phrasebook.Setup{Dialect: phrasebook.AT}}.List(text)
		if got := script(talks); got != want || untold != !strings.Contains(want, "<") {
			t.Errorf("%q is %s (untold %v), want %s", text, got, untold, want)
		}
	}
	talks, untold := Notes{Port: "m"}.List("who\nrelay 1 on\n")
	if got := script(talks); got != "m: >who >relay 1 on" || !untold {
		t.Errorf("a bare list is %s", got)
	}
}

// A log is read by what its columns are said to be; what cannot be read is told by its line.
func TestLog(t *testing.T) {
	for _, c := range []struct{ columns, ways, log, want, err string }{
		{"[{time:word}] {port:word} {way:word}: {text}", "TX,RX", "[23:59:59.900] COM3 TX: hello\nopened\n[00:00:00,400] COM3 RX: siskin 1.7\n[00:00:01,000] COM4 RX: 5\n", "COM3: >hello <siskin 1.7@500; COM4: <5", ""},
		{"{time:word} {way:word} {text}", "out,in", "1.5 out who\n1.75 in board 3\n", "m: >who <board 3@250", ""},
		{"{time:word} {way:word} {text}", ">,<", "23:59:59.9 > a\n00:00:00.1 < b\n00:00:00.05 < c\n23:59:59.9 > d\n00:00:01 < e\n", "m: >a <b@200 <c@200 >d <e@900", ""},
		{"{way:word} {text}", ">,<", "> who\n< board 3\n", "m: >who <board 3@1", ""},
		{"{time:word} {way:word} {text}", "TX,RX", "noon TX who\n", "", `line 1: "noon" is no time`},
		{"{way:word} {text}", "TX,RX", "TX who\nFX ho\n", "", `line 2: "FX" is neither TX nor RX`},
		{"{text}", "TX,RX", "", "", "do not say where way stands"},
		{"{way} {text", "TX,RX", "", "", "not closed"},
		{"{way} {text}", "TX,TX", "", "", "cannot be told from what was heard"},
	} {
		said, heard, _ := strings.Cut(c.ways, ",")
		columns, err := ParseColumns(c.columns, said, heard)
		var talks []*conversation.Talk
		others := 0
		if err == nil {
			talks, others, err = Notes{Port: "m"}.Log(c.log, columns)
		}
		switch {
		case c.err != "":
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %s", c.columns, err, c.err)
			}
		case err != nil || script(talks) != c.want || others != strings.Count(c.log, "opened"):
			t.Errorf("%s: %s, %d others, %v, want %s", c.columns, script(talks), others, err, c.want)
		}
	}
}

// Whatever stands in a list, a procedure is written that is none, or a good one.
func FuzzList(f *testing.F) {
	f.Add("AT\nOK\n", true)
	f.Add("> who\n< board 3\n", false)
	f.Add("a\n\nb\nc\n", false)
	f.Fuzz(func(t *testing.T, text string, at bool) {
		n := Notes{Port: "m"}
		if at {
			n.Setup.Dialect = phrasebook.AT
		}
		talks, untold := n.List(text)
		if text, err := Procedure("p.parrot", "T", "t", Source{Talks: talks, Untold: untold}); err != nil && text != "" {
			t.Errorf("%v in\n%s", err, text)
		}
	})
}
