package speak

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/port"
	"uparrot/core/session"
	"uparrot/core/talk"
	"uparrot/core/text"
)

// talkPlain speaks without a view, so that talk works in a pipe.
func (c *talkCommand) talkPlain(ctx context.Context, talkers []*talk.Talker) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	all := &printers{talkCommand: c, cancel: cancel}
	var err error
	for i, t := range talkers {
		p := &printer{printers: all}
		if len(talkers) > 1 {
			p.name = t.Station.Name + " "
		}
		all.list = append(all.list, p)
		t.Tell, t.Pages = p.tell, true
		if err = t.Open(ctx); err != nil {
			talkers = talkers[:i]
			break
		}
		if gap := c.gapOf(t); gap > 0 {
			p.packets(gap)
		}
	}
	if err == nil {
		err = c.sayPlain(ctx, cancel, talkers)
	}
	for _, t := range talkers {
		err = errors.Join(err, t.Close())
	}
	all.rest()
	if err != nil {
		return err
	}
	lapses := 0
	for _, t := range talkers {
		lapses += t.Lapses()
	}
	if lapses > 0 {
		c.Err.Line("uparrot: %s got no answer", text.Count(lapses, "line"))
		return shell.QuietError{Status: shell.ExitFailed}
	}
	return nil
}

// sayPlain says what comes from stdin until that, the time or what is waited for ends it.
func (c *talkCommand) sayPlain(ctx context.Context, cancel context.CancelCauseFunc, talkers []*talk.Talker) error {
	if c.lasts > 0 {
		timer := time.AfterFunc(c.lasts, func() { cancel(errEnough) })
		defer timer.Stop()
	}
	err := c.sayAll(ctx, talkers, linesOf(ctx, c.In))
	switch {
	case errors.Is(err, errSeen), errors.Is(err, errEnough) && c.until == nil:
		err = nil
	case errors.Is(err, errEnough):
		c.Err.Line("uparrot: no line like %s came within %v", shell.Safe(c.untilText), c.lasts)
		err = shell.QuietError{Status: shell.ExitFailed}
	}
	return err
}

// printers print what is said and heard at several ports, one line at a time.
type printers struct {
	*talkCommand
	cancel context.CancelCauseFunc
	list   []*printer

	mu  sync.Mutex
	day string
}

// printer prints what is said and heard at one port.
type printer struct {
	*printers
	name  string // before each line, where there are several ports
	log   talk.Log
	shown int
	over  *time.Timer // until a packet is over; nil where there are lines
	stand *time.Timer // until what is waited for has stood there long enough, where it has no line end
}

// standing is how long nothing must follow what is waited for, where it has no line end, as a prompt.
const standing = 300 * time.Millisecond

// await ends the conversation once a line without its end, which is what is waited for, has stood there.
func (p *printer) await(l talk.Row) {
	if p.until == nil || l.Kind != talk.Heard {
		return
	}
	if _, seen := p.until.Match([]byte(strings.TrimSpace(text.Shown(l.Bytes)))); seen {
		p.stand = time.AfterFunc(standing, func() { p.cancel(errSeen) })
	}
}

// packets has bytes printed in packets, in hexadecimal with text beside.
func (p *printer) packets(gap time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.log.Gap = gap
	p.over = time.AfterFunc(gap, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.upTo(len(p.log.Lines))
	})
}

// upTo prints what stands before a place in the log, as far as it is whole, and ends the
// conversation when what is waited for is among it.
func (p *printer) upTo(n int) {
	for ; p.shown < p.log.Gone+n; p.shown++ {
		l := p.log.Lines[p.shown-p.log.Gone]
		if l.Open {
			p.await(l)
			return
		}
		rows, seen := p.rows(l)
		for _, row := range rows {
			p.print(l, row)
		}
		if seen && l.Kind == talk.Heard {
			p.cancel(errSeen)
		}
	}
}

// rows is how a line or a packet is printed, and whether what is waited for is in it.
func (p *printer) rows(l talk.Row) (rows []string, seen bool) {
	if p.over != nil && l.Kind != talk.Note {
		if p.until != nil {
			start, _, _, _ := p.until.Find(l.Bytes)
			seen = start >= 0
		}
		return talk.AsBoth.Rows(l), seen
	}
	words := text.Shown(l.Bytes)
	if len(l.Bytes) == 0 || words == "" && l.Kind == talk.Heard {
		return nil, false
	}
	if p.until != nil {
		_, seen = p.until.Match([]byte(words))
	}
	return []string{words}, seen
}

