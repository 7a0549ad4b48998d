package perform

import (
	"fmt"
	"io"
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

// liar is a module with one value. It may not store what it says that it has stored, answer late, twice or
// not at all, miss a line, and tell its value by itself.
type liar struct {
	echo   bool
	end    string // behind each answer; "" is none
	prompt bool   // the end is a prompt
	module io.ReadWriteCloser
	far    io.Writer // tells the value when it is asked to
	dice   *rand.Rand

	mu      sync.Mutex
	began   time.Time
	value   int
	history []held // the values that it had
	calm    bool   // it has been in no trouble so far
	doubled bool   // it has answered something twice
	said    int    // lines said to it, and how many it has come to
	got     int
	proved  time.Duration // when it has repeated the line said last and said something behind that; 0 if it has not
}

// held is a value from a time on.
type held struct {
	value int
	from  time.Duration
}

// was reports whether it had a value at some time from then on.
func (l *liar) was(value int, since time.Duration) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i, h := range l.history {
		until := time.Duration(1 << 62)
		if i+1 < len(l.history) {
			until = l.history[i+1].from
		}
		if h.value == value && until >= since {
			return true
		}
	}
	return false
}

func (l *liar) store(value int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.value = value
	l.history = append(l.history, held{value, time.Since(l.began)})
}

// trouble notes that from here on a step may fail although the module means well.
func (l *liar) trouble(doubled bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.calm = false
	l.doubled = l.doubled || doubled
}

// hear answers one line.
func (l *liar) hear(line string) {
	l.got++
	delay, mute, twice := time.Duration(0), false, false
	switch l.dice.IntN(12) {
	case 0:
		l.trouble(false)
		return // it has not heard it
	case 1:
		l.trouble(false)
		mute = true
	case 2:
		l.trouble(false)
		delay = time.Duration(2100+l.dice.IntN(3000)) * time.Millisecond
	case 3:
		l.trouble(true)
		twice = true
	case 4, 5, 6:
		delay = time.Duration(l.dice.IntN(1300)) * time.Millisecond
	}
	if l.echo {
		io.WriteString(l.module, line+"\r\n")
	}
	time.Sleep(delay)
	answer := ""
	var v int
	switch {
	case line == "node?":
		answer = fmt.Sprintf("node=%d\r\n", l.value)
	case line == "tell":
		fmt.Fprintf(l.far, "node=%d\r\n", l.value)
	case strings.HasPrefix(line, "node="):
		if fmt.Sscanf(line, "node=%d", &v); l.dice.IntN(3) > 0 {
			l.store(v)
		} else {
			l.mu.Lock()
			l.calm = l.calm && l.value == v
			l.mu.Unlock()
		}
	}
	if mute {
		return
	}
	io.WriteString(l.module, answer+l.end)
	if l.mu.Lock(); l.echo && answer+l.end != "" && l.proved == 0 && l.got == l.said {
		l.proved = time.Since(l.began)
	}
	l.mu.Unlock()
	if twice {
		time.Sleep(time.Duration(l.dice.IntN(1500)) * time.Millisecond)
		io.WriteString(l.module, answer+l.end)
	}
}

// A step that reads a value back passes only if the module has had that value since the step asked for it:
// always where an echo or the ends of answers make that decidable. Of the others the number is told.
func TestRandomState(t *testing.T) {
	var undecided, asked int
	for seed := range uint64(*conversations) {
		synctest.Test(t, func(t *testing.T) {
			wrong, of := tellState(t, seed)
			undecided, asked = undecided+wrong, asked+of
		})
		if t.Failed() {
			t.Fatalf("the conversation of seed %d", seed)
		}
	}
	t.Logf("where neither an echo nor the ends of answers tell, %d of %d readings passed falsely", undecided, asked)
}

