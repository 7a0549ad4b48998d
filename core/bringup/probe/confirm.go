package probe

import (
	"bytes"
	"cmp"
	"context"
	"slices"
	"strings"

	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/text"
	"uparrot/core/uart"
)

// likely reports whether an answer is worth a second question.
func (p *Probe) likely(l uart.Line, sent string, got []byte) bool {
	told, _ := unframed(got)
	told = withoutEcho(plain(told), sent)
	return (len(bytes.TrimSpace(told)) >= 2 || asNumber(sent, got)) && readable(told) >= 0.9
}

// confirm asks again at a setting that has given a readable answer, finds the
// frame and the line ending, and says how sure all of it is.
func (p *Probe) confirm(ctx context.Context, l uart.Line, wake string) (bool, error) {
	by, send := wake, p.asked(wake)
	counted := p.badFrames()
	usual := p.rest
	p.rest = max(longRest, usual)
	p.from = len(p.result.Heard)
	patience := p.patience
	p.patience = max(patience, 2*answerTime) // what is not answered in time here is a false ending
	defer func() { p.rest, p.patience = usual, patience }()
	l, got, err := p.answered(ctx, l, send)
	if err != nil || got == nil {
		return false, err
	}
	wake, ending, again, err := p.wakeAndEnding(ctx, l, wake)
	if err != nil {
		return false, err
	}
	if again != nil {
		got, send = again, wake
	}
	told := string(p.own(got, send))
	r := &p.result
	r.Kind, r.Speed, r.Frame, r.Ending = Found, l.Speed, l.Frame, ending
	r.Dialect = phrasebook.Lines
	prompt := cmp.Or(lastPart(got), lastPart(p.own(got, send)))
	result := isResult(lastLine(told), wake, got) && !bytes.Contains(p.came, []byte(lastLine(told)))
	if result && refuses(lastLine(told)) { // other families say ERROR too: the standard wants OK to AT alone
		at, err := p.ask(ctx, l, "AT"+ending.Bytes())
		if err != nil {
			return false, err
		}
		p.note(l, "AT"+ending.Bytes(), at)
		if answer := lastLine(string(p.own(at, "AT"))); !isResult(answer, "AT", at) || refuses(answer) {
			result = false
			p.because("it refuses AT alone, with %s: no module of ITU-T V.250 does", oneLine(answer))
		}
	}
	switch {
	case prompt != "":
		p.because("the answer ends with %s and no line end, as a prompt does", oneLine(prompt))
	case result:
		r.Dialect = phrasebook.AT
		p.because("the answer ends with a final result as ITU-T V.250 has it: %s", oneLine(lastLine(told)))
	case strings.Contains(told, strings.TrimSpace(wake)) && wake != "":
		p.because("the answer takes up what was sent")
	}
	p.because("%.0f %% of the answer is readable text: %s", 100*readable([]byte(told)), oneLine(told))
	if prompt == "" && r.Dialect == phrasebook.Lines {
		if err := p.final(ctx, l, wake, lastLine(told)); err != nil {
			return true, err
		}
	}
	talks, err := p.certainty(ctx, l, wake, got, prompt)
	if err == nil && !talks && r.Sure && wake == "" {
		if l, err = p.parityOf(ctx, l); err != nil {
			return true, err
		}
	}
	if n := p.badFrames() - counted; n > 0 { // most can be read of a parity bit that is taken for a stop bit
		r.Sure = false
		p.because("the port has counted %s of frame or parity at %s: another frame is likely", text.Count(n, "error"), l)
	}
	if err == nil && talks && !p.unasked { // that it speaks by itself was not known: all came out of that, perhaps
		p.unasked = true
		r.Kind, r.Why, r.Prompt, r.Final = "", []string{}, "", ""
		return p.confirm(ctx, l, by)
	}
	return true, err
}

// parityOf looks whether a module that has answered Enter alone has a parity bit beside eight: CR has three
// ones, so with 8N1 its stop bit passes for an even parity bit, and what comes can be read either way. Words
// have both sorts of bytes: of a word that the module repeats, or complains of, some are missing with the
// wrong frame. It returns the line with its frame.
func (p *Probe) parityOf(ctx context.Context, l uart.Line) (uart.Line, error) {
	r := &p.result
	i := slices.IndexFunc(p.Wake, func(w string) bool { return strings.TrimSpace(w) != "" })
	if p.NoLine || i < 0 || l.Frame.Filled() != (uart.Frame{}).Filled() {
		return l, nil
	}
	word := strings.TrimSpace(p.Wake[i])
	takes := func(at uart.Line) (bool, error) {
		got, err := p.ask(ctx, at, word+r.Ending.Bytes())
		p.note(at, word, got)
		return bytes.Contains(plain(got), []byte(word)), err
	}
	whole, err := takes(l)
	if whole || err != nil {
		return l, err
	}
	for _, parity := range []uart.Parity{uart.Even, uart.Odd} {
		other := uart.Line{Speed: l.Speed, Frame: uart.Frame{DataBits: 8, Parity: parity, Stop: 2}}
		if can, err := p.set(other); !can || err != nil {
			return l, err
		}
		whole, err := takes(other)
		if err != nil {
			return l, err
		}
		if whole {
			r.Frame = other.Frame
			p.because("with %s it takes up the whole of %s, and with 8N1 it did not", other.Frame, word)
			return other, nil
		}
	}
	_, err = p.set(l)
	p.parity = true // that the port has counted no errors proves nothing: many adapters count none
	p.because("whether there is a parity bit beside eight cannot be told: it answers Enter alone, and takes up no word")
	return l, err
}