// tell prints what is whole, and ends the conversation when the port has gone.
func (p *printer) tell(e talk.Event) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.log.Add(e.Time, e.Kind, e.Bytes)
	if p.stand != nil {
		p.stand.Stop()
	}
	if p.over == nil {
		p.upTo(len(p.log.Lines))
	} else {
		p.upTo(max(0, len(p.log.Lines)-1)) // the last may go on
		p.over.Reset(p.log.Gap)
	}
	if e.Err != nil && !p.reopen {
		p.cancel(e.Err)
	}
}

// print prints a line, and the day where that is another than of the line before.
func (p *printer) print(l talk.Row, words string) {
	if day := l.Time.Format(time.DateOnly); p.day != day {
		if p.day != "" {
			fmt.Fprintf(p.Out, "# %s\n", day)
		}
		p.day = day
	}
	fmt.Fprintf(p.Out, "%s%s%s %s\n", talk.Clock.Stamp(l, nil), p.name, [...]string{"<", ">", "#"}[l.Kind], words)
}

// rest prints lines without their ends, such as prompts, which are worth showing too.
func (p *printers) rest() {
	for _, one := range p.list {
		if one.over != nil {
			one.over.Stop()
			one.mu.Lock()
			one.upTo(len(one.log.Lines))
			one.mu.Unlock()
			continue
		}
		if n := len(one.log.Lines); n > 0 && one.log.Lines[n-1].Open {
			one.print(one.log.Lines[n-1], text.Shown(one.log.Lines[n-1].Bytes))
		}
	}
}

// A line of an input, or why there are no more.
type line struct {
	text string
	err  error
}

// longestLine is how many bytes a line has at most that is said.
const longestLine = 1 << 20

// linesOf are the lines of an input, until ctx is done. What ends them before the input
// does comes last.
func linesOf(ctx context.Context, in io.Reader) <-chan line {
	lines := make(chan line)
	go func() {
		defer close(lines)
		send := func(l line) bool {
			select {
			case lines <- l:
				return true
			case <-ctx.Done():
				return false
			}
		}
		s := bufio.NewScanner(in)
		s.Buffer(nil, longestLine)
		for s.Scan() {
			if !send(line{text: s.Text()}) {
				return
			}
		}
		if err := s.Err(); err != nil {
			send(line{err: fmt.Errorf("read what is to be said: %w", err)})
		}
	}()
	return lines
}

// What ends a conversation without the view: the time asked for is over, or the
// line waited for has come.
var (
	errEnough = errors.New("the time is over")
	errSeen   = errors.New("the line has come")
)

// sayAll says lines, each after the answer to the one before, until there are no more; or
// it goes on listening until it is told to stop.
func (c *talkCommand) sayAll(ctx context.Context, talkers []*talk.Talker, lines <-chan line) error {
	for {
		select {
		case l, ok := <-lines:
			if !ok {
				if ctx.Err() != nil { // the lines ended because all has
					return context.Cause(ctx)
				}
				if c.lasts > 0 || c.until != nil {
					<-ctx.Done()
					return context.Cause(ctx)
				}
				return nil
			}
			if l.err != nil {
				return l.err
			}
			t, typed, err := addressed(talkers, l.text)
			if err != nil {
				return err
			}
			words, err := t.ParseAt(talk.Phrases(t.Station.Phrasebook), typed, c.secrets.Value)
			if err != nil {
				return &session.Misuse{What: err.Error()}
			}
			if err := t.Say(ctx, words); err != nil {
				return err
			}
			if _, err := t.Answered(ctx); err != nil && (ctx.Err() != nil || port.KindOf(err) != port.Other) {
				return err
			}
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// addressed is at which port a line is to be said: with several it begins with the name.
func addressed(talkers []*talk.Talker, line string) (*talk.Talker, string, error) {
	if len(talkers) == 1 {
		return talkers[0], line, nil
	}
	name, words, ok := strings.Cut(line, ":")
	for _, t := range talkers {
		if ok && t.Station.Name == strings.TrimSpace(name) {
			return t, strings.TrimPrefix(words, " "), nil
		}
	}
	return nil, "", &session.Misuse{What: fmt.Sprintf("%q does not say at which of the ports: wanted PORT: WORDS", line), Example: "echo 'valley: AT' | uparrot talk valley summit --bench larkfell.toml"}
}
