//go:build unix

package tests

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"uparrot/tests/loopback"
)

// A phrasebook that was begun from a pasted table, from CSV, or from a record can be used as it is: settings
// are read at the real module, a procedure is rehearsed with it, and a stand-in made of it answers.
func TestPhrasebookNew(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "workshop.toml")
	b.start("for other commands", "standin", "larkfell.toml")
	b.write("pasted.txt", "Command             What it does            Values             Factory\nname                a name for people       1-20 characters    siskin\nname <name>         sets it\nspeed               data speed              9600..115200       76800\nspeed <baud>        sets it\nhello               is it there\njoin <address>      joins a peer\n")
	b.write("guide.csv", "Command,Description,Range,Default,Unit,Response\nAT~NODE?,address,,,,~NODE: <address>\nAT~NODE=<address>,address,1 - 65534,,,OK\nAT~CHANNEL=<channel>,radio channel,0 to 79,41,,\nAT~POWER? / AT~POWER=<dBm>,transmitted power,-4..20,14,dBm,~POWER: <dBm>\nAT~SERIAL?,serial number,,,,~SERIAL: <serial>\n")
	b.runWith(nil, "hello\nname\nname ridge\nname\nspeed\nspeed 9600\nspeed 9600\nspeed\n", "talk", "badge", "--bench", "workshop.toml", "--within", "300ms", "--record", "spoken.record").wants(t, 1) // some answers are what was said
	b.write("answers.toml", "\"At which speed, in baud?\" = 19200\n\"What ends a said line: cr, lf, crlf or none?\" = \"cr\"\n\"How does it say no, such as ERR {number:int}? Nothing, if it is not known or ERROR\" = \"no {number:int}\"\n")
	for _, c := range []struct {
		family, port, module string
		args                 []string
		read                 []string
		set                  string
	}{
		{"Siskin", "pager", "workshop.ports/pager", []string{"--table", "pasted.txt", "--answers", "answers.toml", "--yes"}, []string{"data speed", "76800", "name"}, "name = \"ridge\""},
		{"Dunlin", "valley", "larkfell.ports/valley", []string{"--table", "guide.csv", "--yes"}, []string{"address", "radio channel", "41", "transmitted power", "14", "DL-"}, "address = 5"},
		{"Siskin", "badge", "workshop.ports/badge", []string{"--from-record", "spoken.record", "--yes"}, []string{"name", "ridge", "speed", "9600"}, "name = \"tower\""},
	} {
		book := c.port + "-begun.toml"
		made := b.run(append([]string{"phrasebook", "new", c.family, "--out", book}, c.args...)...).wants(t, 0, "taken as proposed", "other command")
		if strings.Contains(made.err, `At which speed, in baud?" =`) && c.port == "pager" {
			t.Errorf("what was answered is told as taken: %s", made.err)
		}
		b.run("check", book).wants(t, 0, "phrasebook of "+c.family)
		b.run("settings", "read", c.module, "--phrasebook", book).wants(t, 0, c.read...)
		b.write("own.parrot", "procedure \"Own\"\nport module: phrasebook \""+book+"\"\nstep \"it is set\" tries 3\n    set module "+c.set+"\nend\n")
		b.run("rehearse", "own.parrot").wants(t, 4, "0 missed", "0 false alarms", "settings")
		b.write(c.port+"-bench.toml", "[port.one]\nphrasebook = \""+book+"\"\n[port.one.standin]\n")
		b.start("for other commands", "standin", c.port+"-bench.toml")
		b.run("settings", "read", "one", "--bench", c.port+"-bench.toml").wants(t, 0, c.read[0])
		b.run("settings", "apply", "one", "--bench", c.port+"-bench.toml", "--set", strings.Replace(strings.ReplaceAll(c.set, "\"", ""), " = ", "=", 1), "--yes").wants(t, 0)
	}
	b.run("phrasebook", "new", "Dunlin", "--table", "guide.csv", "--yes", "--out", "valley-begun.toml").wants(t, 2, "exists")
	b.run("phrasebook", "new", "Dunlin", "--table", "guide.csv", "--yes", "--out", "guide.csv", "--overwrite").wants(t, 2, "guide.csv")
	b.run("phrasebook", "new", "Dunlin", "--table", "guide.csv").wants(t, 2, `nobody answers "How do commands and answers follow each other: at, console or lines?"`, "give --yes")
	b.run("phrasebook", "new", "Dunlin").wants(t, 2, "nothing tells the commands")
	b.run("phrasebook", "new", "Dunlin", "--table", "-").wants(t, 2, "leaves nobody to ask")
	b.run("phrasebook", "new", "Dunlin", "--table", "gude.csv", "--yes").wants(t, 2, `Did you mean "guide.csv"?`)
	b.run("phrasebook", "new", "Dunlin", "--from-record", "guide.csv", "--yes").wants(t, 2, "not a record")
	b.write("wrong.toml", "\"At which speed, in baud?\" = \"fast\"\n")
	b.run("phrasebook", "new", "Dunlin", "--table", "guide.csv", "--yes", "--answers", "wrong.toml").wants(t, 2, `"fast" will not do: a number of baud`)
}