// badFrames is how many errors of frame and parity the port has counted; 0 where it counts none.
func (p *Probe) badFrames() int {
	c, err := port.CountersOf(p.Port)
	if err != nil {
		return 0
	}
	return int(c.Frame + c.Parity)
}

// answered asks again, and finds the frame and what the module sends by itself. It returns
// the line with its frame and what came; nil if that is no answer.
func (p *Probe) answered(ctx context.Context, l uart.Line, send string) (uart.Line, []byte, error) {
	late, err := p.gather(ctx, l, p.rest) // of the answer before
	if err != nil {
		return l, nil, err
	}
	if len(late) > 0 {
		p.note(l, "", late)
	}
	got, err := p.ask(ctx, l, send)
	if err != nil {
		return l, nil, err
	}
	p.note(l, send, got)
	if !p.likely(l, send, got) {
		return l, nil, nil
	}
	if l, got, err = p.framed(ctx, l, send, got); err != nil || got == nil {
		return l, nil, err
	}
	alone, err := p.notices(ctx, l)
	if err == nil && len(bytes.TrimSpace(p.own(got, send))) == 0 { // it may answer other words
		p.alone, got = alone, nil
	}
	return l, got, err
}

// notices listens, where something came unasked or the same was answered otherwise, until
// it is known what the module sends by itself. It returns what came then.
func (p *Probe) notices(ctx context.Context, l uart.Line) ([]byte, error) {
	answers := map[string]string{}
	other := p.unasked
	for _, h := range p.result.Heard {
		if h.Line() != l && h.Frame != (uart.Frame{}) || h.Text == "" {
			continue
		}
		if before, asked := answers[h.Sent]; asked && shape(before) != shape(h.Text) {
			other = true
		}
		answers[h.Sent] = h.Text
	}
	if !other {
		return nil, nil
	}
	came, err := p.listenFor(ctx, l, listenLong)
	if err != nil {
		return nil, err
	}
	p.note(l, "", came)
	p.shapes, p.result.Notices, p.came = map[string]bool{}, nil, append(p.came, came...)
	for _, line := range strings.FieldsFunc(string(plain(came)), func(r rune) bool { return r == '\r' || r == '\n' }) {
		if s := shape(line); len(s) > 3 && readable([]byte(line)) == 1 && len(p.shapes) < mostNotices && !p.shapes[s] {
			p.shapes[s] = true
			p.result.Notices = append(p.result.Notices, s)
		}
	}
	return came, nil
}

// mostNotices is how many lines that a module sends by itself are told apart.
const mostNotices = 8

// framed finds the frame by what came, and asks again with it. It returns the line with its
// frame and what came then; nil if that cannot be read.
func (p *Probe) framed(ctx context.Context, l uart.Line, send string, got []byte) (uart.Line, []byte, error) {
	_, seen := unframed(got)
	switch {
	case p.NoLine:
		return l, got, nil
	case seen.DataBits == 0 && l.Frame.Filled() == (uart.Frame{}).Filled():
		l.Frame = uart.Frame{DataBits: 8, Parity: uart.None, Stop: 2}
		return l, got, nil
	case seen.DataBits == 0:
		p.because("with %s it answers, "+notUsual, l.Frame)
		return l, got, nil
	}
	l.Frame = seen
	if err := p.Port.SetLine(l); err != nil {
		return l, nil, err
	}
	got, err := p.ask(ctx, l, send)
	if err != nil {
		return l, nil, err
	}
	p.note(l, send, got)
	if readable(got) < 0.95 {
		return l, nil, nil
	}
	what := map[uart.Parity]string{uart.Even: "the even parity of the other seven", uart.Odd: "the odd parity of the other seven", uart.None: "set, as a second stop bit is"}[seen.Parity]
	p.because("the eighth bit of every byte was %s; with %s the answer is plain", what, seen)
	return l, got, nil
}

// wakeAndEnding finds the line ending. What answered Enter may have been the LF of the line
// before: then other words tell, and got is what they were answered.
func (p *Probe) wakeAndEnding(ctx context.Context, l uart.Line, wake string) (by string, ending phrasebook.Ending, got []byte, err error) {
	if ending, err = p.ending(ctx, l, wake); err != nil || wake != "" || ending != phrasebook.CRLF {
		return wake, ending, nil, err
	}
	for _, other := range p.Wake {
		if other == "" {
			continue
		}
		with, err := p.ending(ctx, l, other)
		if err != nil {
			return wake, ending, nil, err
		}
		if with == phrasebook.CRLF {
			continue
		}
		p.result.Why = slices.DeleteFunc(p.result.Why, func(why string) bool { return strings.HasPrefix(why, answersLine) && strings.Contains(why, "CR LF") })
		got, err = p.ask(ctx, l, other+with.Bytes())
		return other, with, got, err
	}
	return wake, ending, nil, nil
}

