package draft

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"uparrot/core/phrasebook"
)

// propose answers each question as proposed, and keeps what was asked.
func propose(asked *[]string) Ask {
	return func(_ context.Context, q Question) (string, error) {
		*asked = append(*asked, q.Text)
		return q.Propose, nil
	}
}

// told is the phrasebook that comes of a table, with what was asked.
func told(t *testing.T, table string) (*phrasebook.Phrasebook, string, []string) {
	t.Helper()
	var asked []string
	entries, err := Table(t.Context(), table, propose(&asked))
	if err != nil {
		t.Fatal(err)
	}
	b, err := Begin(t.Context(), "Dunlin", entries, phrasebook.Setup{Speed: 9600, Ending: phrasebook.CR}, nil, propose(&asked))
	if err != nil {
		t.Fatal(err)
	}
	text, err := b.Text("dunlin.toml")
	if err != nil {
		t.Fatal(err, text)
	}
	pb, err := phrasebook.Parse("dunlin.toml", text)
	if err != nil {
		t.Fatal(err)
	}
	return pb, text, asked
}

// The same table in each form gives the same phrasebook.
func TestTableForms(t *testing.T) {
	rows := [][]string{{"Command", "Description", "Range", "Default", "Response"}, {"AT~NODE?", "address", "", "", "~NODE: <n>"}, {"AT~NODE=<n>", "address", "1..65534", "", "OK"}, {"AT~POWER?", "transmitted power", "", "", "~POWER: <dBm>"}, {"AT~POWER=<dBm>", "transmitted power", "-4 to 20", "14", "OK"}, {"AT&F", "as delivered again", "", "", "OK"}}
	join := func(by string) string {
		var all []string
		for _, r := range rows {
			all = append(all, strings.Join(r, by))
		}
		return strings.Join(all, "\n") + "\n"
	}
	markdown := "What it understands:\n\n| " + strings.Join(rows[0], " | ") + " |\n|---|:--|---|---|---|\n"
	for _, r := range rows[1:] {
		markdown += "| `" + strings.Join(r, "` | `") + "` |\n"
	}
	_, want, _ := told(t, join(","))
	for form, table := range map[string]string{"semicolons": join(";"), "tabs": join("\t"), "markdown": strings.ReplaceAll(markdown, "``", ""), "carriage returns": strings.ReplaceAll(join(","), "\n", "\r\n")} {
		if _, text, _ := told(t, table); text != want {
			t.Errorf("%s:\n%s\nwanted\n%s", form, text, want)
		}
	}
	for _, part := range []string{"range = [1, 65534]", `answer = "~NODE: {value:int}"`, `write = "AT~NODE={value}"`, "range = [-4, 20]", `default = "14"`, "[[command]]\nsay = \"AT&F\"\nmeaning = \"as delivered again\""} {
		if !strings.Contains(want, part) {
			t.Errorf("%q is missing in\n%s", part, want)
		}
	}
}

