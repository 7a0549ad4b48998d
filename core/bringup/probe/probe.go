// Package probe finds out how an unknown module is set: speed, frame and line
// ending. It sends only what it is allowed to and judges what comes back by how
// readable it is.
package probe

import (
	"context"
	"fmt"
	"slices"
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
	longRest   = 250 * time.Millisecond // once the setting is known
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
	Prompt  string             `json:"prompt,omitempty"`  // of a console
	Final   string             `json:"final,omitempty"`   // the line of its own that ends each answer
	Notices []string           `json:"notices,omitempty"` // what it sends by itself, as heard text
	Verdict verdict.Verdict    `json:"verdict"`           // passed if a setting was found
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
	Speed    int        `json:"speed"`
	Frame    uart.Frame `json:"frame"`
	Sent     string     `json:"sent"` // "" if only listened
	Text     string     `json:"text"`
	Readable float64    `json:"readable"` // share, 0 to 1
}

// Trying is the setting that is tried now, one of so many of a pass.
type Trying struct {
	Line    uart.Line
	Nth, Of int
}

// Line is the setting at which it was heard; the zero value of a port without a line.
func (h Heard) Line() uart.Line { return uart.Line{Speed: h.Speed, Frame: h.Frame} }

// Probe probes one port. The port is left set as it was found to be right, or as
// it was last tried.
type Probe struct {
	Port   port.Port
	Wake   []string       // texts that may be sent; nil means the package's Wake
	Speeds []int          // speeds to try; nil means the package's Speeds
	NoLine bool           // the port has no serial line of its own: there are no speeds and frames
	Within time.Duration  // how long an answer may take to begin; 0 means the package's own
	Break  string         // said while a module starts, so that it stops at its prompt; "" says nothing
	Events *record.Stream // told of each setting that is tried, a Trying, of what came, a Heard, and, sealed, of the result; nil tells nobody

	chunks   *port.Chunks
	result   Result
	patience time.Duration   // how long an answer may take to begin
	rest     time.Duration   // how long the line must be quiet for it to be over
	strict   string          // what ends lines, where a CR before and behind them may be taken for part of them; "" is the usual way
	from     int             // where in what was heard the setting was found
	alone    []byte          // what came unasked at the setting that is tried, where nothing else did
	came     []byte          // what came while nothing was asked, where it was listened for
	shapes   map[string]bool // of lines that it sends by itself

	first   []string // what is known before anything is sent
	unasked bool     // something came before anything was sent
	// parity is that nothing tells whether there is a parity bit beside eight; another frame would do no better.
	parity         bool
	echoes, noises int
	echoed         []uart.Line // where exactly what was sent came back
	tried          map[uart.Line]bool
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
	p.tried = map[uart.Line]bool{}
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
			rest := max(p.rest, l.Time(8))
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
	h := Heard{l.Speed, l.Frame, sent, string(got), readable(plain(got))}
	p.result.Heard = append(p.result.Heard, h)
	p.Events.Emit(record.Event{Kind: record.Progress, Live: h})
}