// certainty asks once more, with exactly what was found, and listens before that for as
// long without asking: whoever talks by itself has not answered. got is the answer that
// is to be compared, prompt what it ended with.
func (p *Probe) certainty(ctx context.Context, l uart.Line, wake string, got []byte, prompt string) (talks bool, err error) {
	r := &p.result
	send := wake + r.Ending.Bytes()
	listen := l.Time(len(send)+8) + p.patience
	if r.Dialect == phrasebook.Lines && (wake == "" || !bytes.Contains(got, []byte(wake))) { // what only talks may keep in step
		listen = max(listen, listenLong)
	}
	unasked, err := p.listenFor(ctx, l, listen)
	if err != nil {
		return false, err
	}
	p.note(l, "", unasked)
	again, err := p.ask(ctx, l, send)
	if err != nil {
		return false, err
	}
	p.note(l, send, again)
	if came := bytes.ReplaceAll(unasked, []byte(prompt), nil); len(bytes.TrimSpace(came)) == 0 && len(came) < len(unasked) {
		prompt = "" // it shows that by itself, with nothing before it
		r.Dialect, r.Prompt = phrasebook.Lines, ""
	}
	if prompt != "" && (lastPart(again) == prompt || lastPart(p.own(again, wake)) == prompt) {
		r.Dialect, r.Prompt = phrasebook.Console, prompt
	}
	once, twice, alone := p.own(got, wake), p.own(again, wake), p.own(unasked, "")
	if end := lastLine(string(once)); prompt == "" && end != "" && bytes.Contains(p.came, []byte(end)) {
		unasked, alone = p.came, p.came // it came just so where nothing was asked
	}
	both := func(what string) bool { // and not what it sends by itself
		return what != "" && bytes.Contains(once, []byte(what)) && bytes.Contains(twice, []byte(what)) && !bytes.Contains(alone, []byte(what))
	}
	takesUp := both(wake) || both("OK")
	same := len(bytes.TrimSpace(twice)) > 0 && readable(plain(again)) >= 0.95
	long := len(bytes.TrimSpace(once)) >= 2 && bytes.ContainsAny(got, "\r\n") || asNumber(wake, got) || asksOn(r.Prompt)
	r.Sure = same && (len(alone) == 0 || takesUp) && readable(once) >= 0.95 && long
	talks = len(alone) > 0 && !takesUp
	switch by := oneLine(string(plain(unasked))); {
	case len(p.shapes) > 0 && same && len(alone) == 0:
		p.because("it sends by itself too, such as %s: without that, it answered each time it was asked", oneLine(r.Notices[0]))
	case len(unasked) > 0 && takesUp:
		p.because("it sends by itself too, such as %s, but each answer takes up what was asked", by)
	case len(unasked) > 0:
		p.noAnswer()
		p.because("it sends by itself: %s came although nothing was asked, so what came when it was asked need not be an answer", by)
	case same:
		p.because("asked once more with this setting it answered once more, and between nothing came")
	default:
		p.noAnswer()
		p.because("asked once more it answered nothing that can be read, so what came before need not be an answer")
	}
	return talks, nil
}

// noAnswer takes back that what came is an answer to a line.
func (p *Probe) noAnswer() {
	r := &p.result
	r.Ending = phrasebook.EndingNotSaid
	r.Why = slices.DeleteFunc(r.Why, func(why string) bool { return strings.HasPrefix(why, answersLine) || strings.HasSuffix(why, notUsual) })
}

// notUsual ends what speaks for another frame.
const notUsual = "and with 8N1 it did not"

// asksOn reports whether a prompt ends with a mark that prompts end with.
func asksOn(prompt string) bool {
	return prompt != "" && strings.ContainsRune(">#$%:?]})~*", rune(prompt[len(prompt)-1]))
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
	usual := p.patience
	defer func() { p.patience = usual }()
	for i, name := range []phrasebook.Ending{phrasebook.CR, phrasebook.LF, phrasebook.CR, phrasebook.LF} {
		if i == 2 { // a machine that was busy for a moment must not make it CR LF
			p.patience = 3 * usual
		}
		answers := 0
		for answers < endingTries { // one may be what it sends by itself
			got, err := p.ask(ctx, l, wake+name.Bytes())
			if err != nil {
				return 0, err
			}
			p.note(l, wake+name.Bytes(), got)
			if text := p.own(got, wake); len(bytes.TrimSpace(text)) == 0 {
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
	for _, h := range p.result.Heard[min(p.from, len(p.result.Heard)):] {
		text := strings.TrimSpace(string(p.own([]byte(h.Text), h.Sent)))
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
