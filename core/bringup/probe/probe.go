// Package probe finds out how an unknown module is set: speed, frame and line
// ending. It sends only what it is allowed to and judges what comes back by how
// readable it is.
package probe

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Speeds are those that are tried, the commonest first. No two are so near to
// each other that a receiver could read both.
var Speeds = []int{115200, 9600, 76800, 57600, 38400, 19200, 460800, 230400, 921600, 4800, 2400, 1200, 14400, 28800, 250000, 500000, 1000000, 1500000, 2000000, 300}

// Wake is what is sent unless somebody says otherwise: Enter alone, and AT.
var Wake = []string{"", "AT"}

// answerTime is how long an answer may take to begin, and restTime how long the
// line must be quiet for it to be over; both beside the time on the wire.
const (
	listenTime = 250 * time.Millisecond
	answerTime = 220 * time.Millisecond
	restTime   = 130 * time.Millisecond
)

// Name names a result.
const Name = "probe"

// Kind says what a probe came to.
type Kind string

// What a probe can come to.
const (
	Found   Kind = "found"
	Silence Kind = "silence" // nothing came at all
	Noise   Kind = "noise"   // something came, unreadable at every speed
	Echo    Kind = "echo"    // at every speed exactly what was sent
	Burst   Kind = "burst"   // something came before anything was sent, and nothing after
)

// Result is what a probe found and how sure that is.
type Result struct {
	Port    string             `json:"port"`
	Kind    Kind               `json:"kind"`
	Speed   int                `json:"speed,omitempty"`
	Frame   uart.Frame         `json:"frame"`
	Ending  phrasebook.Ending  `json:"ending,omitempty"`
	Dialect phrasebook.Dialect `json:"dialect,omitempty"`
	Prompt  string             `json:"prompt,omitempty"` // of a console
	Final   string             `json:"final,omitempty"`  // the line of its own that ends each answer
	Verdict verdict.Verdict    `json:"verdict"`          // passed if a setting was found
	Sure    bool               `json:"sure"`
	Why     []string           `json:"why"`               // what speaks for it
	Points  []string           `json:"points"`            // what to look at where nothing was found
	Untried []string           `json:"untried,omitempty"` // what cannot be tried at this port
	Heard   []Heard            `json:"heard"`             // what came at each setting that was tried
	TookMS  float64            `json:"took_ms"`
}

// Line is the speed and frame found; the zero value of a port without a line.
func (r Result) Line() uart.Line { return uart.Line{Speed: r.Speed, Frame: r.Frame} }

// Heard is what came at one setting.
type Heard struct {
	Speed    int     `json:"speed"`
	Sent     string  `json:"sent"` // "" if only listened
	Text     string  `json:"text"`
	Readable float64 `json:"readable"` // share, 0 to 1
}

// Probe probes one port. The port is left set as it was found to be right, or as
// it was last tried.
type Probe struct {
	Port   port.Port
	Wake   []string       // texts that may be sent; nil means the package's Wake
	Speeds []int          // speeds to try; nil means the package's Speeds
	NoLine bool           // the port has no serial line of its own: there are no speeds and frames
	Break  string         // said while a module starts, so that it stops at its prompt; "" says nothing
	Events *record.Stream // told of each try, a Heard, and, sealed, of the result; nil tells nobody

	chunks   *port.Chunks
	result   Result
	patience time.Duration // how long an answer may take to begin

	unasked        bool // something came before anything was sent
	echoes, noises int
	echoed         []uart.Line // where exactly what was sent came back
}

// again is how many of the speeds are tried a second time, with twice the
// patience, where nothing was found: for modules and machines that were busy.
const again = 8

