package perform

import (
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/sim/simtest"
)

var printTable = flag.Bool("habits", false, "print the table of habits as it stands in docs/conversation.md")

// habit is a module with a habit and steps for it: which steps must pass, with which
// words the others fail, what the module must have got, and how long it all takes.
type habit struct {
	name   string
	header string // of the ports dev and far
	book   string // their phrasebook; "" is none
	says   says   // of dev; far says only what stands at "far ..."
	steps  []string
	want   []string // a verdict a step, and words of its reason
	got    string   // lines that dev got, with | between them
	took   time.Duration
}

// says is what a module answers to a line: with {2s} it waits, {line} is what it was
// said, {gone} breaks the connection, and what stands behind || is for the next time. A
// line that does not stand here is answered with what stands at "". What stands at "up"
// is said from the start, and at "bytes X" when X has come, line or not.
type says map[string]string

// text is the procedure of a habit. A step is statements with " / " between them, or
// words of the step's own and a colon before them, such as "tries 2: say dev: go".
func (h habit) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "procedure \"H\"\nport dev: %s\nport far: %s\nkeep going\nsecret code\n\n", h.header, h.header)
	for i, s := range h.steps {
		options := ""
		if front, rest, ok := strings.Cut(s, ": "); ok && (strings.HasPrefix(front, "tries") || front == "always") {
			options, s = " "+front, rest
		}
		fmt.Fprintf(&b, "step \"%c\"%s\n %s\nend\n", 'a'+i, options, strings.ReplaceAll(s, " / ", "\n "))
	}
	return b.String()
}

// actor plays a module.
type actor struct {
	says   says
	prefix string
	module io.ReadWriteCloser
	mu     sync.Mutex
	got    []string
	times  map[string]int
}

func (a *actor) play() {
	a.times = map[string]int{}
	if up, ok := a.says[a.prefix+"up"]; ok {
		a.say(up, "")
	}
	buf, line := make([]byte, 1), ""
	for {
		if _, err := a.module.Read(buf); err != nil {
			return
		}
		if buf[0] != '\r' {
			line += string(buf)
		}
		key, whole := "bytes "+line, buf[0] == '\r'
		if _, ok := a.says[a.prefix+key]; !ok {
			if !whole {
				continue
			}
			if key = line; a.says[a.prefix+key] == "" {
				key = ""
			}
		}
		a.mu.Lock()
		a.got = append(a.got, line)
		turns := strings.Split(a.says[a.prefix+key], "||")
		n := min(a.times[key], len(turns)-1)
		a.times[key]++
		a.mu.Unlock()
		a.say(turns[n], line)
		line = ""
	}
}

// say writes what stands in braces as what it means.
func (a *actor) say(text, line string) {
	for text != "" {
		front, rest, _ := strings.Cut(text, "{")
		word, after, found := strings.Cut(rest, "}")
		io.WriteString(a.module, front)
		if text = after; !found {
			return
		}
		switch d, err := time.ParseDuration(word); {
		case err == nil:
			time.Sleep(d)
		case word == "line":
			io.WriteString(a.module, line)
		case word == "gone":
			a.module.Close()
			return
		}
	}
}

// played is a run of a procedure whose first port is a module that the test plays: it
// answers each line with what answers returns, and may write before that. Other ports
// are silent. The phrasebook may be empty.
func played(t *testing.T, text, book string, answers func(module io.Writer, line string) string) *Run {
	t.Helper()
	run, modules := staged(t, text, book)
	simtest.Answer(modules[0], func(line string) string { return answers(modules[0], line) })
	return run
}

// staged is a run of a procedure and the modules at its ports, which the test plays.
func staged(t *testing.T, text, book string) (*Run, []io.ReadWriteCloser) {
	t.Helper()
	proc, err := procedure.Parse("played.parrot", text)
	if err != nil {
		t.Fatal(err)
	}
	var pb *phrasebook.Phrasebook
	if book != "" {
		if pb, err = phrasebook.Parse("dev.toml", "family = \"Dev\"\n"+book); err != nil {
			t.Fatal(err)
		}
	}
	run := &Run{Procedure: proc, Stations: map[string]*bench.Station{}, Values: map[string]any{"code": "frost"}, Sleep: time.Sleep, Events: record.NewStream(nil)}
	var modules []io.ReadWriteCloser
	for _, decl := range proc.Ports {
		station, module := simtest.Played(decl.Name, decl.Whole(), pb)
		run.Stations[decl.Name] = station
		modules = append(modules, module)
	}
	return run, modules
}

func (h habit) hold(t *testing.T) {
	run, modules := staged(t, h.text(), h.book)
	dev, far := &actor{says: h.says, module: modules[0]}, &actor{says: h.says, prefix: "far ", module: modules[1]}
	go dev.play()
	go far.play()
	began := time.Now()
	res := run.Do(t.Context())
	took := time.Since(began).Round(100 * time.Millisecond)
	time.Sleep(time.Minute) // the module may be busy still
	synctest.Wait()
	for i, s := range res.Steps {
		verdict, words, _ := strings.Cut(h.want[i], " ")
		if string(s.Verdict) != verdict || !strings.Contains(s.Why, words) {
			t.Errorf("step %s: %s: %s, want %s", s.Title, s.Verdict, s.Why, h.want[i])
		}
	}
	if len(res.Steps) != len(h.want) {
		t.Errorf("%d steps, want %d", len(res.Steps), len(h.want))
	}
	dev.mu.Lock()
	defer dev.mu.Unlock()
	if got := strings.Join(dev.got, "|"); got != h.got {
		t.Errorf("the module got %q, want %q", got, h.got)
	}
	if took != h.took {
		t.Errorf("took %v, want %v", took, h.took)
	}
}

// Each habit meets the same performer, in simulated time.
func TestHabits(t *testing.T) {
	for _, group := range habits {
		for _, h := range group.rows {
			t.Run(h.name, func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) { h.hold(t) })
			})
		}
	}
}

// The table in the documentation is this one.
func TestHabitsInDocs(t *testing.T) {
	var b strings.Builder
	n := 0
	for _, group := range habits {
		fmt.Fprintf(&b, "### %s\n\n| what the module does | what must come of it | after |\n|---|---|---|\n", group.title)
		for _, h := range group.rows {
			var want []string
			for i, w := range h.want {
				verdict, words, _ := strings.Cut(w, " ")
				if w = verdict; words != "" {
					w += ": `" + words + "`"
				}
				if len(h.want) > 1 {
					w = fmt.Sprintf("%d %s", i+1, w)
				}
				want = append(want, w)
			}
			fmt.Fprintf(&b, "| %s | %s | %v |\n", h.name, strings.ReplaceAll(strings.Join(want, "; "), "|", `\|`), h.took)
			n++
		}
		b.WriteByte('\n')
	}
	if *printTable {
		fmt.Print(b.String())
	}
	if n < 60 {
		t.Errorf("%d habits, wanted at least 60", n)
	}
	docs, err := os.ReadFile("../../docs/conversation.md")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(docs), strings.TrimSpace(b.String())) {
		t.Error("docs/conversation.md has another table: print it with go test ./core/perform -run HabitsInDocs -args -habits")
	}
}
