package perform

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/record"
	"uparrot/core/sim/simtest"
	"uparrot/core/verdict"
)

var conversations = flag.Int("conversations", 2000, "how many conversations TestRandomConversations holds")

// deed is what a random module makes of one command.
type deed struct {
	does  bool          // it obeys; else it refuses
	mute  bool          // it does neither, and says nothing
	after time.Duration // it answers so late
	hears asked         // what the step waits for besides
	shows time.Duration // the line waited for comes so much later
	alarm int           // notices that it sends meanwhile
}

// asked is what a random step waits for besides the end of the answer.
type asked int

const (
	nothingMore asked = iota
	itsLine           // a line of the answer
	itsBytes          // the same, as bytes
	laterLine         // a line after the end of the answer
	farLine           // a line at another port
	askedKinds
)

func randomDeed(dice *rand.Rand) deed {
	d := deed{does: dice.IntN(6) > 0, mute: dice.IntN(12) == 0, hears: asked(dice.IntN(int(askedKinds))), alarm: dice.IntN(3)}
	// What follows a prompt sooner stands on its line: it is no line, unless it is a notice.
	d.shows = time.Duration(60+dice.IntN(2800)) * time.Millisecond
	switch dice.IntN(4) {
	case 0:
		d.after = time.Duration(dice.IntN(1900)) * time.Millisecond
	case 1:
		if dice.IntN(2) == 0 {
			d.after = time.Duration(2100+dice.IntN(5000)) * time.Millisecond
		}
	}
	return d
}

// way is how a random module speaks.
type way struct {
	header, book string
	yes, no, end string // %d is the number of the command
	echo         bool
}

var ways = []way{
	{header: "dialect at, ending cr", book: "[final]\nheard = [\"SENT\"]\n", yes: "\r\nSENT\r\n", no: "\r\n+CME ERROR: %d\r\n", echo: true},
	{header: "dialect console, prompt \"tower:...#\", prompt \"tower>\", ending cr", book: refusing("refused ..."), yes: "done %d\r\n", no: "refused %d\r\n", end: "\x1b[1mtower:\x1b[0m/etc# ", echo: true},
	{header: "dialect at, ending cr", yes: "\r\nOK\r\n", no: "\r\nERROR\r\n"},
	{header: "dialect at, ending cr", yes: "\r\n+RUN: %d\r\n\r\nOK\r\n", no: "\r\nERROR\r\n", echo: true},
	{header: "dialect console, prompt \"tower#\", ending cr", book: refusing("refused ..."), yes: "done %d\r\n", no: "refused %d\r\n", end: "tower# ", echo: true},
	{header: "dialect lines, ending cr", book: "[final]\nheard = [\"DONE ...\"]\n[refusal]\nheard = [\"NAY ...\"]\n", yes: "DONE %d\r\n", no: "NAY %d\r\n"},
}

// A step passes only if the module truly did what it says; a step whose module
// answers within the limits does not fail; no wait is longer than its limits. The
// conversations are random, in simulated time.
func TestRandomConversations(t *testing.T) {
	for seed := range uint64(*conversations) {
		synctest.Test(t, func(t *testing.T) { converse(t, seed) })
		if t.Failed() {
			t.Fatalf("the conversation of seed %d", seed)
		}
	}
}