// Run probes. It closes nothing; the port must not be read by anybody else
// until it is closed.
func (p *Probe) Run(ctx context.Context) (Result, error) {
	if p.Wake == nil {
		p.Wake = Wake
	}
	if p.Speeds == nil {
		p.Speeds = Speeds
	}
	if p.NoLine {
		p.Speeds = []int{0}
	}
	began := time.Now()
	p.result = Result{Port: p.Port.Name(), Why: []string{}, Points: []string{}, Heard: []Heard{}}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if p.NoLine {
		p.result.Untried = append(p.result.Untried, "speed and frame: this port has no line of its own; what stands between it and the module has, and sets it")
	}
	p.chunks = port.ReadChunks(ctx, p.Port)
	err := p.search(ctx)
	p.result.TookMS = float64(time.Since(began).Milliseconds())
	switch p.result.Verdict = verdict.Failed; {
	case err != nil:
		p.result.Verdict = verdict.Broken
	case p.result.Kind == Found:
		p.result.Verdict = verdict.Passed
	}
	p.Events.Emit(record.Event{Kind: record.Result, Text: Name, Verdict: p.result.Verdict, Value: p.result})
	return p.result, err
}

// gather collects what comes until the line has rested, at most for a time.
func (p *Probe) gather(ctx context.Context, l uart.Line, most time.Duration) ([]byte, error) {
	var got []byte
	timer := time.NewTimer(most)
	defer timer.Stop()
	limit := time.Now().Add(most + 2*time.Second) // for what never stops
	for {
		select {
		case b, ok := <-p.chunks.C:
			if !ok {
				return got, p.chunks.Err()
			}
			got = append(got, b...)
			rest := max(restTime, l.Time(8))
			if time.Now().After(limit) || len(got) > 16<<10 {
				return got, nil
			}
			timer.Reset(rest)
		case <-timer.C:
			return got, nil
		case <-ctx.Done():
			return got, context.Cause(ctx)
		}
	}
}

// forget throws away what has come and was not gathered.
func (p *Probe) forget() {
	for {
		select {
		case _, ok := <-p.chunks.C:
			if !ok {
				return
			}
		default:
			return
		}
	}
}

// ask sends bytes and returns what came back.
func (p *Probe) ask(ctx context.Context, l uart.Line, send string) ([]byte, error) {
	if _, err := p.Port.Write(ctx, []byte(send)); err != nil {
		return nil, err
	}
	return p.gather(ctx, l, l.Time(len(send)+8)+p.patience)
}

// note keeps what came at a setting.
func (p *Probe) note(l uart.Line, sent string, got []byte) {
	if len(got) == 0 && sent != "" {
		return
	}
	h := Heard{l.Speed, sent, string(got), readable(plain(got))}
	p.result.Heard = append(p.result.Heard, h)
	p.Events.Emit(record.Event{Kind: record.Progress, Live: h})
}

// search goes over the speeds, over the frames where something came, over the commonest
// speeds once more, with more patience and with parity, and listens at last.
func (p *Probe) search(ctx context.Context) error {
	p.patience = answerTime
	found, err := p.pass(ctx, p.lines(p.Speeds, uart.Frame{}), true)
	if !found && err == nil && p.echoes == 0 && !p.NoLine {
		found, err = p.pass(ctx, p.hinted(), false)
	}
	if !found && err == nil && p.echoes == 0 {
		p.patience = 2 * answerTime
		if p.NoLine {
			p.patience = 8 * answerTime // a network may be slow, and this is the only setting
		}
		found, err = p.pass(ctx, p.lines(p.Speeds[:min(again, len(p.Speeds))], uart.Frame{}), false)
	}
	if !found && err == nil && p.echoes == 0 && !p.NoLine {
		p.patience = answerTime
		var parities []uart.Line
		for _, parity := range []uart.Parity{uart.Even, uart.Odd} {
			parities = append(parities, p.lines(p.Speeds[:min(againFrames, len(p.Speeds))], uart.Frame{DataBits: 8, Parity: parity, Stop: 2})...)
		}
		found, err = p.pass(ctx, parities, false)
	}
	if !found && err == nil {
		found, err = p.listen(ctx)
	}
	if !found && err == nil && !p.onlyRepeats() {
		p.lost(p.unasked, p.echoes, p.noises)
	}
	return err
}