// Each thing that a guide may say, or leave out: what comes of it, and what is asked.
func TestDoubts(t *testing.T) {
	for name, c := range map[string]struct{ table, has, asks string }{
		"no head":                {"AT~NODE?   the address   ~NODE: <n>\nAT~NODE=<n>   the address   OK\n", `read = "AT~NODE?"`, `What is in column 1, such as "AT~NODE?"`},
		"a column of no meaning": {"Command,Page,Response\nAT~NODE?,7,~NODE: <n>\nAT~NODE=<n>,7,OK\n", `name = "node"`, `What is in the column "Page", such as "7"`},
		"never read":             {"Command,Range\nAT~NODE=<address>,1..9\n", `read = "AT~NODE?"`, "How is address read, which AT~NODE={value} writes"},
		"no answer":              {"Command,Range\nAT~NODE?,\nAT~NODE=<n>,1..9\n", `answer = "~NODE: {value:int}"`, "The answer to AT~NODE?, where {value:int} is the node"},
		"an answer by example":   {"Command,Range,Response\nAT~NODE?,,~NODE: 7\nAT~NODE=<n>,1..9,OK\n", `answer = "~NODE: {value:int}"`, "The answer to AT~NODE?, where {value:int} is the node"},
		"in quotes":              {"Command,Response\nAT~NAME?,\"~NAME: \"\"<name>\"\"\"\n\"AT~NAME=\"\"<name>\"\"\",OK\n", `answer = "~NAME: {value:quoted}"`, ""},
		"no type":                {"Command,Response\nAT~X?,~X: <x>\nAT~X=<x>,OK\n", `type = "text"`, "Is x, of AT~X?, a whole number (int), a number (num) or a text?"},
		"a range in words":       {"Command,Response,Range\nAT~X?,~X: <x>,even numbers\nAT~X=<x>,OK,\n", "", `From what to what may x be? The guide says "even numbers"`},
		"a choice":               {"Command,Response,Range\nAT~X?,~X: <x>,0/1/2\nAT~X=<x>,OK,\n", "range = [0, 2]", ""},
		"a fraction":             {"Command,Response,Range\nAT~X?,~X: <x>,0.5..2.5\nAT~X=<x>,OK,\n", "type = \"num\"\nrange = [0.5, 2.5]", ""},
		"characters":             {"Command,Response,Range\nAT~X?,~X: <x>,up to 16 characters\nAT~X=<x>,OK,\n", "type = \"text\"\nrange = [0, 16]", ""},
		"a default that is none": {"Command,Response,Range,Default\nAT~X?,~X: <x>,1..9,\nAT~X=<x>,OK,,none\n", "type = \"int\"", ""},
		"two commands in a cell": {"Command,Response,Range\nAT~X? / AT~X=<x>,~X: <x>,1..9\n", `write = "AT~X={value}"`, ""},
		"columns of their own":   {"Parameter,Query,Set,Reply,Values\nchannel,CH?,CH <n>,CH <n>,0..79\n", "name = \"channel\"\ntype = \"int\"\nrange = [0, 79]\nread = \"CH?\"\nanswer = \"CH {value:int}\"\nwrite = \"CH {value}\"", ""},
		"several values":         {"Command,Meaning\n\"AT~TELL=<to>,<length>,<text>\",sends\nAT~NODE?,address\n", `say = "AT~TELL={to},{length},{text}"`, ""},
		"what it is":             {"Command,Meaning,Response\nAT~SERIAL?,serial number,~SERIAL: <s>\nAT~VERSION?,firmware version,\n", "[[identity]]\nname = \"serial number\"", "The answer to AT~VERSION?, where {value} is the firmware"},
		"words":                  {"Command           Meaning\nname              the name\nname <name>       sets it\njoin <address>    joins a peer\n", `say = "join {address}"`, "The answer to name {value}, or nothing"},
		"a value without <>":     {"Command,Response,Range\nAT~X?,~X: <x>,\nAT~X=n,OK,1..9\n", `write = "AT~X={value}"`, ""},
	} {
		pb, text, asked := told(t, c.table)
		if !strings.Contains(text, c.has) {
			t.Errorf("%s: %q is missing in\n%s", name, c.has, text)
		}
		if all := strings.Join(asked, "\n"); !strings.Contains(all, c.asks) {
			t.Errorf("%s: %q is not among\n%s", name, c.asks, all)
		}
		if pb.Family != "Dunlin" {
			t.Error(pb.Family)
		}
	}
	for table, want := range map[string]string{"": "there is no table in it", "one,two\n": "no column has commands", "Command,Meaning\n": "the table has no rows"} {
		if _, err := Table(t.Context(), table, func(context.Context, Question) (string, error) { return "nothing", nil }); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", table, err)
		}
	}
	stopped := errors.New("stopped")
	if _, err := Begin(t.Context(), "X", []Entry{{Say: "a"}}, phrasebook.Setup{}, nil, func(context.Context, Question) (string, error) { return "", stopped }); !errors.Is(err, stopped) {
		t.Error(err)
	}
}

