//go:build unix

package tests

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"uparrot/core/port"
	"uparrot/core/uart"
)

// board is a module at a pseudo-terminal that keeps what it is told, and can be told another speed. At
// another speed than its own it hears nothing, and nothing that it says can be read.
type board struct {
	name string
	at   *port.Pseudo

	mu     sync.Mutex
	speed  int
	late   time.Duration // before it answers
	kept   map[string]string
	told   []string
	answer map[string]string // to certain lines, in place of its own
}

func (m *board) live() {
	buf, line := make([]byte, 200), ""
	for {
		n, err := m.at.Read(buf)
		if err != nil {
			return
		}
		m.mu.Lock()
		own := uart.Line{Speed: m.speed}
		late := m.late
		m.mu.Unlock()
		came := buf[:n]
		if set, known := m.at.HostLine(); known {
			came, _ = uart.Hear(set, own, came)
		}
		for _, c := range came {
			if c != '\r' {
				line += string([]byte{c})
				continue
			}
			answer, speed := m.take(line)
			line = ""
			time.Sleep(late)
			b := []byte(answer)
			if set, known := m.at.HostLine(); known {
				b, _ = uart.HearChecking(own, set, b)
			}
			m.at.Write(b)
			if speed > 0 {
				time.Sleep(20 * time.Millisecond)
				m.mu.Lock()
				m.speed = speed
				m.mu.Unlock()
			}
		}
	}
}

// take does what a line says, and returns the answer and the speed that it changes to then.
func (m *board) take(line string) (answer string, speed int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.told = append(m.told, line)
	key, value, sets := strings.Cut(line, "=")
	key, asks := strings.CutSuffix(key, "?")
	own, has := m.answer[line]
	switch {
	case has:
		return own, 0
	case line == "who":
		return "board " + m.name + "\r\nok\r\n", 0
	case key == "speed":
		speed, _ = strconv.Atoi(value)
		return "ok\r\n", speed
	case sets:
		m.kept[key] = value
	case asks:
		return key + "=" + m.kept[key] + "\r\nok\r\n", 0
	case line == "list":
		return "cabin 1 empty\r\ncabin 2 full\r\nok\r\n", 0
	case line == "lamp on":
		return "no lamp\r\n", 0
	}
	return "ok\r\n", 0
}

// day is a bench on which a row of the table happens.
type day struct {
	*bench
	t      *testing.T
	boards map[string]*board // by port
	last   call
	record string // of the last run

	meanwhile []func() // what happens during the next run
}

// stepBegun waits until the record of a run that was begun since then has a step: only from there on a time within
// the run means the same on any machine.
func (d *day) stepBegun(since time.Time) {
	for deadline := since.Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		begun := false
		_ = filepath.WalkDir(d.dir, func(path string, e fs.DirEntry, err error) error { // what is taken away meanwhile is none
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".record") {
				return nil
			}
			if info, err := e.Info(); err != nil || info.ModTime().Before(since) {
				return nil
			}
			text, _ := os.ReadFile(path)
			begun = begun || strings.Contains(string(text), `"kind":"step"`)
			return nil
		})
		if begun {
			return
		}
	}
	d.t.Errorf("no step has begun after %v", time.Since(since))
}

// module puts a module behind a port: "PORT NAME [speed=N] [late=T]".
func (d *day) module(words []string) {
	m := &board{name: words[1], speed: 9600, kept: map[string]string{"node": "1", "group": "1"}, answer: map[string]string{}}
	for _, w := range words[2:] {
		key, value, _ := strings.Cut(w, "=")
		switch key {
		case "speed":
			m.speed, _ = strconv.Atoi(value)
		case "late":
			m.late, _ = time.ParseDuration(value)
		default:
			m.kept[key] = value
		}
	}
	d.pull(words[0])
	var err error
	if m.at, err = port.OpenPseudo(); err != nil {
		d.t.Fatal(err)
	}
	if err := os.Symlink(m.at.Path(), filepath.Join(d.dir, words[0])); err != nil {
		d.t.Fatal(err)
	}
	d.boards[words[0]] = m
	go m.live()
}