// againFrames is how many of the speeds are tried with a parity bit beside eight, where
// nothing at all came: a module may throw away all that comes without.
const againFrames = 5

// lines are speeds with a frame.
func (p *Probe) lines(speeds []int, f uart.Frame) []uart.Line {
	var all []uart.Line
	for _, s := range speeds {
		all = append(all, uart.Line{Speed: s, Frame: f})
	}
	return all
}

// hinted are the speeds at which something came, the most readable first, with each frame
// that may be why it was not readable or no answer.
func (p *Probe) hinted() []uart.Line {
	best := map[int]float64{}
	for _, h := range p.result.Heard {
		if h.Text != "" {
			best[h.Speed] = max(best[h.Speed], h.Readable)
		}
	}
	speeds := slices.SortedFunc(maps.Keys(best), func(a, b int) int { return cmp.Or(cmp.Compare(best[b], best[a]), cmp.Compare(a, b)) })
	var all []uart.Line
	for _, s := range speeds[:min(mostHints, len(speeds))] {
		for _, f := range frames {
			all = append(all, uart.Line{Speed: s, Frame: f})
		}
	}
	return all
}

// mostHints is at how many speeds the frames are tried.
const mostHints = 4

// frames are those beside 8N1.
var frames = []uart.Frame{{DataBits: 8, Parity: uart.Even, Stop: 2}, {DataBits: 8, Parity: uart.Odd, Stop: 2}, {DataBits: 7, Parity: uart.Even, Stop: 2}, {DataBits: 7, Parity: uart.Odd, Stop: 2}, {DataBits: 7, Parity: uart.None, Stop: 4}}

// A module that speaks by itself is listened to at each speed for at most listenLong, or
// until enough has come to judge.
const (
	listenLong   = 1300 * time.Millisecond
	listenEnough = 40 // bytes
)

// listen stays at each speed for a while, where something came that nobody had asked for.
func (p *Probe) listen(ctx context.Context) (bool, error) {
	if !p.unasked && p.noises == 0 {
		return false, nil
	}
	for _, l := range p.lines(p.Speeds, uart.Frame{}) {
		if p.NoLine {
			l = uart.Line{}
		} else if err := p.Port.SetLine(l); err != nil {
			continue // it was tried before
		}
		if err := p.Port.Purge(); err != nil {
			return false, err
		}
		p.forget()
		var got []byte
		for until := time.Now().Add(listenLong); time.Now().Before(until) && len(got) < listenEnough; {
			more, err := p.gather(ctx, l, time.Until(until))
			if err != nil {
				return false, err
			}
			got = append(got, more...)
		}
		p.note(l, "", got)
		if text, frame := unframed(got); len(bytes.TrimSpace(text)) >= 6 && readable(text) >= 0.95 && bytes.ContainsAny(text, "\r\n") {
			r := &p.result
			r.Kind, r.Speed, r.Dialect = Found, l.Speed, phrasebook.Lines
			if !p.NoLine {
				r.Frame = uart.Frame{DataBits: 8, Parity: uart.None, Stop: 2}
				if frame.DataBits != 0 {
					r.Frame = frame
				}
				l.Frame = r.Frame
				if err := p.Port.SetLine(l); err != nil {
					return true, err
				}
			}
			r.Sure = len(text) >= listenEnough && readable(text) >= 0.98
			p.because("it speaks by itself: %s", oneLine(string(text)))
			p.because("it answered nothing that was sent, so the line ending that it wants is not known")
			return true, nil
		}
	}
	return false, nil
}