// search goes over the speeds, over the frames where something came, over the commonest
// speeds once more, with more patience and with parity, and listens at last.
func (p *Probe) search(ctx context.Context) error {
	p.rest = max(restTime, p.Within/2) // a slow module is slow within its answers, too
	if p.patience = answerTime; p.Within > 0 {
		p.patience = p.Within
	}
	usual := p.patience
	found, err := p.pass(ctx, p.lines(p.Speeds, uart.Frame{}), true)
	if !found && err == nil && p.echoes == 0 && !p.NoLine {
		found, err = p.readUnasked(ctx)
	}
	if !found && err == nil && p.echoes == 0 && !p.NoLine {
		found, err = p.pass(ctx, p.hinted(), false)
	}
	if !found && err == nil && p.echoes == 0 {
		if p.patience = 2 * usual; p.NoLine {
			p.patience = 8 * usual // a network may be slow, and this is the only setting
		}
		if p.noises == 0 { // how a module takes its lines is the matter only where it says nothing
			p.strict = "\r\n"
		}
		found, err = p.pass(ctx, p.lines(p.Speeds[:min(again, len(p.Speeds))], uart.Frame{}), false)
	}
	p.patience = usual
	if !found && err == nil && p.echoes+p.noises == 0 {
		p.strict = "\n"
		found, err = p.pass(ctx, p.lines(p.Speeds[:min(againFrames, len(p.Speeds))], uart.Frame{}), false)
	}
	if !found {
		p.strict = ""
	}
	if !found && err == nil && p.echoes == 0 && !p.NoLine {
		var parities []uart.Line
		for _, parity := range []uart.Parity{uart.Even, uart.Odd} {
			parities = append(parities, p.lines(p.Speeds[:min(againFrames, len(p.Speeds))], uart.Frame{DataBits: 8, Parity: parity, Stop: 2})...)
		}
		parities = slices.DeleteFunc(parities, func(l uart.Line) bool { return p.tried[l] }) // where something came
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

// againFrames is how many of the speeds are tried with LF alone and with a parity bit beside
// eight, where nothing at all came: a module may throw away all that comes without.
const againFrames = 5

// lines are speeds with a frame.
func (p *Probe) lines(speeds []int, f uart.Frame) []uart.Line {
	var all []uart.Line
	for _, s := range speeds {
		all = append(all, uart.Line{Speed: s, Frame: f})
	}
	return all
}

// asked is what is sent for a text that may be sent. A module that ends its lines at CR has
// kept the LF of whatever was sent before: a CR of its own takes that away. A module that is
// strict takes that CR for a part of the line.
func (p *Probe) asked(wake string) string {
	if p.strict != "" {
		return p.strict + wake + p.strict
	}
	return "\r" + wake + "\r\n"
}

// set sets the port to a line. It reports whether the port can do that.
func (p *Probe) set(l uart.Line) (can bool, err error) {
	if p.NoLine {
		return true, nil
	}
	err = p.Port.SetLine(l)
	if kind := port.KindOf(err); err == nil || kind == port.Vanished || kind == port.Closed {
		return err == nil, err
	}
	return false, nil
}

// unaskedFor listens before anything is sent.
func (p *Probe) unaskedFor(ctx context.Context, l uart.Line) error {
	got, err := p.gather(ctx, l, listenTime)
	if err != nil {
		return err
	}
	p.note(l, "", got)
	p.unasked = len(got) > 0
	if p.Break != "" {
		if err := p.interrupt(ctx, l, got); err != nil {
			return err
		}
	}
	if noise, banner := banner(got); banner != "" && noise > 0 {
		p.because("before anything was sent came %d unreadable bytes, as a boot loader sends them, then a banner: %s", noise, oneLine(banner))
	} else if banner != "" {
		p.because("before anything was sent came %s", oneLine(banner))
	}
	p.first = slices.Clone(p.result.Why)
	return nil
}

// pass asks at each speed, after listening once.
func (p *Probe) pass(ctx context.Context, lines []uart.Line, first bool) (bool, error) {
	for i, l := range lines {
		if p.NoLine {
			l = uart.Line{}
		}
		can, err := p.set(l)
		if err != nil {
			return false, err
		}
		if !can {
			continue // this port cannot do that speed
		}
		p.tried[l] = true
		p.Events.Emit(record.Event{Kind: record.Progress, Live: Trying{l, i + 1, len(lines)}})
		if !first { // what came at the speed before says nothing about this one
			if err := p.Port.Purge(); err != nil {
				return false, err
			}
			p.forget()
		} else if i == 0 {
			if err := p.unaskedFor(ctx, l); err != nil {
				return false, err
			}
		}
		for _, w := range p.Wake {
			if found, err := p.tryAt(ctx, l, w); found || err != nil {
				return found, err
			}
		}
		if alone := p.alone; alone != nil {
			p.alone = nil
			if found, err := p.speaker(l, alone); found || err != nil {
				return found, err
			}
		}
		if p.echoes >= 2*len(p.Wake) && p.echoed[0].Speed != l.Speed {
			break // at two speeds exactly what was sent: no module is that quick to change
		}
	}
	return false, nil
}

// tryAt asks with one text, and confirms what may be an answer.
func (p *Probe) tryAt(ctx context.Context, l uart.Line, w string) (bool, error) {
	send := p.asked(w)
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
		if found && p.parity {
			p.result.Sure = false
			return true, err
		}
		usual := p.result.Frame.Filled() == (uart.Frame{}).Filled()
		if found && err == nil && (!p.result.Sure || p.doubtful(l)) && usual && l.Frame.DataBits == 0 && !p.NoLine {
			return true, p.surer(ctx, l)
		}
		if found || err != nil {
			return found, err
		}
		p.noises++
	default:
		p.noises++
	}
	return false, nil
}

func (p *Probe) because(format string, args ...any) {
	p.result.Why = append(p.result.Why, fmt.Sprintf(format, args...))
}