// A module that follows the standards is asked itself; nothing is written to it, and what would act is
// said only after a yes.
func TestPhrasebookAsked(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("modem.toml", "[port.modem]\nspeed = 115200\nending = \"cr\"\ndialect = \"at\"\n[port.modem.standin]\nfamily = \"curlew\"\n")
	b.start("for other commands", "standin", "modem.toml")
	b.write("yes.toml", "\"AT+COPS=? has the module search for networks, which can take minutes. Ask it, yes or no?\" = \"yes\"\n")
	for _, c := range []struct {
		args []string
		asks bool
	}{{nil, false}, {[]string{"--answers", "yes.toml"}, true}} {
		made := b.run(append([]string{"phrasebook", "new", "Curlew", "modem", "--bench", "modem.toml", "--yes", "--out", "curlew-begun.toml", "--overwrite"}, c.args...)...).wants(t, 0, "4 commands by which it tells what it is")
		_, record, _ := strings.Cut(made.err, "record: ")
		record, _, _ = strings.Cut(record, "\n")
		text, err := os.ReadFile(record)
		if err != nil {
			t.Fatal(err)
		}
		if asked := strings.Contains(string(text), "AT+COPS=?"); asked != c.asks {
			t.Errorf("a search for networks was asked for: %v", asked)
		}
		said := regexp.MustCompile(`"kind":"out"[^\n]*"text":"([^"\\]*)`).FindAllStringSubmatch(string(text), -1)
		if len(said) < 15 {
			t.Errorf("only %d commands on record", len(said))
		}
		for _, s := range said {
			if _, value, is := strings.Cut(s[1], "="); is && value != "?" {
				t.Errorf("%s was written", s[1])
			}
		}
	}
	b.run("settings", "read", "modem", "--bench", "modem.toml", "--phrasebook", "curlew-begun.toml").wants(t, 0, "error form", "message format", "line speed", "115200", "serial number")
	b.run("phrasebook", "show", "curlew-begun.toml").wants(t, 0, "error form", "0 to 2", "AT+CMEE={value}")
}

// What a module tells of a key, a PIN or the like is nowhere: not in the record of the asking, on the screen or in
// the phrasebook, also where only the guide calls it a secret, and where the answer comes after its time.
func TestPhrasebookSecret(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	answers := map[string]string{
		"AT": "", "AT+CLAC": "+KEY,+NODE,+PINS", "AT+KEY?": "+KEY: \"gr4nite7\"", "AT+KEY=?": "", "AT+NODE?": "+NODE: 31009", "AT+NODE=?": "+NODE: (1-65534)",
		"AT+LOCK?": "+LOCK: 70417", "AT+LOCK=?": "+LOCK: (0-99999)", "AT+PINS?": "+PINS: 1,\"88412\",\"b4salt\"",
	}
	at := loopback.Serve(t, func(conn net.Conn) {
		lines := bufio.NewScanner(conn)
		lines.Split(func(b []byte, _ bool) (int, []byte, error) {
			if i := bytes.IndexByte(b, '\r'); i >= 0 {
				return i + 1, b[:i], nil
			}
			return 0, nil, nil
		})
		for lines.Scan() {
			answer, known := answers[lines.Text()]
			if !known {
				answer = "ERROR"
			} else if answer += "\r\nOK"; lines.Text() == "AT+LOCK?" {
				time.Sleep(3500 * time.Millisecond) // later than anybody waits
			}
			fmt.Fprintf(conn, "%s\r\r\n%s\r\n", lines.Text(), answer)
		}
	})
	b.write("guide.csv", "command,meaning,range\nAT+LOCK=<n>,code that opens the lid (a PIN),0..99999\n")
	made := b.run("phrasebook", "new", "Auk", "tcp://"+at, "--table", "guide.csv", "--yes", "--out", "auk.toml").wants(t, 0, "Is key, of AT+KEY?, a secret that is shown nowhere")
	_, record, _ := strings.Cut(made.err, "record: ")
	record, _, _ = strings.Cut(record, "\n")
	text, err := os.ReadFile(record)
	if err != nil || !strings.Contains(string(text), "31009") || !strings.Contains(string(text), "AT+PINS?") || !strings.Contains(string(text), "[secret]") {
		t.Fatal(err, string(text))
	}
	for _, v := range []string{"gr4nite7", "70417", "88412", "b4salt"} {
		if strings.Contains(string(text)+made.out+made.err+b.read("auk.toml"), v) {
			t.Errorf("%s is told:\n%s\n%s\n%s", v, made.err, b.read("auk.toml"), text)
		}
	}
}