// onlyRepeats reports whether exactly what was sent came back at one speed alone, which a
// module does, and no wire.
func (p *Probe) onlyRepeats() bool {
	speeds := map[int]bool{}
	for _, l := range p.echoed {
		speeds[l.Speed] = true
	}
	if len(speeds) != 1 || len(p.Speeds) < 2 || p.NoLine {
		return false
	}
	r := &p.result
	r.Kind, r.Speed, r.Frame, r.Dialect = Found, p.echoed[0].Speed, uart.Frame{DataBits: 8, Parity: uart.None, Stop: 2}, phrasebook.Lines
	p.because("at this speed alone exactly what was sent came back: a wire that joins TX and RX would do so at every speed")
	p.because("it answered nothing, so the line ending that it wants is not known")
	return true
}

// asked is what is sent for a text that may be sent. A module that ends its lines at CR has
// kept the LF of whatever was sent before: a CR of its own takes that away.
func asked(wake string) string { return "\r" + wake + "\r\n" }

// pass asks at each speed, after listening once.
func (p *Probe) pass(ctx context.Context, lines []uart.Line, first bool) (bool, error) {
	for _, l := range lines {
		if p.NoLine {
			l = uart.Line{}
		} else if err := p.Port.SetLine(l); err != nil {
			if port.KindOf(err) == port.Vanished || port.KindOf(err) == port.Closed {
				return false, err
			}
			continue // this port cannot do that speed
		}
		if !first { // what came at the speed before says nothing about this one
			if err := p.Port.Purge(); err != nil {
				return false, err
			}
			p.forget()
		}
		if first {
			first = false
			got, err := p.gather(ctx, l, listenTime)
			if err != nil {
				return false, err
			}
			p.note(l, "", got)
			p.unasked = len(got) > 0
			if p.Break != "" {
				if err := p.interrupt(ctx, l, got); err != nil {
					return false, err
				}
			}
			if noise, banner := banner(got); banner != "" && noise > 0 {
				p.because("before anything was sent came %d unreadable bytes, as a boot loader sends them, then a banner: %s", noise, oneLine(banner))
			} else if banner != "" {
				p.because("before anything was sent came %s", oneLine(banner))
			}
		}
		for _, w := range p.Wake {
			send := asked(w)
			got, err := p.ask(ctx, l, send)
			if err != nil {
				return false, err
			}
			p.note(l, send, got)
			switch {
			case len(got) == 0:
			case string(got) == send:
				p.echoes++
				p.echoed = append(p.echoed, l)
			case p.likely(l, send, got):
				found, err := p.confirm(ctx, l, w)
				if found && err == nil && (!p.result.Sure || p.doubtful(l)) && p.result.Frame.Filled() == (uart.Frame{}).Filled() && l.Frame.DataBits == 0 && !p.NoLine {
					return true, p.surer(ctx, l)
				}
				if found || err != nil {
					return found, err
				}
				p.noises++
			default:
				p.noises++
			}
			if len(got) == 0 && w != "" {
				continue
			}
		}
		if p.echoes >= 2*len(p.Wake) && p.echoed[0].Speed != l.Speed {
			break // at two speeds exactly what was sent: no module is that quick to change
		}
	}
	return false, nil
}

// doubtful reports whether something at a speed could not be read, although most can.
func (p *Probe) doubtful(l uart.Line) bool {
	return slices.ContainsFunc(p.result.Heard, func(h Heard) bool { return h.Speed == l.Speed && h.Text != "" && h.Readable < 0.95 })
}

// surer looks whether another frame at the same speed makes it sure, or more of it readable:
// what is read with a wrong one may look like a few letters of an answer.
func (p *Probe) surer(ctx context.Context, l uart.Line) error {
	best, most := p.result, p.legible(l, 0)
	if p.result.Sure {
		most++
	}
	for _, f := range frames {
		from := len(p.result.Heard)
		p.result.Kind, p.result.Why, p.result.Prompt, p.result.Final = "", []string{}, "", ""
		found, err := p.pass(ctx, []uart.Line{{Speed: l.Speed, Frame: f}}, false)
		if err != nil {
			return err
		}
		share := p.legible(l, from)
		if p.result.Sure && found {
			share++
		}
		if found && share > most {
			best, most = p.result, share
		}
		if most == 2 {
			break
		}
	}
	best.Heard = p.result.Heard
	p.result = best
	return p.Port.SetLine(best.Line())
}