// A module is asked, and nothing is written to it; what would do more than tell is asked before.
func TestModule(t *testing.T) {
	module := map[string]string{"AT": "", "AT+CLAC": "AT+CMEE\nAT+COPS\nAT+CREG\nAT+LIST\nAT+LOCKED", "AT+CGMR": "1.7", "AT+CMEE?": "+CMEE: 1", "AT+CMEE=?": "+CMEE: (0-2)", "AT+COPS?": "+COPS: 0", "AT+COPS=?": "+COPS: (1)", "AT+CREG?": "+CREG: 0,1", "AT+CREG=?": "+CREG: (0-2)", "AT+LIST?": "+LIST: 7", "AT+LIST=?": "+LIST: (1,3,7)"}
	for _, yes := range []string{"no", "yes"} {
		var said []string
		tell := func(_ context.Context, s string, _ bool) ([]string, bool, error) {
			said = append(said, s)
			answer, ok := module[s]
			return strings.FieldsFunc(answer, func(r rune) bool { return r == '\n' }), ok, nil
		}
		entries, err := Module(t.Context(), tell, []Entry{{Say: "AT+LIST=<n>"}}, func(_ context.Context, q Question) (string, error) { return yes, nil })
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, e := range entries {
			got += fmt.Sprintf("%s|%s|%s|%s|%s|%s\n", e.Name, e.Read, e.Write, e.Say, e.Answer, e.Range)
		}
		want := "firmware|AT+CGMR|||<value>|\nerror form|AT+CMEE?|AT+CMEE=<value>||+CMEE: <value>|0..2\n"
		if yes == "yes" {
			want += "operator selection|AT+COPS?|AT+COPS=<value>||+COPS: <value>|1..1\n"
		} else {
			want += "|||AT+COPS?|+COPS: <v>|\n"
		}
		want += "|||AT+CREG?|+CREG: <v>,<v>|\n|AT+LIST?|AT+LIST=<value>||+LIST: <value>|1..7\n|||AT+LOCKED||\n"
		if got != want {
			t.Errorf("%s:\n%swanted\n%s", yes, got, want)
		}
		for _, s := range said {
			if head, value, ok := strings.Cut(s, "="); ok && value != "?" || s == "AT+LOCKED" || head == "AT+COPS" && yes == "no" && ok {
				t.Errorf("%q was said", s)
			}
		}
	}
	if _, err := Module(t.Context(), func(context.Context, string, bool) ([]string, bool, error) { return nil, false, nil }, nil, nil); err == nil || !strings.Contains(err.Error(), "does not answer AT") {
		t.Error(err)
	}
}

// Whatever stands in a table, what comes of it is a phrasebook or an error.
func FuzzTable(f *testing.F) {
	for _, table := range []string{"Command,Range,Response\nAT~X?,,~X: <x>\nAT~X=<x>,1..9,OK\n", "| a | b |\n|---|---|\n| AT? | x |\n", "name   x\nname <v>   y\n", "AT\tx\nATI\ty\n"} {
		f.Add(table)
	}
	f.Fuzz(func(t *testing.T, table string) {
		if len(table) > 5000 {
			return
		}
		var asked []string
		entries, err := Table(t.Context(), table, propose(&asked))
		if err != nil {
			return
		}
		b, err := Begin(t.Context(), "Dunlin", entries, phrasebook.Setup{}, nil, propose(&asked))
		if err != nil {
			return
		}
		text, err := b.Text("x.toml")
		if err != nil {
			return // it is refused, and not written
		}
		if _, err := phrasebook.Parse("x.toml", text); err != nil {
			t.Errorf("%v:\n%s", err, text)
		}
	})
}

// What is called a password, a key or a PIN is proposed as a secret; what only sounds like one is not.
func TestSecretsProposed(t *testing.T) {
	for row, want := range map[string]bool{
		"AT~KEY=<key>,network key,8..16 characters":         true,
		"AT~PWD=<value>,of the menu,1..8 characters":        true,
		"AT~LOCK=<pin>,lock of the lid,0..9999":             true,
		"AT~LOCK=<n>,the Wi-Fi passphrase,8..63 characters": true,
		"AT~KEYPAD=<n>,keypad lit,0..1":                     false,
		"AT~PASSES=<n>,passes of the filter,0..7":           false,
		"AT~SPIN=<n>,turns a minute,0..300":                 false,
		"AT~NODE=<n>,address,1..65534":                      false,
	} {
		pb, text, asked := told(t, "Command,Description,Range,Default\n"+row+",7\n")
		if want && strings.Contains(text, "default") {
			t.Errorf("%s: what it is set to is in the file:\n%s", row, text)
		}
		if len(pb.Settings) != 1 || pb.Settings[0].Secret != want || strings.Contains(strings.Join(asked, "\n"), "a secret that is shown nowhere, yes or no?") != want {
			t.Errorf("%s: wanted secret %v:\n%s\n%q", row, want, text, asked)
		}
	}
}