func (d *day) pull(name string) {
	if m := d.boards[name]; m != nil {
		m.at.Close()
		if err := os.Remove(filepath.Join(d.dir, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			d.t.Fatal(err)
		}
		delete(d.boards, name)
	}
}

// args are the arguments of a run of the day's procedure.
func (d *day) args(more []string) []string {
	args := append([]string{"run", "day.parrot"}, more...)
	for _, name := range []string{"dev", "far"} {
		if strings.Contains(d.read("day.parrot"), "\nport "+name+":") && !strings.Contains(strings.Join(more, " "), "--port "+name) {
			args = append(args, "--port", name+"="+filepath.Join(d.dir, name))
		}
	}
	return args
}

func (d *day) env() []string {
	return []string{"XDG_DATA_HOME=" + filepath.Join(d.dir, "data"), "HOME=" + d.dir}
}

// happen does one line of a row.
func (d *day) happen(line string) {
	verb, rest, _ := strings.Cut(line, " ")
	words := strings.Fields(rest)
	for i, w := range words {
		words[i] = strings.ReplaceAll(w, "$record", d.record) // its path may hold a blank
	}
	switch verb {
	case "module":
		d.module(words)
	case "pull":
		d.pull(rest)
	case "answers": // PORT LINE => TEXT: in place of its own
		name, rest, _ := strings.Cut(rest, " ")
		line, text, _ := strings.Cut(rest, " => ")
		d.boards[name].mu.Lock()
		d.boards[name].answer[line] = strings.ReplaceAll(text, "|", "\r\n") + "\r\n"
		d.boards[name].mu.Unlock()
	case "remove":
		if err := os.RemoveAll(filepath.Join(d.dir, rest)); err != nil {
			d.t.Error(err)
		}
	case "alter": // FILE OLD NEW
		text := d.read(words[0])
		if !strings.Contains(text, words[1]) {
			d.t.Errorf("%s: it is not there", line)
		}
		d.write(words[0], strings.Replace(text, words[1], words[2], 1))
	case "meanwhile": // T ...: while the next run goes on, so long after its first step began
		after, rest, _ := strings.Cut(rest, " ")
		wait, _ := time.ParseDuration(after)
		d.meanwhile = append(d.meanwhile, func() {
			d.stepBegun(time.Now())
			time.Sleep(wait)
			d.happen(rest)
		})
	case "file": // NAME TEXT
		name, text, _ := strings.Cut(rest, " ")
		d.write(name, strings.ReplaceAll(text, "|", "\n")+"\n")
	case "uparrot", "run": // STATUS ARGS...
		args := words[1:]
		if verb == "run" {
			args = d.args(args)
		}
		var others sync.WaitGroup
		for _, do := range d.meanwhile {
			others.Go(do)
		}
		d.meanwhile = nil
		d.last = d.runWith(d.env(), "", args...)
		others.Wait()
		if fmt.Sprint(d.last.status) != words[0] {
			d.t.Errorf("%s: ended with %d:\n%s%s", line, d.last.status, d.last.out, d.last.err)
		}
		if _, path, told := strings.Cut(d.last.err, "\nrecord: "); told {
			path, _, _ = strings.Cut(path, "\n")
			d.record = strings.Replace(path, "~", d.dir, 1)
		}
	case "killed", "interrupted": // T ARGS...: a run that is ended so long after its first step began
		after, _ := time.ParseDuration(words[0])
		began := time.Now()
		cmd, _, _ := d.command(d.args(words[1:])...)
		cmd.Env = append(os.Environ(), d.env()...)
		if err := cmd.Start(); err != nil {
			d.t.Fatal(err)
		}
		d.stepBegun(began)
		time.Sleep(after)
		if verb == "killed" {
			cmd.Process.Kill()
		} else {
			cmd.Process.Signal(os.Interrupt)
		}
		d.last = call{status: d.status(cmd.Wait())}
	case "status":
		if fmt.Sprint(d.last.status) != rest {
			d.t.Errorf("%s: it was %d", line, d.last.status)
		}
	case "pause":
		after, _ := time.ParseDuration(rest)
		time.Sleep(after)
	case "says", "silent": // what is printed
		all := strings.Join(strings.Fields(d.last.out+" "+d.last.err), " ")
		if strings.Contains(all, rest) != (verb == "says") {
			d.t.Errorf("%s: in\n%s%s", line, d.last.out, d.last.err)
		}
	case "told": // PORT LINE|LINE: since the last time
		name, want, _ := strings.Cut(rest, " ")
		m := d.boards[name]
		m.mu.Lock()
		if got := strings.Join(m.told, "|"); got != want {
			d.t.Errorf("%s: was told %s\n%s%s", line, got, d.last.out, d.last.err)
		}
		m.told = nil
		m.mu.Unlock()
	case "ledger": // what the ledger says of runs
		d.happen("uparrot 0 results")
		d.happen("says " + rest)
	default:
		d.t.Fatalf("what is %q", line)
	}
}

// steps are those of the day's procedure: "TITLE OPTIONS: STATEMENT / STATEMENT".
func (d *day) steps(head string, steps []string) {
	text := "procedure \"Gate board\"\nport dev: dialect lines, speed 9600, ending cr, final \"ok\", refusal \"no ...\"\n" + head + "\nanswers within 1s\n"
	for _, s := range steps {
		front, body, _ := strings.Cut(s, ": ")
		title, options, _ := strings.Cut(front, " ")
		text += fmt.Sprintf("step %q %s\n%s\nend\n", title, options, strings.ReplaceAll(body, " / ", "\n"))
	}
	d.write("day.parrot", text)
}

const (
	node  = "input node: int 1..99 = 22"
	who   = "who: say dev: who / hear dev: board {id} / identity id"
	write = "write: say dev: node={node} / say dev: node? / hear dev: node={=node}"
	bye   = "bye always: say dev: bye"
	fast  = "fast: say dev: speed=57600 / hear dev: ok / line dev speed 57600 / pause 100ms"
	list  = "list: say dev: list / hear dev: cabin 3 full"
)

// odd are the rows: what goes on before, within and after a run.
var odd = []struct {
	name  string
	head  string
	steps []string
	does  []string
}{
	{"all is well", node, []string{who, write, bye}, []string{"module dev LK-0017", "run 0 --unit LK-0017", "told dev who|node=22|node?|bye", "ledger LK-0017 Gate board passed"}},
	{"another module is plugged in", node, []string{who, write, bye}, []string{"module dev LK-0018", "run 4 --unit LK-0017", "says the module says that it is LK-0018, and the run is of unit LK-0017", "told dev who|bye", "ledger LK-0017 Gate board untested"}},
	{"another module, and an always step would write to it", node, []string{who, write, "bye always: say dev: node={node}"}, []string{"module dev LK-0018", "run 4 --unit LK-0017", "says it says node of the unit that is meant", "told dev who"}},
	{"another module in a tray", node, []string{who, write, bye}, []string{"module dev LK-0018", "file tray.csv unit,node|LK-0017,22", "run 4 --units tray.csv --next none", "says LK-0017 untested", "told dev who|bye"}},
	{"what failed is done again at the speed of before", "", []string{fast, list}, []string{"module dev LK-0017", "run 1", "told dev speed=57600|list", "run 1 --repeat-failed $record", "says 57600 8N1, as step \"fast\" had set it", "told dev list"}},
	{"... and again", "", []string{fast, list}, []string{"module dev LK-0017", "run 1", "run 1 --repeat-failed $record", "run 1 --repeat-failed $record", "told dev speed=57600|list|list|list"}},
	{"what failed is done again, and the speed was put back", "", []string{fast, list, "slow always: say dev: speed=9600 / hear dev: ok / line dev speed 9600 / pause 100ms"}, []string{"module dev LK-0017", "run 1", "told dev speed=57600|list|speed=9600", "run 2 --repeat-failed $record", "says it was left at 9600 8N1", "says choose step \"fast\" too, or mark it needed", "told dev "}},
	{"a step is still to be done", node, []string{who, "seal: untested \"the seal is not here yet\"", write}, []string{"module dev LK-0017", "run 4 --unit LK-0017", "says the seal is not here yet", "told dev who|node=22|node?", "ledger LK-0017 Gate board untested"}},
	{"... and is done then", "input sealed: int 0..1 = 0", []string{who, "seal: if sealed == 0 / untested \"no seal\" / end / say dev: seal"}, []string{"module dev LK-0017", "run 4 --unit LK-0017", "told dev who", "run 4 --unit LK-0017 --repeat-failed $record", "told dev ", "run 2 --unit LK-0017 --repeat-failed $record --set sealed=1", "says sealed is 1 now, and was 0"}},
	{"a refusal before a step that is still to be done", "", []string{"lamp: say dev: lamp on", "seal: untested \"no seal\""}, []string{"module dev LK-0017", "run 1", "says was refused with no lamp", "told dev lamp on"}},
	{"a station is killed within a unit", node, []string{"long: say dev: node={node} / pause 3s", bye}, []string{"module dev LK-0017", "file tray.csv unit,node|LK-0017,22", "uparrot 0 units load tray.csv", "killed 700ms --units batch:tray --next none --station s1 --lease 1s", "told dev node=22", "run 4 --units batch:tray --next none --station s2 --lease 1s", "says 0 of 0 units passed", "says LK-0017 (s1)", "pause 1200ms", "run 4 --units batch:tray --next none --station s1 --lease 1s", "says 1 unit of the batch broken, and go out again with uparrot units release tray: LK-0017 (s1)", "told dev ", "uparrot 0 units release tray", "run 0 --units batch:tray --next none --station s1", "says 1 of 1 unit passed", "silent of the batch", "told dev node=22|bye"}},
	{"the next module, with the record of the one before", "", []string{who, list}, []string{"module dev LK-0017", "run 1 --unit LK-0017", "module dev LK-0018", "run 2 --unit LK-0018 --repeat-failed $record", "says is of unit LK-0017, and this is LK-0018", "told dev "}},
	{"a folder is named for the record", node, []string{who, write}, []string{"module dev LK-0017", "run 2 --record .", "says --record . is a folder: name a file in it", "told dev "}},
	{"the record is to go where none can", node, []string{who, write}, []string{"module dev LK-0017", "run 2 --record /proc/1/r.record", "told dev ", "run 2 --record nowhere/r.record", "told dev "}},
	{"a folder is named for the ledger", node, []string{who, write}, []string{"module dev LK-0017", "run 2 --ledger .", "says the ledger . is no file", "told dev "}},
	{"a table is named for the ledger", node, []string{who, write}, []string{"module dev LK-0017", "file t.csv unit", "run 2 --ledger t.csv", "says t.csv is no ledger", "told dev "}},
	{"a report is to go where none can", node, []string{who, write}, []string{"module dev LK-0017", "run 2 --out /proc/1/r.txt", "says takes no file", "told dev ", "run 2 --out nowhere/r.txt", "says there is no folder nowhere", "told dev ", "run 2 --metrics /proc/1/m.txt", "told dev "}},
	{"one port is named twice", node, []string{who, write}, []string{"module dev LK-0017", "module far LK-0018", "run 2 --port dev=dev --port dev=far", "says --port: dev is said to be at dev, and at far: give it once", "told dev ", "told far "}},
	{"the last run of another unit", node, []string{who, write}, []string{"module dev LK-0017", "run 0 --unit LK-0017", "module dev LK-0018", "run 0 --unit LK-0018", "uparrot 0 results show last", "says LK-0018", "uparrot 0 results show last --unit LK-0017", "says LK-0017", "silent LK-0018", "uparrot 2 results show last --unit LK-0019", "says no run that these flags choose", "uparrot 2 results show last --verdict failed", "uparrot 2 results show last --procedure Lamp", "uparrot 2 results show last --since 2099-01-01", "uparrot 0 results compare last last --unit LK-0017", "silent LK-0018"}},
	{"what went wrong, as data", node, []string{who, "write: say dev: node=9 / say dev: node? / hear dev: node={=node}"}, []string{"module dev LK-0017", "run 1 --json", `says "wanted": "node=22"`, `says "heard": [ "node=9", "ok" ]`, `says "said": "node?"`, `says "line": `}},
	{"it is pulled out within a step", node, []string{who, "long: say dev: node=5 / pause 2s / say dev: node?", bye}, []string{"module dev LK-0017", "meanwhile 700ms pull dev", "run 3 --unit LK-0017", "says long: line", "ledger LK-0017 Gate board broken"}},
	{"it was pulled out before", node, []string{who, write}, []string{"run 3 --unit LK-0017", "says there is no such port"}},
	{"it answers too late", node, []string{who, write, bye}, []string{"module dev LK-0017 late=1700ms", "run 1 --unit LK-0017", "says wanted board {id}, heard nothing within 1s", "told dev who|bye", "ledger LK-0017 Gate board failed"}},
	{"it answers late, and in time", node, []string{who, write, bye}, []string{"module dev LK-0017 late=400ms", "run 0 --unit LK-0017", "told dev who|node=22|node?|bye"}},
	{"it stores nothing", node, []string{who, write}, []string{"module dev LK-0017", "answers dev node=22 => ok", "run 1 --unit LK-0017", "says wanted node=22, heard node=1", "ledger LK-0017 Gate board failed"}},
	{"it stands at another speed since somebody else was there", node, []string{who, write}, []string{"module dev LK-0017 speed=57600", "run 1 --unit LK-0017", "says wanted board {id}, heard nothing within 1s", "told dev ", "ledger LK-0017 Gate board failed"}},
	{"the ledger is taken away within a run", node, []string{who, "long: pause 1500ms", write}, []string{"module dev LK-0017", "meanwhile 700ms remove data/uparrot", "run 5 --record r.record --unit LK-0017", "says was taken away meanwhile", "told dev who|node=22|node?", "uparrot 0 report r.record --verify"}},
	{"the record's disk is full", node, []string{who, write}, []string{"module dev LK-0017", "run 5 --record /dev/full --unit LK-0017", "says no space left", "told dev who|node=22|node?"}},
	{"the unit was done today", node, []string{who, write}, []string{"module dev LK-0017", "run 0", "run 0", "says LK-0017 has passed this before today", "told dev who|node=22|node?|who|node=22|node?"}},
	{"a tray that goes on", node, []string{who, write}, []string{"module dev LK-0017", "file tray.csv unit,node|LK-0017,22", "run 0 --units tray.csv --next none", "run 0 --units tray.csv --next none --go-on", "says passed on", "told dev who|node=22|node?"}},
	{"a tray that was done already", node, []string{who, write}, []string{"module dev LK-0017", "file tray.csv unit,node|LK-0017,22", "run 0 --units tray.csv --next none", "run 4 --units tray.csv --next none", "says LK-0017 untested", "told dev who|node=22|node?"}},
	{"a tray with one unit twice", node, []string{who, write}, []string{"module dev LK-0017", "file tray.csv unit,node|LK-0017,22|LK-0017,23", "run 2 --units tray.csv --next none", "told dev "}},
	{"a tray with a value that does not fit", node, []string{who, write}, []string{"module dev LK-0017", "file tray.csv unit,node|LK-0017,22|LK-0018,100", "run 2 --units tray.csv --next none", "says 1..99", "told dev "}},
	{"two modules at each other's ports", "port far: dialect lines, speed 9600, ending cr, final \"ok\"", []string{"near: say dev: who / hear dev: board LK-0017", "far: say far: who / hear far: board LK-0018"}, []string{"module dev LK-0018", "module far LK-0017", "run 1", "says wanted board LK-0017, heard board LK-0018", "told dev who", "told far ", "run 0 --port dev=./far --port far=./dev"}},
	{"two ports at one module", "port far: dialect lines, speed 9600, ending cr, final \"ok\"", []string{"near: say dev: who", "far: say far: who"}, []string{"module dev LK-0017", "run 2 --port dev=./dev --port far=./dev", "says are both at", "told dev "}},
	{"a record is there already", node, []string{who, write}, []string{"module dev LK-0017", "run 0 --record r.record", "told dev who|node=22|node?", "run 2 --record r.record", "says a record is never replaced", "told dev ", "run 0 --record r.record --keep-both"}},
	{"a report is there already", node, []string{who, write}, []string{"module dev LK-0017", "run 0 --out r.txt", "told dev who|node=22|node?", "run 2 --out r.txt", "told dev ", "run 0 --out r.txt --overwrite"}},
	{"a run is killed, and done again", node, []string{who, "long: say dev: node=5 / pause 5s", bye}, []string{"module dev LK-0017", "killed 900ms --unit LK-0017", "told dev who|node=5", "ledger LK-0017 Gate board unfinished"}},
	{"what a killed run had not done is repeated", node, []string{who, "long: say dev: node=5 / pause 3s", bye}, []string{"module dev LK-0017", "killed 700ms --unit LK-0017 --record k.record", "told dev who|node=5", "run 0 --unit LK-0017 --repeat-failed k.record", "told dev node=5|bye"}},
	{"a run is interrupted", node, []string{who, "long: say dev: node=5 / pause 5s", write, bye}, []string{"module dev LK-0017", "interrupted 900ms --unit LK-0017", "status 130", "told dev who|node=5|bye", "ledger LK-0017 Gate board broken"}},
	{"a record that was altered", "", []string{list, bye}, []string{"module dev LK-0017", "run 1 --record a.record", "told dev list|bye", "alter a.record cabin cable", "run 2 --repeat-failed a.record", "says is altered", "told dev "}},
	{"other inputs than before", node, []string{who, write, list}, []string{"module dev LK-0017", "run 1", "told dev who|node=22|node?|list", "run 2 --repeat-failed $record --set node=23", "says node is 23 now, and was 22", "told dev "}},
	{"nothing is left to repeat", node, []string{who, write}, []string{"module dev LK-0017", "run 0", "told dev who|node=22|node?", "run 2 --repeat-failed $record", "says every step has passed there", "told dev "}},
	{"from a step on, at the speed of before", "", []string{fast, list}, []string{"module dev LK-0017 speed=57600", "run 1 --from list", "says 57600 8N1, as step \"fast\" had set it", "told dev list"}},
	{"from a step on, at a speed that only a run tells", "", []string{"fast: say dev: rate? / hear dev: rate={rate:int} / line dev speed {rate}", list}, []string{"module dev LK-0017 rate=9600", "run 2 --from list", "says sets dev in a way that only a run tells", "told dev ", "run 1", "told dev rate?|list", "run 1 --from list --from-record $record", "told dev list"}},
}

// The odd end of a day: whatever goes on, the verdict, the status, what the module was told and what the ledger
// says are as they must be.
func TestOddDays(t *testing.T) {
	t.Parallel()
	for _, row := range odd {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			d := &day{bench: &bench{t, t.TempDir()}, t: t, boards: map[string]*board{}}
			defer func() {
				for name := range d.boards {
					d.pull(name)
				}
			}()
			d.steps(row.head, row.steps)
			for _, line := range row.does {
				d.happen(line)
			}
		})
	}
}