// legible is how readable what came at a speed was, on average, from a place in what was
// heard on.
func (p *Probe) legible(l uart.Line, from int) float64 {
	sum, n := 0.0, 0
	for _, h := range p.result.Heard[from:] {
		if h.Speed == l.Speed && h.Text != "" {
			sum, n = sum+h.Readable, n+1
		}
	}
	return sum / float64(max(1, n))
}

// likely reports whether an answer is worth a second question.
func (p *Probe) likely(l uart.Line, sent string, got []byte) bool {
	text, _ := unframed(got)
	text = withoutEcho(plain(text), sent)
	return len(bytes.TrimSpace(text)) >= 2 && readable(text) >= 0.9
}

// confirm asks again at a setting that has given a readable answer, finds the
// frame and the line ending, and says how sure all of it is.
func (p *Probe) confirm(ctx context.Context, l uart.Line, wake string) (bool, error) {
	send := asked(wake)
	got, err := p.ask(ctx, l, send)
	if err != nil {
		return false, err
	}
	p.note(l, send, got)
	frame := l.Frame
	if frame.DataBits == 0 {
		frame = uart.Frame{DataBits: 8, Parity: uart.None, Stop: 2}
	}
	if !p.likely(l, send, got) {
		return false, nil
	}
	if p.NoLine {
		frame = uart.Frame{}
	} else if _, seen := unframed(got); seen.DataBits != 0 {
		frame, l.Frame = seen, seen
		if err := p.Port.SetLine(l); err != nil {
			return false, err
		}
		if got, err = p.ask(ctx, l, send); err != nil {
			return false, err
		}
		p.note(l, send, got)
		if readable(got) < 0.95 {
			return false, nil
		}
		what := map[uart.Parity]string{uart.Even: "the even parity of the other seven", uart.Odd: "the odd parity of the other seven", uart.None: "set, as a second stop bit is"}[seen.Parity]
		p.because("the eighth bit of every byte was %s; with %s the answer is plain", what, frame)
	} else if l.Frame.DataBits != 0 {
		p.because("with %s it answers, and with 8N1 it did not", frame)
	}
	ending, err := p.ending(ctx, l, wake)
	for i := 0; i < len(p.Wake) && err == nil && wake == "" && ending == phrasebook.CRLF; i++ {
		// What answered Enter may have been the LF of the line before: other words tell.
		if other := p.Wake[i]; other != "" {
			var by phrasebook.Ending
			if by, err = p.ending(ctx, l, other); by != phrasebook.CRLF && err == nil {
				p.result.Why = p.result.Why[1:]
				wake, ending = other, by
				send = wake + ending.Bytes()
				got, err = p.ask(ctx, l, send)
			}
		}
	}
	if err != nil {
		return false, err
	}
	text := string(withoutEcho(plain(got), send))
	r := &p.result
	r.Kind, r.Speed, r.Frame, r.Ending = Found, l.Speed, frame, ending
	r.Dialect = phrasebook.Lines
	share := readable([]byte(text))
	prompt := lastPart(got)
	switch {
	case prompt != "":
		p.because("the answer ends with %s and no line end, as a prompt does", oneLine(prompt))
	case isResult(lastLine(text)):
		r.Dialect = phrasebook.AT
		p.because("the answer ends with a final result as ITU-T V.250 has it: %s", oneLine(lastLine(text)))
	case strings.Contains(text, strings.TrimSpace(wake)) && wake != "":
		p.because("the answer takes up what was sent")
	}
	p.because("%.0f %% of the answer is readable text: %s", 100*share, oneLine(text))
	if prompt == "" && r.Dialect == phrasebook.Lines {
		if err := p.final(ctx, l, wake, lastLine(text)); err != nil {
			return true, err
		}
	}
	return true, p.certainty(ctx, l, wake, got, prompt)
}