func converse(t *testing.T, seed uint64) {
	dice := rand.New(rand.NewPCG(seed, 1))
	w := ways[dice.IntN(len(ways))]
	steps := 2 + dice.IntN(5)
	deeds := map[string][]deed{}
	var mu sync.Mutex // the module is a goroutine of its own
	done, said := map[string]string{}, map[string]int{}
	text := "procedure \"R\"\nport dev: " + w.header + "\nport far: dialect lines, ending cr\nkeep going\n\n"
	for i := range steps {
		tries := ""
		if dice.IntN(4) == 0 {
			tries = " tries 2"
		}
		command := fmt.Sprintf("AT+RUN=%d", i)
		deeds[command] = []deed{randomDeed(dice), randomDeed(dice)}
		hears := deeds[command][0].hears
		deeds[command][1].hears = hears
		if tries != "" && !w.echo { // who neither echoes nor answers for so long cannot be told from one that heard nothing
			for j := range deeds[command] {
				deeds[command][j].after %= 1900 * time.Millisecond
			}
		}
		wait := map[asked]string{itsLine: " hear dev: did %d\n", itsBytes: " hear bytes dev: did %d{cr}\n", laterLine: " hear later dev within 6s: told %d\n", farLine: " hear far within 6s: told %d\n"}[hears]
		if wait != "" {
			wait = fmt.Sprintf(wait, i)
		}
		text += fmt.Sprintf("step \"%s\"%s\n say dev: %s\n%send\n", command, tries, command, wait)
	}
	run, modules := staged(t, text, w.book+"[[notice]]\nname = \"alarm\"\nheard = \"* alarm {n:int}\"\n")
	module, far := &noted{ReadWriteCloser: modules[0]}, &noted{ReadWriteCloser: modules[1]}
	shown := map[string]bool{} // the line that the step waits for has been sent
	simtest.Answer(module, func(line string) string {
		n := 0
		fmt.Sscanf(line, "AT+RUN=%d", &n)
		mu.Lock()
		d := deeds[line][min(said[line], 1)]
		said[line]++
		mu.Unlock()
		if w.echo {
			io.WriteString(module, line+"\r\n")
		}
		for i := range d.alarm {
			time.Sleep(d.after / time.Duration(d.alarm+1))
			fmt.Fprintf(module, "* alarm %d\r\n", i)
		}
		time.Sleep(d.after / time.Duration(d.alarm+1))
		out, what := w.no, "refused"
		switch {
		case d.mute:
			out, what = "", "mute"
		case d.does:
			out, what = w.yes, "done"
		}
		mu.Lock()
		if done[line] != "done" { // what was done once is done
			done[line] = what
		}
		mu.Unlock()
		if d.mute {
			return ""
		}
		show := func(to io.Writer, what string) {
			mu.Lock()
			shown[line] = true
			mu.Unlock()
			fmt.Fprintf(to, "%s %d\r\n", what, n)
		}
		if d.does {
			switch d.hears {
			case itsLine, itsBytes:
				show(module, "did")
			case laterLine:
				go func() { time.Sleep(d.shows); show(module, "told") }()
			case farLine:
				go func() { time.Sleep(d.shows); show(far, "told") }()
			}
		}
		if strings.Contains(out, "%d") {
			out = fmt.Sprintf(out, n)
		}
		return out + w.end
	})
	began := time.Now()
	var story strings.Builder // what came and went, for whoever looks into a failure
	tell := func(e record.Event) {
		if e.Kind == record.Said || e.Verdict != "" {
			fmt.Fprintf(&story, "%v %s %s %s %s\n", time.Since(began), e.Kind, e.Text, e.Step, e.Verdict)
		}
	}
	var written bytes.Buffer
	evidence := record.New(&written, record.Origin{})
	run.Events = record.NewStream(evidence, tell)
	res := run.Do(t.Context())
	took := time.Since(began)
	text += story.String() + fmt.Sprint(deeds)
	synctest.Wait()
	mu.Lock()
	held, sent := maps.Clone(done), maps.Clone(shown) // as it was when the run ended
	mu.Unlock()
	time.Sleep(time.Minute)
	synctest.Wait()
	most := time.Duration(0)
	trouble := false // something was late or mute: what follows may be busy
	for _, s := range res.Steps {
		most += time.Duration(s.Tries) * 12 * time.Second
		if s.Verdict == verdict.Passed && held[s.Title] != "done" {
			t.Errorf("%s passed, and the module: %q\n%s", s.Title, held[s.Title], text)
		}
		if s.Verdict == verdict.Passed && deeds[s.Title][0].hears != nothingMore && !sent[s.Title] {
			t.Errorf("%s passed, and the module never sent what it waits for\n%s", s.Title, text)
		}
		for _, d := range deeds[s.Title][:min(max(1, said[s.Title]), 2)] {
			trouble = trouble || d.mute || d.after > 2*time.Second
		}
		if s.Verdict != verdict.Passed && !trouble && held[s.Title] == "done" {
			t.Errorf("%s %s (%s), and the module did it in time\n%s", s.Title, s.Verdict, s.Why, text)
		}
	}
	if err := evidence.Close(); err != nil {
		t.Error(err)
	}
	came := map[string]string{}
	if _, err := record.Read(&written, func(e record.Event) error {
		if e.Kind == record.In {
			b, err := e.Bytes()
			came[e.Port] += string(b)
			return err
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	for name, m := range map[string]*noted{"dev": module, "far": far} { // what comes after the end is nobody's
		if !strings.HasPrefix(m.said(), came[name]) {
			t.Errorf("%s said %q, and came %q\n%s", name, m.said(), came[name], text)
		}
	}
	if took > most {
		t.Errorf("took %v, at most %v was to be waited\n%s", took, most, text)
	}
}

// noted is a module that notes what it says.
type noted struct {
	io.ReadWriteCloser
	mu   sync.Mutex
	text strings.Builder
}

func (n *noted) Write(b []byte) (int, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	k, err := n.ReadWriteCloser.Write(b)
	n.text.Write(b[:k])
	return k, err
}

func (n *noted) said() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.text.String()
}