// A phrasebook as a page in each form, and what changed between two versions of it.
func TestPhrasebookPages(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	files, err := filepath.Glob("../examples/*.toml")
	if err != nil {
		t.Fatal(err)
	}
	shown := 0
	for _, f := range files {
		text := b.read(filepath.Base(f))
		if !strings.Contains(text, "\nfamily = ") || strings.Contains(text, "[port.") {
			continue
		}
		shown++
		for _, as := range []string{"text", "markdown", "html"} {
			c := b.run("phrasebook", "show", filepath.Base(f), "--as", as).wants(t, 0)
			for _, l := range strings.Split(text, "\n") { // each name that stands in it stands on the page
				if name, ok := strings.CutPrefix(l, `name = "`); ok && !strings.Contains(c.out, strings.TrimSuffix(name, `"`)) {
					t.Errorf("%s as %s lacks %s", f, as, name)
				}
			}
			if as == "text" {
				for _, l := range strings.Split(c.out, "\n") {
					if len([]rune(l)) > 130 {
						t.Errorf("%s: a line of %d: %s", f, len(l), l)
					}
				}
			}
		}
	}
	if shown < 8 {
		t.Errorf("only %d phrasebooks", shown)
	}
	b.run("phrasebook", "show", "dunlin.toml", "--as", "html", "--out", "dunlin.html").wants(t, 0)
	if page := b.read("dunlin.html"); !strings.Contains(page, "<code>~CHANNEL: {value:int}</code>") || !strings.Contains(page, "0 to 79") {
		t.Error(page)
	}
	b.run("phrasebook", "show", "dunlin.toml", "--as", "pdf").wants(t, 2, `there is no form "pdf"`)
	b.run("phrasebook", "show", "larkfell.toml").wants(t, 2, "this is a bench, not a phrasebook")

	b.run("phrasebook", "compare", "dunlin.toml", "dunlin.toml").wants(t, 0, "tell the same")
	later := b.read("dunlin.toml")
	for _, change := range [][2]string{{"range = [0, 79]", "range = [0, 99]"}, {"name = \"group\"", "name = \"net\""}, {"33 = \"a value is missing\"\n", ""}, {"say = \"AT&F\"", "say = \"AT&F0\""}} {
		if !strings.Contains(later, change[0]) {
			t.Fatalf("%q is not in dunlin.toml", change[0])
		}
		later = strings.Replace(later, change[0], change[1], 1)
	}
	b.write("later.toml", later)
	b.run("phrasebook", "compare", "dunlin.toml", "later.toml").wants(t, 1, "channel, range: [0, 79], now [0, 99]", "new   net", "gone  group", "meaning.33: \"a value is missing\", now nothing", "new   AT&F0", "gone  AT&F")
	// Whatever is otherwise in the file is told, also what stands on no page.
	for _, change := range [][2]string{{"greatest = 96", "greatest = 97"}, {"allowed = ", "allowed = \"any\" #"}, {"within = \"2s\"", "within = \"3s\""}, {"complete = true", "complete = false"}, {"frame = \"8N1\"", "frame = \"8E1\""}, {"unknown = \"31\"", "unknown = \"32\""}, {"restart = true", "restart = false"}} {
		text := b.read("dunlin.toml")
		if !strings.Contains(text, change[0]) {
			continue // it is not in this one
		}
		b.write("other.toml", strings.Replace(text, change[0], change[1], 1))
		key, _, _ := strings.Cut(change[0], " ")
		b.run("phrasebook", "compare", "dunlin.toml", "other.toml").wants(t, 1, key)
	}
	var all []struct {
		Section, Name, What, Before, After string
		New, Gone                          bool
	}
	if err := json.Unmarshal([]byte(b.run("phrasebook", "compare", "dunlin.toml", "later.toml", "--json").wants(t, 1).out), &all); err != nil || len(all) != 6 {
		t.Errorf("%v %+v", err, all)
	}
}