// certainty asks once more, with exactly what was found, and listens before that for as
// long without asking: whoever talks by itself has not answered. got is the answer that
// is to be compared, prompt what it ended with.
func (p *Probe) certainty(ctx context.Context, l uart.Line, wake string, got []byte, prompt string) error {
	r := &p.result
	send := wake + r.Ending.Bytes()
	unasked, err := p.gather(ctx, l, l.Time(len(send)+8)+p.patience)
	if err != nil {
		return err
	}
	p.note(l, "", unasked)
	again, err := p.ask(ctx, l, send)
	if err != nil {
		return err
	}
	p.note(l, send, again)
	if prompt != "" && lastPart(again) == prompt {
		r.Dialect, r.Prompt = phrasebook.Console, prompt
	}
	once, twice := withoutEcho(plain(got), wake), withoutEcho(plain(again), wake)
	both := func(what string) bool {
		return what != "" && bytes.Contains(once, []byte(what)) && bytes.Contains(twice, []byte(what))
	}
	takesUp := both(wake) || both("OK")
	same := len(bytes.TrimSpace(twice)) > 0 && readable(plain(again)) >= 0.95
	r.Sure = same && (len(unasked) == 0 || takesUp) && readable(once) >= 0.95 && len(bytes.TrimSpace(once)) >= 2 && bytes.ContainsAny(got, "\r\n")
	switch by := oneLine(string(plain(unasked))); {
	case len(unasked) > 0 && takesUp:
		p.because("it sends by itself too, such as %s, but each answer takes up what was asked", by)
	case len(unasked) > 0:
		r.Ending = phrasebook.EndingNotSaid
		r.Why = slices.DeleteFunc(r.Why, func(why string) bool { return strings.HasPrefix(why, answersLine) })
		p.because("it sends by itself: %s came although nothing was asked, so what came when it was asked need not be an answer", by)
	case same:
		p.because("asked once more with this setting it answered once more, and between nothing came")
	}
	return nil
}

// answersLine begins what speaks for a line ending.
const answersLine = "it answers a line"

// endingTries is how often in a row a line ending must be answered.
const endingTries = 2

// ending finds out which line ending the module takes for the end of a line.
func (p *Probe) ending(ctx context.Context, l uart.Line, wake string) (phrasebook.Ending, error) {
	// A module that ends its lines at CR has kept the LF of the CR LF that was sent: it must
	// not stand before the next line, nor stay behind.
	if _, err := p.ask(ctx, l, "\r"); err != nil {
		return 0, err
	}
	for _, name := range []phrasebook.Ending{phrasebook.CR, phrasebook.LF} {
		answers := 0
		for answers < endingTries { // one may be what it sends by itself
			got, err := p.ask(ctx, l, wake+name.Bytes())
			if err != nil {
				return 0, err
			}
			p.note(l, wake+name.Bytes(), got)
			if text := withoutEcho(plain(got), wake); len(bytes.TrimSpace(text)) == 0 {
				break
			}
			answers++
		}
		if answers == endingTries {
			p.because(answersLine+" that ends with %s", strings.ToUpper(name.String()))
			return name, nil
		}
		// Clear away what it has taken as the beginning of a line.
		if _, err := p.ask(ctx, l, "\r\n"); err != nil {
			return 0, err
		}
	}
	p.because(answersLine + " that ends with CR LF, but not with either alone")
	return phrasebook.CRLF, nil
}