func tellState(t *testing.T, seed uint64) (undecided, asked int) {
	dice := rand.New(rand.NewPCG(seed, 2))
	l := &liar{echo: dice.IntN(2) > 0, dice: rand.New(rand.NewPCG(seed, 3)), value: 1 + dice.IntN(3), calm: true}
	header := "dialect lines, ending cr"
	switch dice.IntN(3) {
	case 0:
		header, l.end = header+", final \"ok\"", "ok\r\n"
	case 1:
		header, l.end, l.prompt = "dialect console, ending cr, prompt \"tower#\"", "tower# ", true
	}
	var b strings.Builder
	fmt.Fprintf(&b, "procedure \"S\"\nport dev: %s\nport far: dialect lines, ending cr\nkeep going\n\n", header)
	var wanted []int
	for i := range 3 + dice.IntN(5) {
		v, tries := 1+dice.IntN(3), ""
		if dice.IntN(3) == 0 {
			tries = " tries 2"
		}
		fmt.Fprintf(&b, "step \"%d\"%s\n", i, tries)
		if dice.IntN(2) == 0 {
			fmt.Fprintf(&b, " say dev: node=%d\nend\n", v)
			wanted = append(wanted, 0)
			continue
		}
		read := []string{"say dev: node?\n hear dev: node={=%d}", "say dev: node?\n hear bytes dev: node={=%d}", "say dev: node?\n collect x from dev until quiet 600ms within 3s\n check x contains \"node=%d\"",
			"say dev: tell\n hear far: node={=%d}", "say dev: node=%d\n say dev: node?\n hear dev: node={=%[1]d}", "say dev: node?\n any\n case hear dev: node={=%d}\n end"}[dice.IntN(6)]
		fmt.Fprintf(&b, " "+read+"\nend\n", v)
		wanted = append(wanted, v)
	}
	text := b.String()
	run, modules := staged(t, text, "")
	l.began = time.Now()
	var mu sync.Mutex
	var story strings.Builder // for whoever looks into a failure
	tell := func(values ...any) {
		mu.Lock()
		defer mu.Unlock()
		fmt.Fprintln(&story, append([]any{time.Since(l.began)}, values...)...)
	}
	l.module, l.far = &telling{modules[0], tell, "dev"}, &telling{modules[1], tell, "far"}
	l.history = []held{{l.value, 0}}
	if l.prompt && dice.IntN(2) == 0 {
		io.WriteString(l.module, "tower# ")
	}
	simtest.Answer(l.module, func(line string) string { l.hear(line); return "" })
	saidAt := map[string]time.Duration{} // when a step said something first
	step := ""
	run.Events = record.NewStream(nil, func(e record.Event) {
		at := time.Since(l.began)
		if e.Kind == record.Step && e.Verdict == "" {
			step = e.Step
		}
		if e.Kind == record.Said {
			l.mu.Lock()
			l.said++
			l.mu.Unlock()
		}
		if _, known := saidAt[step]; e.Kind == record.Said && !known {
			saidAt[step] = at
		}
		if e.Kind != record.Waiting {
			tell(e.Kind, e.Port, e.Text, e.Step, e.Verdict, e.Why)
		}
	})
	res := run.Do(t.Context())
	told := func() string {
		mu.Lock()
		defer mu.Unlock()
		return story.String()
	}
	l.mu.Lock() // the module may be busy still
	doubled, proved, calm := l.doubled, l.proved, l.calm
	l.mu.Unlock()
	for i, s := range res.Steps {
		if wanted[i] == 0 || s.Verdict != verdict.Passed {
			continue
		}
		sure := !doubled && (l.end != "" || proved > 0 && proved < saidAt[s.Title])
		if true := l.was(wanted[i], saidAt[s.Title]); !true && sure {
			t.Errorf("seed %d: %s passed, and the module never had %d since\n%s%s\n%v", seed, s.Title, wanted[i], text, told(), l.history)
		} else if !sure {
			asked++
			if !true {
				undecided++
			}
		}
	}
	if calm { // nothing was late, lost, doubled, mute or untrue: so each step passes that asks for the truth
		for i, s := range res.Steps {
			if wanted[i] == 0 && s.Verdict != verdict.Passed {
				t.Errorf("%s %s: %s\n%s%s", s.Title, s.Verdict, s.Why, text, told())
			}
		}
	}
	modules[0].Close()
	time.Sleep(time.Minute)
	synctest.Wait()
	return undecided, asked
}

// telling is a module that tells what it says.
type telling struct {
	io.ReadWriteCloser
	tell func(...any)
	name string
}

func (m *telling) Write(b []byte) (int, error) {
	m.tell("came", m.name, fmt.Sprintf("%q", b))
	return m.ReadWriteCloser.Write(b)
}