// final looks whether answers with other lines before them end with the same line: then
// that is what ends answers.
func (p *Probe) final(ctx context.Context, l uart.Line, wake, end string) error {
	for _, other := range p.Wake {
		if other == wake || other == "" {
			continue
		}
		got, err := p.ask(ctx, l, other+p.result.Ending.Bytes())
		if err != nil {
			return err
		}
		p.note(l, other, got)
		break
	}
	before := map[string]bool{}
	for _, h := range p.result.Heard {
		text := strings.TrimSpace(string(withoutEcho(plain([]byte(h.Text)), h.Sent)))
		if h.Speed != l.Speed || h.Sent == "" || text == "" || h.Readable < 0.95 {
			continue
		}
		rest, ends := strings.CutSuffix(text, end)
		if !ends {
			return nil
		}
		before[strings.TrimSpace(rest)] = true
	}
	if end != "" && len(before) > 1 {
		p.result.Final = end
		p.because("answers with other lines before all end with %s", oneLine(end))
	}
	return nil
}

// interrupt says the text that stops a module while it starts, again and again, until the
// same prompt stands there twice. Then it is asked as any other.
func (p *Probe) interrupt(ctx context.Context, l uart.Line, came []byte) error {
	stood := ""
	for until := time.Now().Add(interruptTime); time.Now().Before(until); {
		got, err := p.ask(ctx, l, p.Break)
		if err != nil {
			return err
		}
		came = append(came, got...)
		prompt := lastPart(came)
		if prompt != "" && prompt == stood && readable(came[max(0, len(came)-len(prompt)):]) == 1 {
			p.note(l, p.Break, came)
			p.because("it stopped as it started, and shows %s", oneLine(prompt))
			return nil
		}
		stood = prompt
	}
	p.because("nothing stopped it within %v", interruptTime)
	return nil
}

// interruptTime is how long a module may start.
const interruptTime = 30 * time.Second

func (p *Probe) because(format string, args ...any) {
	p.result.Why = append(p.result.Why, fmt.Sprintf(format, args...))
}

// lost says what was heard where no setting was found, and what that points to.
func (p *Probe) lost(unasked bool, echoes, noises int) {
	r := &p.result
	point := func(s string) { r.Points = append(r.Points, s) }
	unfit := func() {
		point("Another logic level: RS-232 against TTL turns every bit round; look for a level converter.")
		point("A speed that is not on the list; give it with --speeds.")
	}
	switch {
	case echoes > 0 && noises == 0:
		r.Kind = Echo
		p.because("exactly what was sent came back each time, and nothing else")
		point("TX and RX are joined: a loopback plug, or both wires on one pin. Your own side works.")
		point("A module that repeats every key but answers nothing wants another line ending, or something else to be said first.")
	case noises > 0 && p.NoLine:
		r.Kind = Noise
		p.because("something came, and it is not readable as text")
		point("The speed or the frame at the serial side: set them at the server, or use rfc2217:// where it speaks that.")
		point("A protocol of bytes, not of lines.")
	case noises > 0:
		r.Kind = Noise
		if c, err := port.CountersOf(p.Port); err == nil && c.Any() {
			p.because("the port has counted %v", c)
		}
		p.because("something came at %d of the settings tried, readable at none", noises)
		unfit()
		point("A missing common ground between module and adapter.")
	case unasked:
		r.Kind = Burst
		p.because("something came before anything was sent, and nothing after")
		point("A module that has just started: wait for its banner, then probe again.")
		point("It sends but does not hear: its RX is not joined to the adapter's TX.")
		if len(r.Heard) > 0 && r.Heard[0].Readable < 0.9 && !p.NoLine {
			unfit() // what came could not be read
		}
	case p.NoLine:
		r.Kind = Silence
		p.because("the connection stands, and nothing came")
		point("What is behind it: it may be another service, or wait for another line than these; give it with --wake.")
		point("Where a server stands between, its serial side: speed, frame, wires and power of the module.")
	default:
		r.Kind = Silence
		p.because("nothing came at any speed")
		point("Supply: is the module powered, and does its ground meet the adapter's?")
		point("Wires: TX goes to RX and RX to TX. Swap the two and probe again.")
		point("An enable, boot or reset pin that holds it back.")
		point("Your own side: uparrot loopback proves it.")
	}
}
